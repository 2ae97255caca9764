package dripledger.engine.circuit;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.SessionGroups;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.Arrays;
import java.util.function.IntConsumer;

/**
 * The groups of an aggregate that are sessions of what only grows. Each row begins its own; those
 * that it is less than a gap away from become one with it, and their sums are added up: γ(R ∪ S) =
 * γ(R) + γ(S). So rows are not kept, and one that comes last in its partition costs the search for
 * the partition.
 *
 * <p>State: the groups, whose key has the beginning and whose MAX the last time. By partition, the
 * sessions that may still become longer, the newest first; these lists are not saved: they follow.
 * One thread.
 */
final class MergedSessions implements GroupIntake, GroupEnds {
  private static final int BLOCK = 256;

  private final RowLayout input;
  private final GroupKeys keys;
  private final GroupState state;
  private final KeyedStore groups;
  private final AggregateKernel kernel;
  private final GroupMerge merge;
  private final int time; // a column of the input, as which each row begins its session
  private final int start; // the column of the key that is the beginning
  private final int lastWord; // of the state: the last time of a session
  private final long gap;
  private final GroupKeys partitionKeys; // of the input
  private final GroupKeys partitionOfKeys; // of the groups' own key
  private final KeyedStore partitions; // state: the newest session's block, plus 1
  private final long delay; // for a session to be as long as it gets
  private final long stays; // how much longer its group is there; −1 for ever
  private final boolean publishes;
  private final EndTimes open = new EndTimes();
  private final EndTimes ended = new EndTimes();

  private int[] partitionOf = new int[64]; // of a session, by block; −1 if it is in no list
  private int[] older = new int[64]; // the next in the list, by block; −1 for none
  private long[] starts = new long[0]; // by block, of keys that would have to be decoded

  private final long[] partitionWords;
  private final long[] key;
  private final long[] hashes = new long[BLOCK];
  private final int[] found = new int[BLOCK];
  private final int[] blocks = new int[BLOCK];
  private final int[] rows = new int[BLOCK];
  private final long[] weights = new long[BLOCK];
  private int count; // rows whose blocks are known, to be added up

  @SuppressWarnings("unused") // so that loads are not left out
  private long touched;

  MergedSessions(
      PlanNode.Aggregate plan,
      RowLayout input,
      GroupKeys keys,
      GroupState state,
      AggregateKernel kernel,
      Versions versions) {
    this.input = input;
    this.keys = keys;
    this.state = state;
    this.kernel = kernel;
    groups = state.groups();
    merge = new GroupMerge(state.slots());
    SessionGroups.Merged sessions = SessionGroups.merged(plan);
    int last = sessions.last() - plan.groupColumns().size();
    time = plan.calls().get(last).arguments().get(0);
    start = sessions.start();
    lastWord = state.slots().get(last).word() + 1;
    gap = sessions.gapMicros();
    delay = sessions.delayMicros();
    stays = plan.ending() == null ? -1 : plan.ending().delayMicros() - delay;
    publishes = plan.publishesEnds();
    int[] own = new int[plan.groupColumns().size() - 1];
    int[] ofInput = new int[own.length];
    for (int i = 0, n = 0; i <= own.length; i++) {
      if (i != start) {
        own[n] = i;
        ofInput[n++] = plan.groupColumns().get(i);
      }
    }
    partitionKeys = new GroupKeys(input, ofInput);
    partitionOfKeys = partitionKeys.over(keys.layout(), own);
    partitions = new KeyedStore(versions, partitionKeys.words(), 1, own.length == 0 ? 1 : 64);
    partitions.onRelease(partitionKeys::release);
    partitionWords = new long[BLOCK * partitionKeys.words()];
    key = new long[keys.words()];
  }

  // ---- rows that come

  @Override
  public void take(Page delta) {
    for (int from = 0; from < delta.size(); from += BLOCK) {
      take(delta, from, Math.min(BLOCK, delta.size() - from));
    }
  }

  @Override
  public void take(ColumnDelta delta) {
    throw new IllegalStateException("sessions are made of rows");
  }

  private void take(Page delta, int from, int size) {
    byte[] bytes = delta.bytes();
    for (int i = 0; i < size; i++) {
      rows[i] = delta.start(from + i);
    }
    find(bytes, size);
    count = 0;
    for (int i = 0; i < size; i++) {
      long weight = delta.weight(from + i);
      if (weight == 0) {
        continue;
      }
      if (weight < 0) {
        throw new IllegalStateException("a row of what only grows was taken out");
      }
      int row = delta.start(from + i);
      long at = input.slot(bytes, row, time);
      int block = place(partition(bytes, row, i), at, bytes, row);
      groups.change(block);
      long[] page = groups.page(block);
      int word = groups.state(block) + lastWord;
      if (page[word] < at || page[word - 1] == 0) {
        page[word - 1] = 1;
        page[word] = at;
      }
      blocks[count] = block;
      rows[count] = row;
      weights[count++] = weight;
    }
    addUp(bytes);
  }

  /** Looks for the partitions of many rows, so that what they lead to is near. */
  private void find(byte[] bytes, int size) {
    int plain = partitionKeys.plainColumn();
    int words = partitionKeys.words();
    if (plain >= 0) {
      int slot = input.slotOffset(plain);
      for (int i = 0; i < size; i++) {
        partitionWords[i] = Bytes.getLong(bytes, rows[i] + slot);
      }
      partitions.findAhead(partitionWords, hashes, found, size);
    } else {
      partitionKeys.encodeKnown(bytes, rows, size, partitionWords);
      for (int i = 0; i < size; i++) {
        hashes[i] = partitions.hashOf(partitionWords, i * words);
      }
      partitions.findAhead(partitionWords, hashes, found, size, words);
    }
    long seen = 0;
    for (int i = 0; i < size; i++) {
      int head = found[i] < 0 ? -1 : head(found[i]);
      if (head >= 0) {
        seen += groups.page(head)[groups.header(head)];
      }
    }
    touched = seen;
  }

  private int partition(byte[] bytes, int row, int i) {
    int partition = found[i];
    if (partition >= 0 && partitions.isLive(partition)) {
      return partition;
    }
    int at = i * partitionKeys.words();
    if (partition < 0) {
      partitionKeys.encode(bytes, row, partitionWords, at);
      hashes[i] = partitions.hashOf(partitionWords, at);
    }
    return partitions.changeOrInsert(hashes[i], partitionWords, at);
  }

  private void addUp(byte[] bytes) {
    kernel.add(bytes, rows, weights, count, groups, blocks, state);
    count = 0;
  }

  /** The session of a row, made or made longer. */
  private int place(int partition, long at, byte[] bytes, int row) {
    int newer = -1;
    int before = head(partition);
    while (before >= 0 && start(before) > at) {
      newer = before;
      before = older[before];
    }
    boolean joins = before >= 0 && at - last(before) < gap;
    if (newer < 0 || start(newer) - at >= gap) {
      return joins ? before : insert(partition, newer, before, at, bytes, row);
    }
    addUp(bytes); // what is known of the groups is moved with them
    if (!joins) {
      int moved = insert(partition, newer, before, at, bytes, row);
      merge.add(groups.page(newer), groups.state(newer), groups.page(moved), groups.state(moved));
      open.add(last(moved), moved);
      remove(partition, newer);
      return moved;
    }
    groups.change(before);
    merge.add(groups.page(newer), groups.state(newer), groups.page(before), groups.state(before));
    remove(partition, newer);
    return before;
  }

  /** A new session between two of a partition, of which there may be none. */
  private int insert(int partition, int newer, int before, long at, byte[] bytes, int row) {
    keys.encode(bytes, row, key, 0);
    int block = groups.changeOrInsert(groups.hashOf(key, 0), key, 0);
    grow(block);
    if (keys.isVariable()) {
      starts[block] = at;
    }
    open.add(at, block);
    link(partition, newer, before, block);
    return block;
  }

  private void remove(int partition, int block) {
    unlink(partition, block);
    groups.change(block);
    groups.remove(block);
  }

  // ---- the lists of sessions

  private int head(int partition) {
    return (int) partitions.page(partition)[partitions.state(partition)] - 1;
  }

  private void head(int partition, int block) {
    partitions.page(partition)[partitions.state(partition)] = block + 1L;
  }

  private long start(int block) {
    return keys.isVariable()
        ? starts[block]
        : keys.slot(groups.page(block), groups.header(block) + 1, start);
  }

  private long last(int block) {
    return groups.page(block)[groups.state(block) + lastWord];
  }

  private void link(int partition, int newer, int before, int block) {
    partitionOf[block] = partition;
    older[block] = before;
    if (newer < 0) {
      head(partition, block);
    } else {
      older[newer] = block;
    }
  }

  private void unlink(int partition, int block) {
    int each = head(partition);
    if (each == block) {
      head(partition, older[block]);
    } else {
      while (older[each] != block) {
        each = older[each];
      }
      older[each] = older[block];
    }
    partitionOf[block] = -1;
  }

  private void grow(int block) {
    if (block >= older.length) {
      int length = Math.max(block + 1, 2 * older.length);
      partitionOf = Arrays.copyOf(partitionOf, length);
      older = Arrays.copyOf(older, length);
    }
    if (keys.isVariable() && block >= starts.length) {
      starts = Arrays.copyOf(starts, older.length);
    }
  }

  // ---- the end of sessions

  @Override
  public boolean publish() {
    return publishes;
  }

  @Override
  public long over() {
    return Long.MIN_VALUE; // nothing is kept but groups
  }

  @Override
  public void endUpTo(long watermark, IntConsumer sink) {
    open.endUpTo(EndTimes.upTo(watermark, delay), block -> close(block, sink));
    if (stays > 0) {
      long upTo = EndTimes.upTo(watermark, delay + stays);
      ended.endUpTo(upTo, block -> end(block, sink));
    }
  }

  /** A block that was noted when it came: it may be longer by now, gone, or another session's. */
  private void close(int block, IntConsumer sink) {
    if (!groups.isLive(block)) {
      return;
    }
    long last = last(block);
    if (!open.isOver(last)) {
      open.add(last, block);
      return;
    }
    int partition = partitionOf[block];
    if (partition < 0) {
      return;
    }
    unlink(partition, block);
    if (head(partition) < 0) {
      partitions.remove(partition);
    }
    if (stays == 0) {
      sink.accept(block);
    } else if (stays > 0) {
      ended.add(last, block);
    }
  }

  private void end(int block, IntConsumer sink) {
    if (groups.isLive(block) && partitionOf[block] < 0 && ended.isOver(last(block))) {
      sink.accept(block);
    }
  }

  // ---- the graph

  @Override
  public void restored(long watermark) {
    open.restored(EndTimes.upTo(watermark, delay));
    ended.restored(EndTimes.upTo(watermark, delay + Math.max(0, stays)));
    grow(groups.ownLimit());
    for (int block = 0; block < groups.ownLimit(); block++) {
      partitionOf[block] = -1;
      if (!groups.isLive(block)) {
        continue;
      }
      long[] page = groups.page(block);
      long first = keys.slot(page, groups.header(block) + 1, start);
      if (keys.isVariable()) {
        starts[block] = first;
      }
      if (!open.isOver(last(block))) {
        open.add(last(block), block);
        byte[] row = keys.row(page, groups.header(block) + 1);
        partitionOfKeys.encode(row, 0, partitionWords, 0);
        long hash = partitions.hashOf(partitionWords, 0);
        linkInOrder(partitions.changeOrInsert(hash, partitionWords, 0), block, first);
      } else if (stays > 0) {
        ended.add(last(block), block);
      }
    }
  }

  private void linkInOrder(int partition, int block, long first) {
    int newer = -1;
    int before = head(partition);
    while (before >= 0 && start(before) > first) {
      newer = before;
      before = older[before];
    }
    link(partition, newer, before, block);
  }

  @Override
  public void join(Versions graph) {
    partitions.join(graph);
  }

  @Override
  public void close() {
    partitions.close();
  }

  @Override
  public long heapBytes() {
    long lists = 4L * partitionOf.length + 4L * older.length + 8L * starts.length;
    return lists
        + partitions.heapBytes()
        + partitionKeys.heapBytes()
        + open.heapBytes()
        + ended.heapBytes();
  }
}
