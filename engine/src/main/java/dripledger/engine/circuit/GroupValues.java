package dripledger.engine.circuit;

import dripledger.engine.row.Bytes;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowOrder;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.SortKey;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.state.SortedRuns;
import dripledger.engine.state.StateFormatException;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * The values of an aggregate call whose answer must be looked for among all of them: counted
 * ({@link ValueCounts}), and for each group a sorted run of them ({@link SortedRuns}), in the order
 * of the call and then by all their columns.
 *
 * <p>A group's state is two words of result and the word of its run. The run is the writer's alone:
 * neither it nor the result is saved, but made again from the values.
 */
abstract class GroupValues {
  static final int STATE_WORDS = 3;
  private static final int RUN = 2;

  final RowLayout input;
  final ValueCounts values;
  final GroupKeys keys; // of the values: the group columns, then what a value is
  final KeyedStore store;
  final SortedRuns runs = new SortedRuns(this::compare);
  final int groupColumns;
  private final LeadingKey inputKey;
  private final LeadingKey storedKey;
  private final RowOrder order;
  private final SortKeyCodec.ByteSink left = new SortKeyCodec.ByteSink();
  private final SortKeyCodec.ByteSink right = new SortKeyCodec.ByteSink();

  /**
   * @param columns of the input that make a value
   * @param by their order, by columns of the input that are among them; at least one
   */
  GroupValues(
      RowLayout input, int[] groups, List<Integer> columns, List<SortKey> by, Versions versions) {
    this.input = input;
    groupColumns = groups.length;
    int[] all = Arrays.copyOf(groups, groupColumns + columns.size());
    for (int i = 0; i < columns.size(); i++) {
      all[groupColumns + i] = columns.get(i);
    }
    values = new ValueCounts(input, all, versions);
    keys = values.keys();
    store = values.store();
    List<SortKey> stored = new ArrayList<>();
    by.forEach(
        key ->
            stored.add(
                new SortKey(
                    groupColumns + columns.indexOf(key.column()),
                    key.descending(),
                    key.nullsFirst())));
    inputKey = new LeadingKey(input, by.get(0));
    storedKey = new LeadingKey(keys.layout(), stored.get(0));
    for (int c = groupColumns; c < all.length; c++) {
      int column = c;
      if (stored.stream().noneMatch(key -> key.column() == column)) {
        stored.add(new SortKey(c, false, false));
      }
    }
    order = new RowOrder(keys.layout(), stored);
  }

  /** Whether the result is one slot, which a row can be made of without asking here. */
  boolean isPlain() {
    return false;
  }

  /** Whether {@link #write} may throw for some state. */
  boolean canFail() {
    return false;
  }

  /** Whether a row has no value for the call. */
  abstract boolean skips(byte[] bytes, int row);

  /** Finds the result of a group and keeps it in the group's state. */
  abstract void result(long[] state, int at);

  /** Sets the result column from a group's state. Any thread. */
  abstract void write(long[] state, int at, RowWriter out, int column);

  final void add(int number, byte[] bytes, int row, long weight, long[] state, int at) {
    if (skips(bytes, row)) {
      return;
    }
    ValueCounts.Change change = values.add(number, bytes, row, weight);
    if (change == ValueCounts.Change.CAME) {
      state[at + RUN] = runs.insert(state[at + RUN], inputKey.of(bytes, row), values.block());
    } else if (change == ValueCounts.Change.WENT) {
      state[at + RUN] = runs.remove(state[at + RUN], inputKey.of(bytes, row), values.block());
    }
  }

  final long run(long[] state, int at) {
    return state[at + RUN];
  }

  /** Ends a group; refuses if there are values of it. */
  void end(long[] state, int at) {
    if (state[at + RUN] != 0) {
      throw new IllegalStateException("values were taken out more often than they were put in");
    }
  }

  /** Ends a group with all of its values, which are taken out elsewhere. */
  final void drop(long[] state, int at) {
    runs.drop(state[at + RUN]);
    state[at + RUN] = 0;
    end(state, at);
  }

  /** Takes everything that was restored into the runs of the groups. */
  final void restored(KeyedStore groups, GroupKeys groupKeys, int offset) {
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
      state[word] = runs.insert(state[word], storedKey.of(row, 0), block);
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
    order.encode(keys.row(store.page(block), store.header(block) + 1), 0, into);
  }

  final long heapBytes() {
    return values.heapBytes() + runs.heapBytes();
  }
}
