package dripledger.engine.advice;

import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.LateRows;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.plan.PlanNode;
import java.util.ArrayList;
import java.util.List;
import java.util.function.LongFunction;

/** What the steps of a view keep. Safe from any thread. */
public final class StepStates {
  private final PlanCut cut;
  private final LongFunction<QueryNode> steps;
  private final QueryNode own;

  /**
   * @param cut of the view's plan
   * @param steps those that views share, by their numbers
   * @param own the view's own node, or null
   */
  public StepStates(PlanCut cut, LongFunction<QueryNode> steps, QueryNode own) {
    this.cut = cut;
    this.steps = steps;
    this.own = own;
  }

  /** What a node of the plan has left out because it came too late, or null. */
  public LateRows late(PlanNode line) {
    Long step = cut.numbers().get(line);
    for (PlanCut.Step each : cut.steps()) {
      PlanNode node = step == null ? cut.keeping().get(line) : each.plan();
      LateRows late = steps.apply(each.id()).circuit().late().get(node);
      if (late != null && (step == null || step == each.id())) {
        return late;
      }
    }
    return own == null || step != null ? null : own.circuit().late().get(cut.keeping().get(line));
  }

  /** What a node of the plan keeps, or null. */
  public Circuit.State of(PlanNode line) {
    List<QueryNode> nodes = new ArrayList<>();
    cut.steps().forEach(step -> nodes.add(steps.apply(step.id())));
    Long step = cut.numbers().get(line);
    if (step != null) {
      QueryNode node = steps.apply(step);
      Circuit.State all = new Circuit.State(node.stateKeys(), node.stateBytes());
      for (PlanNode kept : cut.keeping().values()) { // those below it have lines of their own
        Circuit.State below = node.state(kept);
        if (below != null) {
          all = new Circuit.State(all.keys() - below.keys(), all.bytes() - below.bytes());
        }
      }
      return all;
    }
    PlanNode kept = cut.keeping().get(line);
    if (kept == null) {
      return null;
    }
    if (own != null) {
      nodes.add(own);
    }
    return nodes.stream()
        .map(node -> node.state(kept))
        .filter(found -> found != null)
        .findFirst()
        .orElse(null);
  }
}
