package dripledger.engine.circuit;

import dripledger.engine.expr.Accumulator;
import dripledger.engine.expr.Accumulators;
import dripledger.engine.expr.AggregateCall;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Bytes;
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
 * What an aggregate keeps of its groups: a block each, whose words are the number of rows, then
 * those of each call, then whether the group's row is shown if it may fail. Calls without generated
 * code are kept here, and so is what states refer to. Written by one thread.
 */
final class GroupState implements AggregateKernel.Others, SavedStore.Form {
  private static final int FIRST = 1; // word 0 is the number of rows

  private final RowLayout input;
  private final int groupCount;
  private final GroupKeys keys;
  private final KeyedStore groups;
  private final SavedStore saved;
  private final Blobs blobs;
  private final Call[] calls;
  private final List<AggregateKernel.Slot> slots = new ArrayList<>();
  private final List<ValueCounts> values = new ArrayList<>();
  private final int[] blobWords; // words that refer to values kept apart
  private final boolean anyOrdered;
  private final int shownAt;

  /**
   * How one call is kept: by an accumulator at an offset, or by ordered values and their result.
   */
  private record Call(
      int filterColumn,
      Accumulator accumulator,
      int offset,
      ValueCounts distinct,
      GroupValues ordered) {}

  GroupState(PlanNode.Aggregate plan, RowLayout input, GroupKeys keys, Versions versions) {
    this.input = input;
    this.keys = keys;
    int[] groupColumns = plan.groupColumns().stream().mapToInt(Integer::intValue).toArray();
    groupCount = groupColumns.length;
    blobs = new Blobs(versions);
    boolean appendOnly = plan.input().appendOnly();
    List<Integer> blobList = new ArrayList<>();
    calls = new Call[plan.calls().size()];
    boolean canFail = false;
    int offset = FIRST;
    for (int i = 0; i < calls.length; i++) {
      AggregateCall call = plan.calls().get(i);
      Accumulator accumulator = Accumulators.of(call, input, appendOnly);
      GroupValues all = null;
      ValueCounts distinct = null;
      if (accumulator == null) {
        all =
            call.function().isCollected()
                ? new CollectedValues(call, input, groupColumns, blobs, versions)
                : new OrderedValues(call, input, groupColumns, versions);
        values.add(all.values);
        canFail |= all.canFail();
      } else if (call.distinct() && !call.function().isExtreme()) {
        distinct = new ValueCounts(input, columnsOf(call, groupColumns), versions);
        values.add(distinct);
      }
      boolean adds = call.isAddedUp(input.schema(), appendOnly);
      boolean writes = adds || all != null && all.isPlain();
      List<Integer> nullable =
          call.arguments().stream().filter(a -> input.schema().type(a).nullable()).toList();
      slots.add(new AggregateKernel.Slot(call, offset, adds, writes, nullable));
      calls[i] = new Call(call.filterColumn(), accumulator, offset, distinct, all);
      if (accumulator == null) {
        offset += GroupValues.STATE_WORDS;
      } else {
        for (int word : accumulator.blobWords()) {
          blobList.add(offset + word);
        }
        canFail |= accumulator.canFail();
        offset += accumulator.stateWords();
      }
    }
    anyOrdered = Arrays.stream(calls).anyMatch(c -> c.ordered != null);
    blobWords = blobList.stream().mapToInt(Integer::intValue).toArray();
    shownAt = canFail ? offset++ : -1;
    if (plan.ending() != null) {
      values.forEach(v -> v.endBy(plan.ending().column()));
    }
    groups = new KeyedStore(versions, keys.words(), offset, groupCount == 0 ? 1 : 64);
    groups.onRelease(keys::release);
    saved = new SavedStore(groups, keys, versions, this);
  }

  private static int[] columnsOf(AggregateCall call, int[] groupColumns) {
    int groups = groupColumns.length;
    int[] columns = Arrays.copyOf(groupColumns, groups + call.arguments().size());
    for (int i = 0; i < call.arguments().size(); i++) {
      columns[groups + i] = call.arguments().get(i);
    }
    return columns;
  }

  KeyedStore groups() {
    return groups;
  }

  /** What the generator of code must know of the calls. */
  List<AggregateKernel.Slot> slots() {
    return slots;
  }

  /** The word that says whether a group's row is shown, or −1: always. */
  int shownAt() {
    return shownAt;
  }

  /** Whether results must be looked for among values when the epoch ends. */
  boolean anyOrdered() {
    return anyOrdered;
  }

  /** Told of the rows that are added next, so that what they lead to is near. */
  void ahead(byte[] bytes, int[] rows, int count) {
    for (ValueCounts counts : values) {
      counts.ahead(bytes, rows, count);
    }
  }

  @Override
  public void add(
      int number, int rowNumber, byte[] bytes, int row, long weight, long[] state, int at) {
    Call call = calls[number];
    int filter = call.filterColumn;
    if (filter >= 0 && (input.isNull(bytes, row, filter) || input.slot(bytes, row, filter) == 0)) {
      return;
    }
    if (call.ordered != null) {
      call.ordered.add(rowNumber, bytes, row, weight, state, at + call.offset);
      return;
    }
    long effective = weight;
    if (call.distinct != null) {
      ValueCounts.Change change = call.distinct.add(rowNumber, bytes, row, weight);
      if (change == ValueCounts.Change.NONE) {
        return;
      }
      effective = change == ValueCounts.Change.CAME ? 1 : -1;
    }
    call.accumulator.add(bytes, row, effective, state, at + call.offset, blobs);
  }

  @Override
  public void write(int number, long[] state, int at, RowWriter out) {
    Call call = calls[number];
    int column = groupCount + number;
    if (call.ordered != null) {
      call.ordered.write(state, at + call.offset, out, column);
    } else {
      call.accumulator.write(state, at + call.offset, blobs, out, column);
    }
  }

  /** Ends a group without rows, and looks for the results that are among its values. */
  void settle(int block) {
    long[] page = groups.page(block);
    int at = groups.state(block);
    boolean ends = page[at] == 0 && groupCount > 0;
    for (Call call : calls) {
      if (call.ordered == null) {
        if (ends) {
          call.accumulator.release(page, at + call.offset, blobs);
        }
      } else if (ends) {
        call.ordered.end(page, at + call.offset);
      } else {
        call.ordered.result(page, at + call.offset);
      }
    }
    if (ends) {
      groups.remove(block);
    }
  }

  /** Lets go of what a group's state refers to, which is about to be removed with its rows. */
  void end(int block) {
    long[] page = groups.page(block);
    int at = groups.state(block);
    for (Call call : calls) {
      if (call.ordered == null) {
        call.accumulator.release(page, at + call.offset, blobs);
      } else {
        call.ordered.drop(page, at + call.offset);
      }
    }
  }

  /** Takes out the values of groups that have ended up to a time. */
  void endValuesUpTo(long time) {
    values.forEach(v -> v.endUpTo(time));
  }

  /** Says that everything up to a time had ended when the state was saved. */
  void restoredEnds(long time) {
    values.forEach(v -> v.restoredEnds(time));
  }

  // ---- checkpoints

  void durable(Consumer<Durable> into) {
    into.accept(saved);
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
        int from = state + call.offset;
        Arrays.fill(page, from, from + GroupValues.STATE_WORDS, 0);
      }
    }
  }

  /** Says that the durable parts were restored. */
  void restored() {
    for (Call call : calls) {
      if (call.ordered != null) {
        call.ordered.restored(groups, keys, call.offset);
      }
    }
  }

  // ---- the graph

  void join(Versions graph) {
    groups.join(graph);
    blobs.join(graph);
    saved.join(graph);
    values.forEach(v -> v.join(graph));
  }

  void close() {
    groups.close();
    blobs.close();
    values.forEach(ValueCounts::close);
  }

  /** Heap held, in bytes. */
  long heapBytes() {
    long bytes = blobs.heapBytes() + groups.heapBytes();
    for (Call call : calls) {
      bytes += call.ordered == null ? 0 : call.ordered.heapBytes();
      bytes += call.distinct == null ? 0 : call.distinct.heapBytes();
    }
    return bytes;
  }
}
