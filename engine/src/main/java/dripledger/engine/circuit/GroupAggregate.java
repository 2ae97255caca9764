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
import dripledger.engine.state.Blobs;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.state.StateFormatException;
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
 * and the last: see {@link ValueCounts}.
 *
 * <p>Corner cases: without group columns there is always exactly one row, also of no input (emitted
 * by {@link #start}); a result that does not fit its type rejects the group's row and nothing else;
 * two NULLs are the same group.
 */
final class GroupAggregate implements Operator, StoredRows, SavedStore.Form {
  private static final int FIRST_STATE = 1; // word 0 is the number of rows
  private static final int BLOCK = 256;
  private static final int HANDED_ON = 2 * BLOCK; // rows that readers are given at once

  // Whether a group has a row, as kept in its state.
  private static final long SHOWN = 0;
  private static final long FAILS = 2;
  private static final long GONE = 3;

  private final boolean global;
  private final RowLayout input;
  private final int groupCount;
  private final GroupKeys keys;
  private final SavedStore blocksSaved;
  private final Blobs blobs;
  private final KeyedStore groups;
  private final Call[] calls;
  private final boolean anyOrdered;
  private final List<ValueCounts> values = new ArrayList<>();
  private final int[] blobWords; // words of the state that refer to values kept apart
  private final AggregateKernel kernel;
  private final boolean plainRows; // of fixed size, and none can fail
  private final boolean mayBeSame; // whether a row may stay the same although its state changed
  private final RowLayout groupLayout;
  private final int shownAt; // the word that says whether the row is shown, or −1: always
  private final Page out;
  private boolean rowsWanted = true;
  private Consumer<Page> readers;
  private long shown;
  private long changed;
  private long membership;
  private final OrderedIndexes indexes;
  private final Rejects rejects;
  private final int place;
  private final Operator next;
  private final int port;
  private final long[] keyWords;
  private final long[] hashes = new long[BLOCK];
  private final int[] blocks = new int[BLOCK];
  private final int[] rows = new int[BLOCK];
  private final long[] weights = new long[BLOCK];
  private final AggregateKernel.Others others = new OtherCalls();

  /**
   * How one call is kept: by an accumulator at an offset, or by ordered values and their result.
   */
  private record Call(
      int filterColumn,
      Accumulator accumulator,
      int stateOffset,
      ValueCounts distinct,
      OrderedValues ordered) {}

  /**
   * @param next who takes the changes, or null if they stay in {@link #output}
   */
  GroupAggregate(
      PlanNode.Aggregate plan, Versions versions, Rejects rejects, Operator next, int port) {
    this.rejects = rejects;
    this.next = next;
    this.port = port;
    input = new RowLayout(plan.input().schema());
    int[] groupColumns = plan.groupColumns().stream().mapToInt(Integer::intValue).toArray();
    groupCount = groupColumns.length;
    global = groupCount == 0;
    keys = new GroupKeys(input, groupColumns);
    place = rejects.place(PlanPrinter.step(plan), keys.layout());
    indexes = new OrderedIndexes(keys.layout());
    groupLayout = new RowLayout(plan.schema());
    out = new Page(groupLayout);
    blobs = new Blobs(versions);
    boolean appendOnly = plan.input().appendOnly();
    List<Integer> blobList = new ArrayList<>();
    calls = new Call[plan.calls().size()];
    int offset = FIRST_STATE;
    for (int i = 0; i < calls.length; i++) {
      AggregateCall call = plan.calls().get(i);
      Accumulator accumulator = Accumulators.of(call, input, appendOnly);
      OrderedValues extremes = null;
      ValueCounts distinct = null;
      if (accumulator == null) {
        extremes = new OrderedValues(call, input, groupColumns, versions);
        values.add(extremes.values());
      } else if (call.distinct() && !call.function().isExtreme()) {
        distinct = new ValueCounts(input, columnsOf(call, groupColumns), versions);
        values.add(distinct);
      }
      if (accumulator != null && accumulator.blobWord() >= 0) {
        blobList.add(offset + accumulator.blobWord());
      }
      calls[i] = new Call(call.filterColumn(), accumulator, offset, distinct, extremes);
      offset += accumulator == null ? OrderedValues.STATE_WORDS : accumulator.stateWords();
    }
    anyOrdered = Arrays.stream(calls).anyMatch(c -> c.ordered != null);
    blobWords = blobList.stream().mapToInt(Integer::intValue).toArray();
    boolean canFail = false;
    for (Call call : calls) {
      canFail |= call.accumulator != null && call.accumulator.canFail();
    }
    shownAt = canFail ? offset++ : -1;
    groups = new KeyedStore(versions, keys.words(), offset, global ? 1 : 64);
    groups.onRelease(keys::release);
    blocksSaved = new SavedStore(groups, keys, versions, this);
    keyWords = new long[BLOCK * keys.words()];
    List<AggregateKernel.Slot> slots = new ArrayList<>();
    for (int i = 0; i < calls.length; i++) {
      AggregateCall call = plan.calls().get(i);
      boolean adds = AggregateKernel.isGenerated(call, input, appendOnly);
      boolean writes = adds || calls[i].ordered != null && calls[i].ordered.isPlain();
      slots.add(new AggregateKernel.Slot(call, calls[i].stateOffset, adds, writes));
    }
    mayBeSame = slots.stream().noneMatch(AggregateKernel.Slot::tellsEveryChange);
    kernel = AggregateKernel.of(slots, input, keys, groupLayout);
    plainRows = kernel.writesRows() && shownAt < 0;
  }

  private static int[] columnsOf(AggregateCall call, int[] groupColumns) {
    int groups = groupColumns.length;
    int[] columns = Arrays.copyOf(groupColumns, groups + call.arguments().size());
    for (int i = 0; i < call.arguments().size(); i++) {
      columns[groups + i] = call.arguments().get(i);
    }
    return columns;
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

  /** First all keys and what they lead to, then the work: see {@link KeyedStore#findAhead}. */
  private void pushPlain(Page delta, int from, int to, int slot) {
    byte[] bytes = delta.bytes();
    int count = to - from;
    for (int i = 0; i < count; i++) {
      keyWords[i] = Bytes.getLong(bytes, delta.start(from + i) + slot);
    }
    groups.findAhead(keyWords, hashes, blocks, count);
    add(delta, from, count);
  }

  private void pushBlock(Page delta, int from, int to) {
    byte[] bytes = delta.bytes();
    int words = keys.words();
    int count = to - from;
    for (int i = 0; i < count; i++) {
      keys.encode(bytes, delta.start(from + i), keyWords, i * words);
      hashes[i] = groups.hashOf(keyWords, i * words);
    }
    groups.findAhead(keyWords, hashes, blocks, count, words);
    add(delta, from, count);
  }

  /** Adds rows whose keys have been looked for. */
  private void add(Page delta, int from, int count) {
    int words = keys.words();
    for (int i = 0; i < count; i++) {
      weights[i] = delta.weight(from + i);
      rows[i] = delta.start(from + i);
      if (weights[i] == 0) {
        continue;
      }
      if (blocks[i] == KeyedStore.NONE) {
        blocks[i] = groups.changeOrInsert(hashes[i], keyWords, i * words);
      } else {
        groups.change(blocks[i]);
      }
    }
    for (ValueCounts counts : values) {
      counts.ahead(delta.bytes(), rows, count);
    }
    kernel.add(delta.bytes(), rows, weights, count, groups, blocks, others);
  }

  /** The calls that are kept by objects. */
  private final class OtherCalls implements AggregateKernel.Others {
    @Override
    public void add(
        int call, int number, byte[] bytes, int row, long weight, long[] state, int at) {
      update(calls[call], number, bytes, row, weight, state, at);
    }

    @Override
    public void write(int number, long[] state, int at, RowWriter out) {
      Call call = calls[number];
      int column = groupCount + number;
      if (call.ordered != null) {
        call.ordered.write(state, at + call.stateOffset, out, column);
      } else {
        call.accumulator.write(state, at + call.stateOffset, blobs, out, column);
      }
    }
  }

  private void update(
      Call call, int number, byte[] bytes, int row, long weight, long[] state, int at) {
    int filter = call.filterColumn;
    if (filter >= 0 && (input.isNull(bytes, row, filter) || input.slot(bytes, row, filter) == 0)) {
      return;
    }
    if (call.ordered != null) {
      call.ordered.add(number, bytes, row, weight, state, at + call.stateOffset);
      return;
    }
    long effective = weight;
    if (call.distinct != null) {
      ValueCounts.Change change = call.distinct.add(number, weight);
      if (change == ValueCounts.Change.NONE) {
        return;
      }
      effective = change == ValueCounts.Change.CAME ? 1 : -1;
    }
    call.accumulator.add(bytes, row, effective, state, at + call.stateOffset, blobs);
  }

  /** Who is given the rows that change, piece by piece; null if they stay in {@link #output}. */
  void readers(Consumer<Page> sink) {
    readers = sink;
  }

  /** Whether somebody reads the rows that change; otherwise they are not made. */
  void rowsWanted(boolean value) {
    rowsWanted = value;
  }

  /** Appends a group's row from its key and a state; answers whether it is shown. */
  private long emit(long[] keyPage, int key, long[] state, int at, long weight) {
    if (plainRows) {
      int to = out.appendFixed(weight);
      kernel.row(keyPage, key, state, at, out.bytes(), to);
      return SHOWN;
    }
    RowWriter writer = out.begin();
    try {
      row(keyPage, key, state, at, writer);
      out.commit(weight);
      return SHOWN;
    } catch (RuntimeException e) {
      out.abort();
      rejects.add(place, keys.row(keyPage, key), 0, weight, e);
      return FAILS;
    }
  }

  /** Sets the columns of a group's row from its key and a state. Any thread. */
  private void row(long[] keyPage, int key, long[] state, int at, RowWriter writer) {
    keys.write(keyPage, key, writer);
    kernel.write(state, at, writer, others);
  }

  @Override
  public void flush(Epoch epoch) {
    changed = 0;
    if (!groups.hasChanges()) {
      return;
    }
    if (rowsWanted
        || shownAt >= 0
        || anyOrdered
        || groups.mayHaveEnded()
        || indexes.needChanges()) {
      groups.changes(this::settleAndEmit);
    } else {
      changed = groups.changeCount();
      if (shown != groups.size()) {
        shown = groups.size(); // keys have come, and none has gone
        membership++;
      }
    }
    handOn();
  }

  /** Gives what has changed so far to who reads it, while it is near. */
  private void handOn() {
    if (out.isEmpty()) {
      return;
    }
    if (next != null) {
      next.push(port, out);
      out.clear();
    } else if (readers != null) {
      readers.accept(out);
      out.clear();
    }
  }

  private void settleAndEmit(int block, boolean wasLive, boolean isLive, long[] record, int old) {
    changed++;
    if (isLive) {
      settle(block);
    }
    long[] page = groups.page(block);
    int key = groups.header(block) + 1;
    int state = groups.state(block);
    boolean stays = groups.isLive(block);
    long before = !wasLive ? GONE : shownAt < 0 ? SHOWN : record[old + shownAt];
    int oldRow = -1;
    if (before == FAILS || before == SHOWN && rowsWanted) {
      emit(page, key, record, old, -1);
      oldRow = before == SHOWN ? out.size() - 1 : -1;
    }
    long after = stays ? SHOWN : GONE;
    if (stays && (rowsWanted || shownAt >= 0)) {
      after = emit(page, key, page, state, 1);
    }
    if (stays && shownAt >= 0) {
      page[state + shownAt] = after;
    }
    if (after == SHOWN && oldRow >= 0 && mayBeSame) {
      dropIfSame(oldRow);
    }
    if (!rowsWanted) {
      out.clear();
    } else if (out.size() >= HANDED_ON) {
      handOn();
    }
    if ((before == SHOWN) != (after == SHOWN)) {
      shown += after == SHOWN ? 1 : -1;
    }
    if (wasLive != stays || (before == SHOWN) != (after == SHOWN)) {
      membership++; // an order knows groups that have no row too
    }
    if (wasLive != stays && indexes.needChanges()) {
      indexes.changed(keys.row(page, key), 0, block, stays ? 1 : -1);
    }
  }

  /** Ends a group without rows, and looks for the results that are among its values. */
  private void settle(int block) {
    long[] page = groups.page(block);
    int at = groups.state(block);
    if (page[at] == 0 && !global) {
      for (Call call : calls) {
        if (call.ordered != null) {
          OrderedValues.refuseIfAny(page, at + call.stateOffset);
        } else {
          call.accumulator.release(page, at + call.stateOffset, blobs);
        }
      }
      groups.remove(block);
      return;
    }
    for (Call call : calls) {
      if (call.ordered != null) {
        call.ordered.result(page, at + call.stateOffset);
      }
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
    into.accept(blocksSaved);
    values.forEach(v -> v.durable(into));
  }

  /** The words of the state, then what they refer to. */
  @Override
  public long save(long[] block, StateChunks.Writer out) {
    int state = keys.words();
    for (int i = state; i < block.length; i++) {
      out.putLong(block[i]);
    }
    for (int word : blobWords) {
      long place = block[state + word];
      if (place != 0) {
        out.putInt(Blobs.length(place));
        out.put(blobs.bytes(place), blobs.start(place), Blobs.length(place));
      }
    }
    return 1;
  }

  @Override
  public void restore(long[] key, byte[] bytes, int value, int length, long count) {
    int words = groups.stateWords();
    if (count != 0 && length < 8 * words) {
      throw new StateFormatException("saved groups of another shape");
    }
    long hash = groups.hashOf(key, 0);
    int known = groups.find(hash, key, 0);
    boolean there = known != KeyedStore.NONE && groups.isLive(known);
    for (int i = 0; there && i < blobWords.length; i++) {
      blobs.retire(groups.page(known)[groups.state(known) + blobWords[i]]);
    }
    if (count == 0) {
      if (there) {
        groups.remove(known);
      }
      return;
    }
    int block = groups.changeOrInsert(hash, key, 0);
    long[] page = groups.page(block);
    int state = groups.state(block);
    for (int i = 0; i < words; i++) {
      page[state + i] = Bytes.getLong(bytes, value + 8 * i);
    }
    int at = value + 8 * words;
    for (int word : blobWords) {
      if (page[state + word] != 0) {
        int size = Bytes.getInt(bytes, at);
        page[state + word] = blobs.put(bytes, at + 4, size);
        at += 4 + size;
      }
    }
    for (Call call : calls) {
      if (call.ordered != null) {
        Arrays.fill(
            page,
            state + call.stateOffset,
            OrderedValues.STATE_WORDS + state + call.stateOffset,
            0);
      }
    }
  }

  @Override
  public void join(Versions graph) {
    groups.join(graph);
    blobs.join(graph);
    values.forEach(v -> v.join(graph));
    blocksSaved.join(graph);
  }

  @Override
  public void close() {
    groups.close();
    values.forEach(ValueCounts::close);
    blobs.close();
  }

  @Override
  public void restored() {
    for (Call call : calls) {
      if (call.ordered != null) {
        call.ordered.restored(groups, keys, call.stateOffset);
      }
    }
    shown = 0;
    for (int block = 0; block < groups.blockLimit(); block++) {
      boolean there =
          groups.isLive(block)
              && (shownAt < 0 || groups.page(block)[groups.state(block) + shownAt] == SHOWN);
      shown += there ? 1 : 0;
    }
  }

  /** Groups that changed in the last flush. */
  long changed() {
    return changed;
  }

  // ---- for readers: any thread

  @Override
  public KeyedStore store() {
    return groups;
  }

  @Override
  public GroupKeys keys() {
    return keys;
  }

  @Override
  public RowLayout layout() {
    return groupLayout;
  }

  @Override
  public boolean row(long[] words, RowWriter writer) {
    if (shownAt >= 0 && words[keys.words() + shownAt] != SHOWN) {
      return false;
    }
    row(words, 0, words, keys.words(), writer);
    return true;
  }

  @Override
  public long copies(long[] words) {
    return 1;
  }

  @Override
  public OrderedIndexes indexes() {
    return indexes;
  }

  @Override
  public long rowBytes() {
    return 0;
  }

  /** How many groups have a row; by the writer. */
  long shown() {
    return shown;
  }

  @Override
  public long membership() {
    return membership;
  }

  @Override
  public long stateBytes() {
    long bytes = blobs.heapBytes() + groups.heapBytes() + keys.heapBytes() + indexes.heapBytes();
    for (Call call : calls) {
      bytes += call.ordered == null ? 0 : call.ordered.heapBytes();
      bytes += call.distinct == null ? 0 : call.distinct.heapBytes();
    }
    return bytes;
  }

  @Override
  public long stateKeys() {
    return groups.size();
  }
}
