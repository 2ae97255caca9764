package dripledger.engine.circuit;

import dripledger.engine.expr.Accumulator;
import dripledger.engine.expr.Accumulators;
import dripledger.engine.expr.AggregateCall;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.state.ByteArena;
import dripledger.engine.state.Durable;
import dripledger.engine.state.KeyedArena;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.function.Consumer;

/**
 * GROUP BY and DISTINCT: for every group g that dR touches, d(γ R) = −old(g) + new(g).
 *
 * <p>State: one entry a group, keyed by the group columns as a row; its value is the number of rows
 * in the group and the fixed-size states of the accumulators. The first change of an epoch to a
 * group puts the group's old row into the output with weight −1 and notes the entry; {@link #flush}
 * adds the new rows with +1, leaves out groups whose row did not change, and removes groups with no
 * rows.
 *
 * <p>MIN, MAX and their kin over an input that takes rows out need every value of the group in
 * order: see {@link OrderedValues}. DISTINCT calls keep a count a value and pass on only the first
 * and the last: see {@link DistinctValues}.
 *
 * <p>Corner cases: without group columns there is always exactly one row, also of no input (emitted
 * by {@link #start}); a result that does not fit its type rejects the group's row and nothing else;
 * two NULLs are the same group.
 */
final class GroupAggregate implements Operator {
  private static final int ROWS = 0;
  private static final int FIRST_STATE = 8;
  private static final int BLOCK = 256;
  private static final int RESTATED_AT_ONCE = 10_000;

  private final boolean global;
  private final RowLayout input;
  private final RowLayout keyLayout;
  private final int[] groupColumns;
  private final RowWriter keyWriter;
  private final ByteArena blobs = new ByteArena();
  private final KeyedArena groups;
  private final Call[] calls;
  private final OrderedValues[] ordered;
  private final DistinctValues[] distincts;
  private final Page out;
  private final Rejects rejects;
  private final int place;
  private final Operator next;
  private final int port;
  private int[] touched = new int[64];
  private int[] oldRows = new int[64];
  private int touchedCount;
  private final long[] hashes = new long[BLOCK];
  private final int[] keyStarts = new int[BLOCK + 1];

  @SuppressWarnings("UnusedVariable")
  private int warmth; // what warming read; never used, but the compiler cannot know

  /** How one call is kept: by an accumulator at an offset, or by ordered values. */
  private record Call(
      int filterColumn,
      Accumulator accumulator,
      int stateOffset,
      DistinctValues distinct,
      OrderedValues ordered) {}

  /**
   * @param next who takes the changes, or null if they stay in {@link #output}
   */
  GroupAggregate(PlanNode.Aggregate plan, Rejects rejects, Operator next, int port) {
    this.rejects = rejects;
    this.next = next;
    this.port = port;
    input = new RowLayout(plan.input().schema());
    groupColumns = plan.groupColumns();
    global = groupColumns.length == 0;
    keyLayout = new RowLayout(plan.input().schema().project(groupColumns));
    place = rejects.place(PlanPrinter.step(plan), keyLayout);
    keyWriter = new RowWriter(keyLayout, 256);
    out = new Page(new RowLayout(plan.schema()));
    boolean appendOnly = plan.input().appendOnly();
    List<OrderedValues> orderedList = new ArrayList<>();
    List<DistinctValues> distinctList = new ArrayList<>();
    calls = new Call[plan.calls().size()];
    int offset = FIRST_STATE;
    for (int i = 0; i < calls.length; i++) {
      AggregateCall call = plan.calls().get(i);
      Accumulator accumulator = Accumulators.of(call, input, appendOnly);
      OrderedValues values = null;
      DistinctValues distinct = null;
      if (accumulator == null) {
        values = new OrderedValues(call, input, groupColumns);
        orderedList.add(values);
      } else if (call.distinct() && !call.function().isExtreme()) {
        distinct = new DistinctValues(call, input, groupColumns);
        distinctList.add(distinct);
      }
      calls[i] = new Call(call.filterColumn(), accumulator, offset, distinct, values);
      offset += accumulator == null ? 0 : accumulator.stateBytes();
    }
    ordered = orderedList.toArray(new OrderedValues[0]);
    distincts = distinctList.toArray(new DistinctValues[0]);
    groups = new KeyedArena(keyLayout.anyVariable() ? -1 : keyLayout.fixedBytes(), offset);
  }

  @Override
  public void start() {
    if (global) {
      keyWriter.truncate(0);
      keyWriter.begin();
      int length = keyWriter.finish();
      touch(groups.findOrInsert(keyWriter.bytes(), 0, length), false);
    }
  }

  @Override
  public void push(int fromPort, Page delta) {
    for (int from = 0; from < delta.size(); from += BLOCK) {
      pushBlock(delta, from, Math.min(delta.size(), from + BLOCK));
    }
  }

  /** First all keys and what they lead to, then the work: see {@link KeyedArena#warm}. */
  private void pushBlock(Page delta, int from, int to) {
    byte[] bytes = delta.bytes();
    keyWriter.truncate(0);
    for (int i = from; i < to; i++) {
      keyWriter.begin();
      int row = delta.start(i);
      for (int k = 0; k < groupColumns.length; k++) {
        keyWriter.copy(k, input, bytes, row, groupColumns[k]);
      }
      int length = keyWriter.finish();
      keyStarts[i - from] = keyWriter.start();
      hashes[i - from] = Bytes.hash(keyWriter.bytes(), keyWriter.start(), length);
    }
    keyStarts[to - from] = keyWriter.end();
    warmth += groups.warm(hashes, to - from);
    byte[] keys = keyWriter.bytes();
    for (int i = from; i < to; i++) {
      long weight = delta.weight(i);
      if (weight == 0) {
        continue;
      }
      int key = keyStarts[i - from];
      int entry = groups.findOrInsert(keys, key, keyStarts[i - from + 1] - key, hashes[i - from]);
      if (groups.mark(entry) == 0) {
        touch(entry, true);
      }
      byte[] chunk = groups.chunk(entry);
      int value = groups.valueAt(entry);
      Bytes.putLong(chunk, value + ROWS, Bytes.getLong(chunk, value + ROWS) + weight);
      int row = delta.start(i);
      for (Call call : calls) {
        update(call, bytes, row, weight, chunk, value);
      }
    }
  }

  private void update(Call call, byte[] bytes, int row, long weight, byte[] chunk, int value) {
    int filter = call.filterColumn;
    if (filter >= 0 && (input.isNull(bytes, row, filter) || input.slot(bytes, row, filter) == 0)) {
      return;
    }
    if (call.ordered != null) {
      call.ordered.add(bytes, row, weight);
      return;
    }
    long effective = weight;
    if (call.distinct != null) {
      effective = call.distinct.add(bytes, row, weight);
      if (effective == 0) {
        return;
      }
    }
    call.accumulator.add(bytes, row, effective, chunk, value + call.stateOffset, blobs);
  }

  private void touch(int entry, boolean emitOld) {
    if (touchedCount == touched.length) {
      touched = Arrays.copyOf(touched, touchedCount * 2);
      oldRows = Arrays.copyOf(oldRows, touchedCount * 2);
    }
    int oldRow = -1;
    boolean existed =
        emitOld && (global || Bytes.getLong(groups.chunk(entry), groups.valueAt(entry)) != 0);
    if (existed && emit(entry, -1)) {
      oldRow = out.size() - 1;
    }
    touched[touchedCount] = entry;
    oldRows[touchedCount++] = oldRow;
    groups.setMark(entry, touchedCount);
    groups.changed(entry);
  }

  /** Appends the group's row as it stands; answers false if its result does not fit. */
  private boolean emit(int entry, long weight) {
    RowWriter writer = out.begin();
    byte[] chunk = groups.chunk(entry);
    int key = groups.keyAt(entry);
    int value = groups.valueAt(entry);
    if (keyLayout.anyVariable()) {
      for (int k = 0; k < groupColumns.length; k++) {
        writer.copy(k, keyLayout, chunk, key, k);
      }
    } else {
      writer.copyLeading(keyLayout, chunk, key);
    }
    try {
      for (int i = 0; i < calls.length; i++) {
        Call call = calls[i];
        int column = groupColumns.length + i;
        if (call.ordered != null) {
          call.ordered.write(keyLayout, chunk, key, writer, column);
        } else {
          call.accumulator.write(chunk, value + call.stateOffset, blobs, writer, column);
        }
      }
      out.commit(weight);
      return true;
    } catch (RuntimeException e) {
      out.abort();
      rejects.add(place, chunk, key, weight, e);
      return false;
    }
  }

  @Override
  public void flush() {
    if (touchedCount == 0) {
      return;
    }
    for (OrderedValues values : ordered) {
      values.applyChanges();
    }
    for (int i = 0; i < touchedCount; i++) {
      if (i % BLOCK == 0) {
        warmth += groups.warmEntries(touched, i, Math.min(touchedCount, i + BLOCK));
      }
      int entry = touched[i];
      long rows = Bytes.getLong(groups.chunk(entry), groups.valueAt(entry) + ROWS);
      if (rows == 0 && !global) {
        remove(entry);
      } else {
        groups.setMark(entry, 0);
        if (emit(entry, 1) && oldRows[i] >= 0) {
          dropIfSame(oldRows[i]);
        }
      }
    }
    touchedCount = 0;
    handOn();
  }

  /**
   * Where changes are gathered; the owner of a root aggregate takes them from here and clears it.
   */
  Page output() {
    return out;
  }

  /** If the row emitted last equals the old one, neither is a change. */
  private void dropIfSame(int oldRow) {
    int last = out.size() - 1;
    int length = out.end(last) - out.start(last);
    if (out.end(oldRow) - out.start(oldRow) == length
        && Bytes.equal(out.bytes(), out.start(oldRow), out.bytes(), out.start(last), length)) {
      out.setWeight(oldRow, 0);
      out.setWeight(last, 0);
    }
  }

  private void remove(int entry) {
    byte[] chunk = groups.chunk(entry);
    int value = groups.valueAt(entry);
    for (Call call : calls) {
      if (call.accumulator != null) {
        call.accumulator.release(chunk, value + call.stateOffset, blobs);
      }
    }
    groups.remove(entry);
  }

  @Override
  public void durable(Consumer<Durable> into) {
    into.accept(groups);
    into.accept(blobs);
    for (DistinctValues values : distincts) {
      into.accept(values.counts);
    }
    for (OrderedValues values : ordered) {
      into.accept(values.durable());
    }
  }

  @Override
  public void restate(Runnable pause) {
    int[] given = new int[1];
    groups.forEach(
        entry -> {
          emit(entry, 1);
          if (++given[0] % RESTATED_AT_ONCE == 0) {
            handOn();
            pause.run();
          }
        });
    handOn();
    pause.run();
  }

  private void handOn() {
    if (next != null && !out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }

  @Override
  public long stateBytes() {
    long bytes = blobs.heapBytes() + groups.heapBytes();
    for (OrderedValues values : ordered) {
      bytes += values.heapBytes();
    }
    for (DistinctValues values : distincts) {
      bytes += values.heapBytes();
    }
    return bytes;
  }

  @Override
  public long stateKeys() {
    return groups.size();
  }

  /**
   * The values a DISTINCT call has seen, each with how often: d(distinct) is +1 when a count leaves
   * zero and −1 when it comes back to it.
   */
  private static final class DistinctValues {
    private final RowLayout input;
    private final int[] columns;
    private final RowWriter writer;
    private final KeyedArena counts;

    DistinctValues(AggregateCall call, RowLayout input, int[] groupColumns) {
      this.input = input;
      columns = Arrays.copyOf(groupColumns, groupColumns.length + call.arguments().length);
      System.arraycopy(call.arguments(), 0, columns, groupColumns.length, call.arguments().length);
      writer = new RowWriter(new RowLayout(input.schema().project(columns)), 256);
      counts = new KeyedArena(-1, 8);
    }

    long add(byte[] bytes, int row, long weight) {
      writer.truncate(0);
      writer.begin();
      for (int i = 0; i < columns.length; i++) {
        writer.copy(i, input, bytes, row, columns[i]);
      }
      int entry = counts.findOrInsert(writer.bytes(), 0, writer.finish());
      byte[] chunk = counts.chunk(entry);
      int at = counts.valueAt(entry);
      long old = Bytes.getLong(chunk, at);
      long now = old + weight;
      Bytes.putLong(chunk, at, now);
      counts.changed(entry);
      if (now == 0) {
        counts.remove(entry);
      }
      return (now > 0 ? 1L : 0L) - (old > 0 ? 1L : 0L);
    }

    long heapBytes() {
      return counts.heapBytes();
    }
  }

  static SortKeyCodec groupCodec(RowLayout layout) {
    int[] all = new int[layout.columns()];
    for (int i = 0; i < all.length; i++) {
      all[i] = i;
    }
    return new SortKeyCodec(layout, all);
  }
}
