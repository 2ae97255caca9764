package dripledger.engine.circuit;

import dripledger.engine.plan.Ending;
import dripledger.engine.plan.Nearest;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import java.util.Arrays;
import java.util.function.Consumer;

/**
 * Each row of one kind with the nearest row of another; see {@link Nearest}.
 *
 * <p>State: the rows of both kinds by key in their order ({@link OrderedRows}, a partition for each
 * kind of a key). A row of the first kind costs a search; one of the second a search, and the rows
 * of the first between it and its neighbour, which are put out anew. Changes of the second kind
 * come first, so that who is fed once takes nothing back.
 *
 * <p>If the watermark speaks of the order, a row of the first kind is forgotten once it has its
 * second for good, and of the second kind the last that it has passed is kept and those ahead of
 * it.
 */
final class NearestRows implements Operator {
  private static final int CHUNK = 256;
  private static final int NONE = -1;

  private final Nearest plan;
  private final OrderedRows rows;
  private final int time;
  private final int[] keys;
  private final long second; // what the second kind has in its column
  private final Ending ending; // or null
  private final RowEnds ends;
  private final Page out;
  private final int[] outputs;
  private final Operator next;
  private final int port;
  private int count; // changes of a flush
  private int[] blocks = new int[64];
  private long[] changes = new long[64];
  private final int[] chunk = new int[CHUNK];

  NearestRows(Nearest plan, Versions versions, Operator next, int port) {
    this.plan = plan;
    this.next = next;
    this.port = port;
    rows =
        new OrderedRows(
            new RowLayout(plan.input().schema()), plan.partition(), plan.order(), versions);
    time = plan.time();
    keys = plan.keys().stream().mapToInt(i -> i).toArray();
    outputs = plan.outputs().stream().mapToInt(i -> i).toArray();
    second = plan.secondKind();
    ending = plan.ending();
    ends = ending == null ? null : new RowEnds(rows, time);
    out = new Page(new RowLayout(plan.schema()));
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
      for (int i = 0; i < count; i++) {
        if (!isFirst(blocks[i]) && !isAlone(blocks[i])) {
          second(blocks[i], changes[i]);
        }
      }
      for (int i = 0; i < count; i++) {
        if (isFirst(blocks[i])) {
          first(blocks[i], changes[i]);
        }
      }
      for (int i = 0; i < count; i++) {
        rows.dropIfGone(blocks[i]);
      }
    }
    if (ends != null) {
      ends.endUpTo(EndTimes.upTo(epoch.watermarkMicros(), ending.delayMicros()), this::end);
    }
    rows.forgetRow();
    handOn();
  }

  private void note(int block, long was, long is) {
    if (ends != null && was == 0) {
      if (ends.drops(block)) {
        return;
      }
      ends.note(block);
    }
    OrderedRows.check(is);
    if (count == blocks.length) {
      blocks = Arrays.copyOf(blocks, 2 * count);
      changes = Arrays.copyOf(changes, 2 * count);
    }
    blocks[count] = block;
    changes[count++] = is - was;
  }

  private boolean isFirst(int block) {
    return rows.slot(block, plan.kind()) == Nearest.FIRST;
  }

  /** Whether a row is near to none, whatever there is. */
  private boolean isAlone(int block) {
    for (int key : keys) {
      if (rows.isNull(block, key)) {
        return true;
      }
    }
    return rows.isNull(block, time);
  }

  private void first(int block, long change) {
    if (isAlone(block)) {
      put(block, NONE, change);
      return;
    }
    put(block, nearest(block), change);
    int partition = rows.partitionOf(block);
    if (change > 0) {
      rows.insert(partition, rows.sortKey(block), block, change);
    } else {
      rows.remove(partition, rows.sortKey(block), block, -change);
      rows.dropIfEmpty(partition);
    }
  }

  /** The row of the second kind that is nearest to one of the first, or {@link #NONE}. */
  private int nearest(int block) {
    int partition = rows.partitionBeside(block, plan.kind(), second);
    return partition < 0 ? NONE : at(partition, place(partition, block) - (plan.before() ? 1 : 0));
  }

  /** How many rows of a partition are before a row. */
  private int place(int partition, int block) {
    return rows.runs.rank(rows.run(partition), rows.sortKey(block), block);
  }

  private int at(int partition, int place) {
    long run = rows.run(partition);
    if (place < 0 || place >= rows.runs.size(run)) {
      return NONE;
    }
    rows.runs.read(run, place, chunk, 0, 1);
    return chunk[0];
  }

  /**
   * A row of the second kind that was not there, or is no longer: how often makes no difference.
   */
  private void second(int block, long change) {
    long is = rows.weight(block);
    if (is > 0 && is > change) {
      return;
    }
    int partition = rows.partitionOf(block);
    int place = place(partition, block);
    boolean comes = change > 0;
    if (!comes) {
      rows.remove(partition, rows.sortKey(block), block, 1);
    }
    int before = at(partition, place - 1);
    int behind = at(partition, place);
    if (comes) {
      rows.insert(partition, rows.sortKey(block), block, 1);
    }
    int firsts = rows.partitionBeside(block, plan.kind(), Nearest.FIRST);
    if (firsts >= 0) {
      int own = place(firsts, block);
      int all = rows.runs.size(rows.run(firsts));
      int from = plan.before() ? own : before == NONE ? 0 : place(firsts, before);
      int to = !plan.before() ? own : behind == NONE ? all : place(firsts, behind);
      int other = plan.before() ? before : behind;
      move(firsts, from, to, comes ? other : block, comes ? block : other);
    }
    rows.dropIfEmpty(partition);
  }

  /** Gives rows of the first kind another of the second. */
  private void move(int partition, int from, int to, int old, int now) {
    int[] read = new int[Math.min(CHUNK, Math.max(0, to - from))];
    for (int at = from; at < to; ) {
      int got = rows.runs.read(rows.run(partition), at, read, 0, Math.min(read.length, to - at));
      for (int i = 0; i < got; i++) {
        put(read[i], old, -1);
        put(read[i], now, 1);
      }
      at += got;
    }
  }

  private void put(int first, int nearest, long weight) {
    if (nearest == NONE && !plan.outer()) {
      return;
    }
    RowWriter writer = out.begin();
    for (int i = 0; i < outputs.length; i++) {
      int of = i < plan.firstOutputs() ? first : nearest;
      if (of == NONE) {
        writer.setNull(i);
      } else {
        rows.copy(of, outputs[i], writer, i);
      }
    }
    out.commit(weight);
    if (out.size() >= ColumnDelta.ROWS) {
      handOn();
    }
  }

  private void handOn() {
    if (!out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }

  /** What the watermark has passed. */
  private void end(int block) {
    int partition = rows.partitionOf(block);
    if (isAlone(block)) {
      rows.drop(block);
    } else if (isFirst(block)) {
      rows.forget(partition, rows.sortKey(block), block, rows.weight(block));
    } else {
      for (int each; (each = rows.runs.first(rows.run(partition))) != block; ) {
        rows.remove(partition, rows.sortKey(each), each, 1);
        rows.drop(each);
      }
    }
    rows.dropIfEmpty(partition);
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
  public void restored(long watermark) {
    for (int block = 0; block < rows.store.ownLimit(); block++) {
      if (rows.store.isLive(block) && !isAlone(block)) {
        long times = isFirst(block) ? rows.weight(block) : 1;
        rows.insert(rows.partitionOf(block), rows.sortKey(block), block, times);
      }
    }
    if (ends != null) {
      ends.restored(EndTimes.upTo(watermark, ending.delayMicros()));
    }
    rows.forgetRow();
  }

  @Override
  public long stateBytes() {
    return rows.heapBytes() + (ends == null ? 0 : ends.heapBytes());
  }

  @Override
  public long stateKeys() {
    return rows.store.size();
  }
}
