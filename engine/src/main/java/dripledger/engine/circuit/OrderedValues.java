package dripledger.engine.circuit;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.state.BagBatch;
import dripledger.engine.state.Blobs;
import dripledger.engine.state.Durable;
import dripledger.engine.state.SortedBag;
import dripledger.engine.state.StateChunks;
import java.util.Arrays;

/**
 * All values of one MIN, MAX, ARG_MIN or ARG_MAX call, of all groups, in one ordered bag: group,
 * then value (for ARG_*: the order column, then the value). The extreme of a group is the first or
 * last entry under the group's prefix, so taking out the current extreme finds the next one in
 * O(log n). Changes of an epoch are gathered and applied at once, before the new rows are read.
 */
final class OrderedValues {
  /** What a group's state keeps: the place of the result. */
  static final int RESULT_WORDS = 1;

  private final RowLayout input;
  private final int valueColumn;
  private final int orderColumn;
  private final boolean greatest;
  private final SortKeyCodec rowCodec;
  private final SortKeyCodec groupCodec;
  private final RowLayout tailLayout;
  private final Page tail;
  private final SortKeyCodec.ByteSink key = new SortKeyCodec.ByteSink();
  private final BagBatch batch = new BagBatch();
  private SortedBag values = SortedBag.EMPTY;

  OrderedValues(AggregateCall call, RowLayout input, int[] groupColumns) {
    this.input = input;
    valueColumn = call.arguments().get(0);
    orderColumn = call.arguments().size() > 1 ? call.arguments().get(1) : valueColumn;
    greatest =
        call.function() == AggregateCall.Function.MAX
            || call.function() == AggregateCall.Function.ARG_MAX;
    int n = groupColumns.length;
    int[] columns = Arrays.copyOf(groupColumns, n + (orderColumn == valueColumn ? 1 : 2));
    columns[n] = orderColumn;
    if (orderColumn != valueColumn) {
      columns[n + 1] = valueColumn;
    }
    rowCodec = new SortKeyCodec(input, columns);
    int[] all = new int[groupColumns.length];
    Arrays.setAll(all, i -> i);
    groupCodec = new SortKeyCodec(new RowLayout(input.schema().project(groupColumns)), all);
    tailLayout = new RowLayout(input.schema().project(new int[] {valueColumn}));
    tail = new Page(tailLayout);
  }

  void add(byte[] bytes, int row, long weight) {
    if (input.isNull(bytes, row, orderColumn)) {
      return;
    }
    key.clear();
    rowCodec.encode(bytes, row, key);
    tail.clear();
    tail.begin().copy(0, input, bytes, row, valueColumn);
    tail.commit(1);
    batch.add(key.bytes(), 0, key.size(), tail.bytes(), 0, tail.byteSize(), weight);
  }

  void applyChanges() {
    values = values.apply(batch);
    batch.clear();
  }

  /**
   * Finds the extreme of a group and keeps it in the group's state: the value as a row of one
   * column among the blobs, or 0 if there is none.
   */
  void result(GroupKeys keys, long[] page, int groupKey, int at, Blobs blobs) {
    byte[] group = keys.row(page, groupKey);
    key.clear();
    groupCodec.encode(group, 0, key);
    SortedBag.Cursor cursor = values.cursor();
    boolean found = greatest ? seekLast(cursor) : cursor.seek(key.bytes(), 0, key.size());
    long old = page[at];
    if (!found || !cursor.startsWith(key.bytes(), 0, key.size())) {
      blobs.retire(old);
      page[at] = 0;
      return;
    }
    int from = cursor.keyEnd();
    int length = cursor.end() - from;
    boolean same =
        old != 0
            && Blobs.length(old) == length
            && Bytes.equal(blobs.bytes(old), blobs.start(old), cursor.bytes(), from, length);
    if (!same) {
      page[at] = blobs.put(cursor.bytes(), from, length);
      blobs.retire(old);
    }
  }

  /** The blob that a group's state refers to, or 0. */
  static long place(long[] state, int at) {
    return state[at];
  }

  /** Sets the result column from a group's state. */
  void write(long[] state, int at, Blobs blobs, RowWriter out, int column) {
    long place = state[at];
    if (place == 0) {
      out.setNull(column);
    } else {
      out.copy(column, tailLayout, blobs.bytes(place), blobs.start(place), 0);
    }
  }

  /** Moves to the last entry before the end of the group's prefix. */
  private boolean seekLast(SortedBag.Cursor cursor) {
    byte[] end = key.toByteArray();
    int last = end.length - 1;
    while (last >= 0 && end[last] == -1) {
      last--;
    }
    if (last < 0) {
      return cursor.last();
    }
    end[last]++;
    return cursor.seek(end, 0, last + 1) ? cursor.previous() : cursor.last();
  }

  /** The values, for checkpoints. */
  Durable durable() {
    return new StateChunks.DurableBag() {
      @Override
      protected SortedBag current() {
        return values;
      }

      @Override
      protected void replace(SortedBag bag) {
        values = bag;
      }
    };
  }

  long heapBytes() {
    return values.heapBytes() + batch.heapBytes();
  }
}
