package dripledger.engine.circuit;

import dripledger.engine.plan.TimeNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.SortKey;
import dripledger.engine.state.Durable;
import dripledger.engine.store.IntList;
import dripledger.engine.store.Versions;
import dripledger.engine.time.Watermark;
import java.util.Arrays;
import java.util.List;
import java.util.function.Consumer;

/**
 * Rows with the beginning of their session: rows of a partition belong together as long as none is
 * a whole gap behind the one before. A row that comes or goes changes the beginning of those behind
 * it that it joins to others or parts from them, and of no other; one that comes last costs the
 * search for its place.
 *
 * <p>State: the rows of the input, by partition in the order of time ({@link OrderedRows}), and the
 * beginning of each one's session, which is not saved: it follows. A session that no row in time
 * can lengthen any more is forgotten; its rows stay, or are taken out some time later if the plan
 * says so.
 */
final class Sessions implements Operator {
  private static final int CHUNK = 256;

  private final OrderedRows rows;
  private final int time;
  private final long gap;
  private final long delay; // −1 if nothing ends
  private final long withdraw; // −1 for never
  private final RowEnds ends;
  private final boolean once;
  private final Page out;
  private final Operator next;
  private final int port;
  private long[] starts = new long[64]; // of a row's session, by block
  private long watermark = Watermark.NONE; // of the flush before
  private int count;
  private int[] blocks = new int[64];
  private long[] changes = new long[64]; // by how much a row is there more often
  private final int[] chunk = new int[CHUNK];
  private final IntList session = new IntList();

  Sessions(TimeNode.Sessions plan, Versions versions, Operator next, int port) {
    RowLayout input = new RowLayout(plan.input().schema());
    time = plan.time();
    gap = plan.gapMicros();
    delay = plan.delayMicros();
    withdraw = plan.withdrawMicros();
    SortKey byTime = new SortKey(time, false, false);
    rows = new OrderedRows(input, plan.partition(), List.of(byTime), versions);
    ends = new RowEnds(rows, time);
    once = versions.isOnce();
    out = new Page(new RowLayout(plan.schema()));
    this.next = next;
    this.port = port;
  }

  @Override
  public void push(int fromPort, Page delta) {
    rows.add(delta);
  }

  @Override
  public void flush(Epoch epoch) {
    if (rows.store.hasChanges()) {
      count = 0;
      rows.changes(this::note);
      takeIn();
    }
    if (delay >= 0) {
      long behind = 2 * gap + delay + Math.max(0, withdraw);
      // What is taken out at once must have been put out for good before: so at the next flush.
      long upTo = withdraw == 0 ? watermark : epoch.watermarkMicros();
      ends.endUpTo(EndTimes.upTo(upTo, behind), this::end);
      watermark = epoch.watermarkMicros();
    }
    rows.forgetRow();
    handOn();
  }

  private void note(int block, long before, long now) {
    if (before == 0 && ends.drops(block)) {
      return; // what it belonged to has been forgotten
    }
    OrderedRows.check(now);
    if (count == blocks.length) {
      blocks = Arrays.copyOf(blocks, count * 2);
      changes = Arrays.copyOf(changes, count * 2);
    }
    blocks[count] = block;
    changes[count++] = now - before;
  }

  private void takeIn() {
    Integer[] order = new Integer[count];
    Arrays.setAll(order, i -> i);
    if (once) { // who is fed once is told of nothing that is taken back: in order nothing is
      Arrays.sort(order, (a, b) -> Long.compare(at(a), at(b)));
    }
    for (int i : order) {
      int block = blocks[i];
      int partition = rows.partitionOf(block);
      long at = rows.slot(block, time);
      if (changes[i] > 0) {
        come(partition, block, at, changes[i]);
      } else {
        go(partition, block, -changes[i]);
      }
      if (out.size() >= ColumnDelta.ROWS) {
        handOn();
      }
    }
  }

  private long at(int change) {
    return rows.slot(blocks[change], time);
  }

  private void come(int partition, int block, long at, long times) {
    long sortKey = rows.sortKey(block);
    boolean known = rows.weight(block) > times;
    rows.insert(partition, sortKey, block, times);
    if (!known) {
      int place = rows.runs.rank(rows.run(partition), sortKey, block);
      long start = startBehind(partition, place, at);
      start(block, start);
      if (delay >= 0) {
        ends.note(block);
      }
      put(block, start, times);
      meet(partition, place + (int) times, block, at);
    } else {
      put(block, starts[block], times);
    }
  }

  private void go(int partition, int block, long times) {
    long sortKey = rows.sortKey(block);
    put(block, starts[block], -times);
    int place = rows.runs.rank(rows.run(partition), sortKey, block);
    rows.remove(partition, sortKey, block, times);
    if (rows.weight(block) == 0) {
      rows.store.remove(block);
      if (place < rows.runs.size(rows.run(partition))) {
        int behind = at(partition, place);
        long its = rows.slot(behind, time);
        move(partition, place, behind, startBehind(partition, place, its));
      }
      rows.dropIfEmpty(partition);
    }
  }

  /** When the session of a row at a place begins, which stands at that time. */
  private long startBehind(int partition, int place, long at) {
    if (place > 0) {
      int before = at(partition, place - 1);
      if (at - rows.slot(before, time) < gap) {
        return starts[before];
      }
    }
    return at;
  }

  /** What stands behind a row that has come is of its session if it is near enough. */
  private void meet(int partition, int place, int block, long at) {
    if (place < rows.runs.size(rows.run(partition))) {
      int behind = at(partition, place);
      if (rows.slot(behind, time) - at < gap) {
        move(partition, place, behind, starts[block]);
      }
    }
  }

  /** Has the rest of a session, from a row on, begin at another time. */
  private void move(int partition, int place, int first, long start) {
    long old = starts[first];
    if (old == start) {
      return;
    }
    long run = rows.run(partition);
    int from = place;
    int last = -1;
    while (true) {
      int read = rows.runs.read(run, from, chunk, 0, CHUNK);
      for (int i = 0; i < read; i++) {
        int block = chunk[i];
        if (block != last && starts[block] != old) {
          return;
        }
        put(
            block, old,
            -1); // a row stands as often as it was put out, whatever is still to be done
        put(block, start, 1);
        starts[block] = start;
        last = block;
      }
      if (read == 0) {
        return;
      }
      from += read;
    }
  }

  private int at(int partition, int place) {
    rows.runs.read(rows.run(partition), place, chunk, 0, 1);
    return chunk[0];
  }

  private void start(int block, long start) {
    if (block >= starts.length) {
      starts = Arrays.copyOf(starts, Math.max(block + 1, starts.length * 2));
    }
    starts[block] = start;
  }

  /** A row whose time has come: if it is the last of its session, that is over. */
  private void end(int block) {
    int partition = rows.partitionOf(block);
    long run = rows.run(partition);
    int place = rows.runs.rank(run, rows.sortKey(block), block);
    int behind = place + (int) rows.weight(block);
    if (behind < rows.runs.size(run) && starts[at(partition, behind)] == starts[block]) {
      return;
    }
    int members = 0;
    for (int at = behind - 1; at >= 0; ) {
      int each = at(partition, at);
      if (starts[each] != starts[block]) {
        break;
      }
      session.grow(members);
      session.set(members++, each);
      at -= (int) rows.weight(each);
    }
    for (int i = 0; i < members; i++) {
      int each = session.get(i);
      if (withdraw >= 0) {
        put(each, starts[each], -rows.weight(each));
      }
      rows.forget(partition, rows.sortKey(each), each, rows.weight(each));
      if (out.size() >= ColumnDelta.ROWS) {
        handOn();
      }
    }
    rows.dropIfEmpty(partition);
  }

  private void put(int block, long start, long weight) {
    RowWriter writer = out.begin();
    rows.write(block, writer);
    writer.setLong(rows.layout.columns(), start);
    out.commit(weight);
  }

  private void handOn() {
    if (!out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }

  @Override
  public void durable(Consumer<Durable> into) {
    into.accept(rows.saved());
  }

  @Override
  public void join(Versions graph) {
    rows.join(graph);
  }

  @Override
  public void close() {
    rows.close();
  }

  @Override
  public void restored(long lastWatermark) {
    rows.restored();
    watermark = lastWatermark;
    for (int block = 0; block < rows.store.ownLimit(); block++) {
      if (rows.store.isLive(block)) {
        restoreStarts(rows.partitionOf(block));
      }
    }
    if (delay >= 0) {
      ends.restored(Watermark.NONE);
    }
    rows.forgetRow();
  }

  /** Finds the sessions of a partition, if that has not been done. */
  private void restoreStarts(int partition) {
    long run = rows.run(partition);
    int first = rows.runs.first(run);
    if (first < starts.length && starts[first] == rows.slot(first, time)) {
      return;
    }
    long start = 0;
    long before = 0;
    int size = rows.runs.size(run);
    for (int from = 0; from < size; ) {
      int read = rows.runs.read(run, from, chunk, 0, CHUNK);
      for (int i = 0; i < read; i++) {
        long at = rows.slot(chunk[i], time);
        start = from + i == 0 || at - before >= gap ? at : start;
        before = at;
        start(chunk[i], start);
      }
      from += read;
    }
  }

  @Override
  public long stateBytes() {
    return rows.heapBytes() + ends.heapBytes() + 8L * starts.length;
  }

  @Override
  public long stateKeys() {
    return rows.store.size();
  }
}
