package dripledger.engine.circuit;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.SortKey;
import dripledger.engine.store.Versions;
import java.util.List;

/**
 * MIN, MAX, ARG_MIN or ARG_MAX over an input that takes rows out: taking out the current extreme
 * finds the next one. For ARG_* a value is the order column and then the argument.
 *
 * <p>The result is 1 and the slot of the extreme, or where that is of variable length 1 and the
 * block it is the key of; 0 if there is none.
 */
final class OrderedValues extends GroupValues {
  private final int orderColumn; // of the input
  private final boolean greatest;
  private final int valueColumn; // of the values' keys
  private final boolean variable;

  OrderedValues(AggregateCall call, RowLayout input, int[] groups, Versions versions) {
    super(input, groups, columns(call), List.of(new SortKey(order(call), false, false)), versions);
    orderColumn = order(call);
    greatest =
        call.function() == AggregateCall.Function.MAX
            || call.function() == AggregateCall.Function.ARG_MAX;
    valueColumn = keys.layout().columns() - 1;
    variable = keys.layout().isVariable(valueColumn);
  }

  private static int order(AggregateCall call) {
    return call.arguments().get(call.arguments().size() > 1 ? 1 : 0);
  }

  private static List<Integer> columns(AggregateCall call) {
    int value = call.arguments().get(0);
    return order(call) == value ? List.of(value) : List.of(order(call), value);
  }

  @Override
  boolean isPlain() {
    return !variable;
  }

  @Override
  boolean skips(byte[] bytes, int row) {
    return input.isNull(bytes, row, orderColumn);
  }

  @Override
  void result(long[] state, int at) {
    long run = run(state, at);
    int block = greatest ? runs.last(run) : runs.first(run);
    state[at] = 0;
    state[at + 1] = 0;
    if (block < 0) {
      return;
    }
    if (variable) {
      state[at] = 1;
      state[at + 1] = block;
      return;
    }
    long[] page = store.page(block);
    int key = store.header(block) + 1;
    if (!keys.isVariable()) {
      if (!keys.isNull(page, key, valueColumn)) {
        state[at] = 1;
        state[at + 1] = page[key + keys.nullWords() + valueColumn];
      }
      return;
    }
    byte[] row = keys.row(page, key);
    if (!keys.layout().isNull(row, 0, valueColumn)) {
      state[at] = 1;
      state[at + 1] = keys.layout().slot(row, 0, valueColumn);
    }
  }

  @Override
  void write(long[] state, int at, RowWriter out, int column) {
    if (state[at] == 0) {
      out.setNull(column);
      return;
    }
    if (!variable) {
      out.setLong(column, state[at + 1]);
      return;
    }
    long[] words = new long[keys.words()];
    store.key((int) state[at + 1], words);
    out.copy(column, keys.layout(), keys.row(words, 0), 0, valueColumn);
  }
}
