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
import dripledger.engine.state.Blobs;
import dripledger.engine.state.Durable;
import dripledger.engine.state.KeyedArena;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.function.Consumer;

/**
 * GROUP BY and DISTINCT: for every group g that dR touches, d(γ R) = −old(g) + new(g).
 *
 * <p>State: one block a group in a {@link KeyedStore}. Its key is the group columns, its state the
 * number of rows in the group, the words of the accumulators, and the results of calls that must be
 * looked for among all values. Rows are added up in place; {@link #flush} walks what the version
 * has changed and makes the old and the new rows of it, leaving out groups whose row is the same.
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
  private static final int FIRST_STATE = 1; // word 0 is the number of rows
  private static final int BLOCK = 256;
  private static final int RESTATED_AT_ONCE = 10_000;

  private final boolean global;
  private final RowLayout input;
  private final int groupCount;
  private final GroupKeys keys;
  private final Versions versions;
  private final Blobs blobs;
  private final KeyedStore groups;
  private final Call[] calls;
  private final OrderedValues[] ordered;
  private final DistinctValues[] distincts;
  private final AggregateKernel kernel;
  private final Page out;
  private final Rejects rejects;
  private final int place;
  private final Operator next;
  private final int port;
  private final long[] keyWords;
  private final long[] hashes = new long[BLOCK];

  @SuppressWarnings("UnusedVariable")
  private long ahead; // what was looked at early; never used, but the compiler cannot know

  /**
   * How one call is kept: by an accumulator at an offset, or by ordered values and their result.
   */
  private record Call(
      int filterColumn,
      Accumulator accumulator,
      int stateOffset,
      DistinctValues distinct,
      OrderedValues ordered) {}

  /**
   * @param next who takes the changes, or null if they stay in {@link #output}
   */
  GroupAggregate(
      PlanNode.Aggregate plan, Versions versions, Rejects rejects, Operator next, int port) {
    this.versions = versions;
    this.rejects = rejects;
    this.next = next;
    this.port = port;
    input = new RowLayout(plan.input().schema());
    int[] groupColumns = plan.groupColumns();
    groupCount = groupColumns.length;
    global = groupCount == 0;
    keys = new GroupKeys(input, groupColumns);
    place = rejects.place(PlanPrinter.step(plan), keys.layout());
    out = new Page(new RowLayout(plan.schema()));
    blobs = new Blobs(versions);
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
      offset += accumulator == null ? OrderedValues.RESULT_WORDS : accumulator.stateWords();
    }
    ordered = orderedList.toArray(new OrderedValues[0]);
    distincts = distinctList.toArray(new DistinctValues[0]);
    groups = new KeyedStore(versions, keys.words(), offset, global ? 1 : 64);
    groups.onRelease(keys::release);
    keyWords = new long[BLOCK * keys.words()];
    kernel = AggregateKernel.of(plan, input, calls.length == 0 ? 0 : FIRST_STATE, appendOnly);
  }

  @Override
  public void start() {
    if (global) {
      Arrays.fill(keyWords, 0, keys.words(), 0);
      groups.changeOrInsert(groups.hashOf(keyWords, 0), keyWords, 0);
    }
  }

  @Override
  public void push(int fromPort, Page delta) {
    int plain = keys.plainColumn();
    for (int from = 0; from < delta.size(); from += BLOCK) {
      int to = Math.min(delta.size(), from + BLOCK);
      if (plain >= 0) {
        pushPlain(delta, from, to, input.slotOffset(plain));
      } else {
        pushBlock(delta, from, to);
      }
    }
  }

  /**
   * First all hashes and what they lead to, then the work: many look-ups wait for memory at once.
   */
  private void pushPlain(Page delta, int from, int to, int slot) {
    byte[] bytes = delta.bytes();
    for (int i = from; i < to; i++) {
      hashes[i - from] = KeyedStore.hash(Bytes.getLong(bytes, delta.start(i) + slot));
    }
    lookAhead(to - from);
    for (int i = from; i < to; i++) {
      long weight = delta.weight(i);
      if (weight == 0) {
        continue;
      }
      int row = delta.start(i);
      int block = groups.changeOrInsert(hashes[i - from], Bytes.getLong(bytes, row + slot));
      add(groups.page(block), groups.state(block), bytes, row, weight);
    }
  }

  private void lookAhead(int count) {
    long seen = 0;
    for (int i = 0; i < count; i++) {
      seen += groups.touchAhead(groups.firstSlot(hashes[i]));
    }
    ahead += seen;
  }

  private void pushBlock(Page delta, int from, int to) {
    byte[] bytes = delta.bytes();
    int words = keys.words();
    for (int i = from; i < to; i++) {
      int at = (i - from) * words;
      keys.encode(bytes, delta.start(i), keyWords, at);
      hashes[i - from] = groups.hashOf(keyWords, at);
    }
    lookAhead(to - from);
    for (int i = from; i < to; i++) {
      long weight = delta.weight(i);
      if (weight == 0) {
        continue;
      }
      int block = groups.changeOrInsert(hashes[i - from], keyWords, (i - from) * words);
      add(groups.page(block), groups.state(block), bytes, delta.start(i), weight);
    }
  }

  private void add(long[] state, int at, byte[] bytes, int row, long weight) {
    state[at] += weight;
    if (kernel != null) {
      kernel.add(bytes, row, weight, state, at);
      return;
    }
    for (Call call : calls) {
      update(call, bytes, row, weight, state, at);
    }
  }

  private void update(Call call, byte[] bytes, int row, long weight, long[] state, int at) {
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
    call.accumulator.add(bytes, row, effective, state, at + call.stateOffset, blobs);
  }

  /** Appends a group's row from its key and a state; answers false if its result does not fit. */
  private boolean emit(long[] keyPage, int key, long[] state, int at, long weight) {
    RowWriter writer = out.begin();
    try {
      write(keyPage, key, state, at, writer);
      out.commit(weight);
      return true;
    } catch (RuntimeException e) {
      out.abort();
      byte[] row = keys.row(keyPage, key);
      rejects.add(place, row, 0, weight, e);
      return false;
    }
  }

  private void write(long[] keyPage, int key, long[] state, int at, RowWriter writer) {
    keys.write(keyPage, key, writer);
    for (int i = 0; i < calls.length; i++) {
      Call call = calls[i];
      int column = groupCount + i;
      if (call.ordered != null) {
        call.ordered.write(state, at + call.stateOffset, blobs, writer, column);
      } else {
        call.accumulator.write(state, at + call.stateOffset, blobs, writer, column);
      }
    }
  }

  @Override
  public void flush() {
    if (!groups.hasChanges()) {
      return;
    }
    for (OrderedValues values : ordered) {
      values.applyChanges();
    }
    groups.changes(
        (block, wasLive, isLive, record, old) -> {
          if (isLive) {
            settle(block);
          }
          emitChange(block, wasLive, record, old);
        });
    if (next != null && !out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }

  /** Ends a group without rows, and looks for the results that are among its values. */
  private void settle(int block) {
    long[] page = groups.page(block);
    int at = groups.state(block);
    if (page[at] == 0 && !global) {
      for (Call call : calls) {
        if (call.ordered != null) {
          blobs.retire(OrderedValues.place(page, at + call.stateOffset));
        } else {
          call.accumulator.release(page, at + call.stateOffset, blobs);
        }
      }
      groups.remove(block);
      return;
    }
    for (Call call : calls) {
      if (call.ordered != null) {
        call.ordered.result(keys, page, groups.header(block) + 1, at + call.stateOffset, blobs);
      }
    }
  }

  private void emitChange(int block, boolean wasLive, long[] record, int old) {
    long[] page = groups.page(block);
    int key = groups.header(block) + 1;
    int oldRow = -1;
    if (wasLive && emit(page, key, record, old, -1)) {
      oldRow = out.size() - 1;
    }
    if (groups.isLive(block) && emit(page, key, page, groups.state(block), 1) && oldRow >= 0) {
      dropIfSame(oldRow);
    }
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

  @Override
  public void durable(Consumer<Durable> into) {
    into.accept(new StoredBlocks(groups, versions));
    into.accept(blobs.arena());
    keys.durable(into);
    for (DistinctValues values : distincts) {
      into.accept(values.counts);
    }
    for (OrderedValues values : ordered) {
      into.accept(values.durable());
    }
  }

  @Override
  public void restate(Runnable pause) {
    int given = 0;
    for (int block = 0; block < groups.blockLimit(); block++) {
      if (groups.isLive(block)) {
        long[] page = groups.page(block);
        emit(page, groups.header(block) + 1, page, groups.state(block), 1);
        if (++given % RESTATED_AT_ONCE == 0) {
          handOn();
          pause.run();
        }
      }
    }
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
    long bytes = blobs.heapBytes() + groups.heapBytes() + keys.heapBytes();
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
