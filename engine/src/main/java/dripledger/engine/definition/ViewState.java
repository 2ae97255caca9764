package dripledger.engine.definition;

import dripledger.engine.circuit.LateRows;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.Rejects;
import dripledger.engine.plan.PlanPrinter;
import java.util.ArrayList;
import java.util.List;

/**
 * What a materialized view keeps and fails on: of its own, and in the steps it is made of, which it
 * may share with others. Safe from any thread.
 */
public final class ViewState {
  private final List<QueryNode> parts;

  public ViewState(List<QueryNode> parts) {
    this.parts = List.copyOf(parts);
  }

  /** Heap of its operators' state, in bytes. */
  public long bytes() {
    return parts.stream().mapToLong(QueryNode::stateBytes).sum();
  }

  /** Keys its operators have state for. */
  public long keys() {
    return parts.stream().mapToLong(QueryNode::stateKeys).sum();
  }

  /** How many rows fail now. */
  public long rejects() {
    return parts.stream().mapToLong(p -> p.circuit().rejects().count()).sum();
  }

  /** How many rows its steps have left out because they came too late. */
  public long late() {
    return lateRows().stream().mapToLong(late -> late.rows.count()).sum();
  }

  /** What a step has left out because it came too late. */
  public record Late(String step, LateRows rows) {}

  /** What each of its steps has left out because it came too late. */
  public List<Late> lateRows() {
    List<Late> all = new ArrayList<>();
    for (QueryNode part : parts) {
      part.circuit().late().forEach((n, rows) -> all.add(new Late(PlanPrinter.step(n), rows)));
    }
    return all;
  }

  /** The rows that fail now, as far as they are kept. */
  public List<Rejects.Row> rejectedRows() {
    return parts.stream().flatMap(p -> p.circuit().rejects().rows().stream()).toList();
  }

  /** The reasons of these, each once. */
  public List<String> reasons() {
    return rejectedRows().stream().map(Rejects.Row::reason).distinct().toList();
  }
}
