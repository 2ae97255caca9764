package dripledger.engine.circuit;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.state.SortedRuns;
import dripledger.engine.state.StateFormatException;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.Arrays;

/**
 * MIN, MAX, ARG_MIN or ARG_MAX over an input that takes rows out: all values of the call, counted
 * ({@link ValueCounts}), and for each group a sorted run of them ({@link SortedRuns}), so that
 * taking out the current extreme finds the next one. For ARG_* a value is the order column and then
 * the argument.
 *
 * <p>A group's state is two words of result and the word of its run. The result is 1 and the slot
 * of the extreme, or where that is of variable length 1 and the block it is the key of; 0 if there
 * is none. The run is the writer's alone: it is not saved, but made again from the values.
 */
final class OrderedValues {
  static final int STATE_WORDS = 3;
  private static final int RUN = 2;

  private final RowLayout input;
  private final int groupColumns;
  private final int orderColumn; // of the input
  private final boolean greatest;
  private final ValueCounts values;
  private final GroupKeys keys;
  private final KeyedStore store;
  private final SortedRuns runs = new SortedRuns(this::compare);
  private final SortKey inputKey;
  private final SortKeyCodec tieCodec;
  private final int valueColumn; // of the values' keys
  private final boolean variable;

  private final SortKeyCodec.ByteSink left = new SortKeyCodec.ByteSink();
  private final SortKeyCodec.ByteSink right = new SortKeyCodec.ByteSink();

  OrderedValues(AggregateCall call, RowLayout input, int[] groups, Versions versions) {
    this.input = input;
    int value = call.arguments().get(0);
    orderColumn = call.arguments().size() > 1 ? call.arguments().get(1) : value;
    greatest =
        call.function() == AggregateCall.Function.MAX
            || call.function() == AggregateCall.Function.ARG_MAX;
    groupColumns = groups.length;
    int[] columns = Arrays.copyOf(groups, groupColumns + (orderColumn == value ? 1 : 2));
    columns[groupColumns] = orderColumn;
    columns[columns.length - 1] = value;
    values = new ValueCounts(input, columns, versions);
    keys = values.keys();
    store = values.store();
    inputKey = new SortKey(input, orderColumn);
    valueColumn = columns.length - 1;
    variable = keys.layout().isVariable(valueColumn);
    int[] ordered = new int[columns.length - groupColumns];
    Arrays.setAll(ordered, i -> groupColumns + i);
    tieCodec = new SortKeyCodec(keys.layout(), ordered);
  }

  /** Whether the result is one slot, which a row can be made of without asking here. */
  boolean isPlain() {
    return !variable;
  }

  ValueCounts values() {
    return values;
  }

  void add(int number, byte[] bytes, int row, long weight, long[] state, int at) {
    if (input.isNull(bytes, row, orderColumn)) {
      return;
    }
    ValueCounts.Change change = values.add(number, bytes, row, weight);
    if (change == ValueCounts.Change.CAME) {
      state[at + RUN] = runs.insert(state[at + RUN], inputKey.of(bytes, row), values.block());
    } else if (change == ValueCounts.Change.WENT) {
      state[at + RUN] = runs.remove(state[at + RUN], inputKey.of(bytes, row), values.block());
    }
  }

  /** Finds the extreme of a group and keeps it in the group's state. */
  void result(long[] state, int at) {
    long run = state[at + RUN];
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

  /** Refuses a group that ends although there are values of it. */
  static void refuseIfAny(long[] state, int at) {
    if (state[at + RUN] != 0) {
      throw new IllegalStateException("values were taken out more often than they were put in");
    }
  }

  /** Sets the result column from a group's state. Any thread. */
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

  /** Takes everything that was restored into the runs of the groups. */
  void restored(KeyedStore groups, GroupKeys groupKeys, int offset) {
    SortKey stored = new SortKey(keys.layout(), groupColumns);
    RowWriter group = new RowWriter(groupKeys.layout(), 64);
    long[] words = new long[groupKeys.words()];
    for (int block = 0; block < store.blockLimit(); block++) {
      if (!store.isLive(block)) {
        continue;
      }
      byte[] row = keys.row(store.page(block), store.header(block) + 1);
      group.truncate(0);
      group.begin();
      for (int k = 0; k < groupColumns; k++) {
        group.copy(k, keys.layout(), row, 0, k);
      }
      group.finish();
      int at = -1;
      if (groupKeys.encodeKey(group.bytes(), group.start(), words)) {
        at = groups.find(groups.hashOf(words, 0), words, 0);
      }
      if (at < 0) {
        throw new StateFormatException("saved values of a group that is not there");
      }
      long[] state = groups.page(at);
      int word = groups.state(at) + offset + RUN;
      state[word] = runs.insert(state[word], stored.of(row, 0), block);
    }
    for (int at = 0; at < groups.blockLimit(); at++) {
      if (groups.isLive(at)) {
        result(groups.page(at), groups.state(at) + offset);
      }
    }
  }

  private int compare(int block, int other) {
    encode(block, left);
    encode(other, right);
    return Bytes.compare(left.bytes(), 0, left.size(), right.bytes(), 0, right.size());
  }

  private void encode(int block, SortKeyCodec.ByteSink into) {
    into.clear();
    tieCodec.encode(keys.row(store.page(block), store.header(block) + 1), 0, into);
  }

  long heapBytes() {
    return values.heapBytes() + runs.heapBytes();
  }

  /**
   * A long that orders a column's values as far as it goes: all of a column of fixed size, the
   * first eight bytes of the order-preserving encoding of another.
   */
  private static final class SortKey {
    private final RowLayout layout;
    private final int column;
    private final boolean floating;
    private final SortKeyCodec codec; // of a column of variable length, or null
    private final int skip; // the byte that tells NULL, which is the same for all
    private final SortKeyCodec.ByteSink bytes = new SortKeyCodec.ByteSink();

    SortKey(RowLayout layout, int column) {
      this.layout = layout;
      this.column = column;
      floating = layout.schema().type(column).kind().isFloating();
      codec = layout.isVariable(column) ? new SortKeyCodec(layout, new int[] {column}) : null;
      skip = layout.schema().type(column).nullable() ? 1 : 0;
    }

    long of(byte[] row, int at) {
      if (codec == null) {
        long slot = layout.slot(row, at, column);
        return floating && slot < 0 ? slot ^ Long.MAX_VALUE : slot;
      }
      bytes.clear();
      codec.encode(row, at, bytes);
      long prefix = 0;
      for (int i = skip; i < skip + 8; i++) {
        prefix = prefix << 8 | (i < bytes.size() ? bytes.bytes()[i] & 0xFF : 0);
      }
      return prefix ^ Long.MIN_VALUE;
    }
  }
}
