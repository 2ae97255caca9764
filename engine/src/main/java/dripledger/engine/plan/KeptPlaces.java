package dripledger.engine.plan;

import dripledger.engine.expr.WindowCall;

/**
 * Rows by their place in a partition.
 *
 * @param ranking how places are counted
 * @param after the last place that is left out
 * @param to the last place that is kept
 */
public record KeptPlaces(WindowCall.Function ranking, long after, long to) {
  /** Whether it is at most one row of a partition. */
  boolean isOne() {
    return ranking == WindowCall.Function.ROW_NUMBER && to - after <= 1;
  }
}
