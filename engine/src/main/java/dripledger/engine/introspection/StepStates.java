package dripledger.engine.introspection;

import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.definition.Definitions;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.plan.PlanNode;
import java.util.ArrayList;
import java.util.List;

/** What the steps of a view keep. Safe from any thread. */
final class StepStates {
  private final Definitions definitions;
  private final PlanCut cut;
  private final long view;

  /**
   * @param cut of the view's plan
   */
  StepStates(Definitions definitions, PlanCut cut, long view) {
    this.definitions = definitions;
    this.cut = cut;
    this.view = view;
  }

  /** What a node of the plan keeps, or null. */
  Circuit.State of(PlanNode line) {
    List<QueryNode> nodes = new ArrayList<>();
    cut.steps().forEach(step -> nodes.add(definitions.steps().node(step.id())));
    Long step = cut.numbers().get(line);
    if (step != null) {
      QueryNode node = definitions.steps().node(step);
      Circuit.State all = new Circuit.State(node.stateKeys(), node.stateBytes());
      for (PlanNode join : cut.keeping().values()) { // those below it have lines of their own
        Circuit.State below = node.state(join);
        if (below != null) {
          all = new Circuit.State(all.keys() - below.keys(), all.bytes() - below.bytes());
        }
      }
      return all;
    }
    PlanNode join = cut.keeping().get(line);
    if (join == null) {
      return null;
    }
    if (definitions.node(view) instanceof QueryNode own) {
      nodes.add(own);
    }
    return nodes.stream()
        .map(node -> node.state(join))
        .filter(found -> found != null)
        .findFirst()
        .orElse(null);
  }
}
