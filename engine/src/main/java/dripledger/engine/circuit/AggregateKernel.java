package dripledger.engine.circuit;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.RowLayout;

/** Adds one row to a group's state. Generated; without state of its own. */
public abstract class AggregateKernel {
  /**
   * Adds a row {@code weight} times.
   *
   * @param at the word with the number of rows; those of the calls follow
   */
  public abstract void add(byte[] bytes, int row, long weight, long[] state, int at);

  static AggregateKernel of(
      PlanNode.Aggregate plan, RowLayout input, int firstState, boolean appendOnly) {
    return null;
  }
}
