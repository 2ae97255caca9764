package dripledger.engine.circuit;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.row.ColumnType.Kind;
import java.util.List;

/**
 * Makes one group of two: adds what is kept of the one to what is kept of the other. Only of calls
 * that have generated code and whose rows are never taken out ({@link AggregateCall#isAddedUp}).
 * Without state.
 */
final class GroupMerge {
  private final List<AggregateKernel.Slot> slots;

  GroupMerge(List<AggregateKernel.Slot> slots) {
    this.slots = slots;
  }

  /** Adds a group's state to another's, which is ready to be changed. */
  void add(long[] from, int fromAt, long[] to, int toAt) {
    to[toAt] += from[fromAt];
    for (AggregateKernel.Slot slot : slots) {
      add(slot.call(), from, fromAt + slot.word(), to, toAt + slot.word());
    }
  }

  private static void add(AggregateCall call, long[] from, int f, long[] to, int t) {
    switch (call.function()) {
      case COUNT -> to[t] += from[f];
      case MIN, MAX -> {
        boolean greatest = call.function() == AggregateCall.Function.MAX;
        boolean better = greatest ? from[f + 1] > to[t + 1] : from[f + 1] < to[t + 1];
        if (from[f] != 0 && (to[t] == 0 || better)) {
          to[t] = 1;
          to[t + 1] = from[f + 1];
        }
      }
      case SUM, AVG -> {
        boolean small =
            call.function() == AggregateCall.Function.SUM
                && call.output().type().kind() == Kind.BIGINT;
        long sum = to[t] + from[f];
        if (!small) {
          long carry = Long.compareUnsigned(sum, to[t]) < 0 ? 1 : 0;
          to[t + 1] += from[f + 1] + carry;
          to[t + 2] += from[f + 2];
        } else if (call.output().type().nullable()) {
          to[t + 1] += from[f + 1];
        }
        to[t] = sum;
      }
      default -> throw new IllegalStateException("cannot be added up: " + call.function());
    }
  }
}
