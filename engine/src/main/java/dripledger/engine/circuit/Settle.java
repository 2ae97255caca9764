package dripledger.engine.circuit;

import dripledger.engine.plan.TimeNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import java.util.HashSet;
import java.util.Set;
import java.util.function.Consumer;
import java.util.stream.IntStream;

/**
 * Rows once they can no longer change: with W the watermark, d(σ R) are the rows of R whose time
 * has come under W in this epoch, put in once and for all; or, if they are kept for a time K, less
 * those whose time has come under W − K.
 *
 * <p>Rows that can change no more when they come are put out at once, and only taken out again.
 *
 * <p>State: the rows whose time is still to come, or has come while they are kept, each with how
 * often it is there, and by their times. A change to a row whose time has come is left out and
 * counted.
 */
final class Settle implements Operator {
  private final RowLayout layout;
  private final int time;
  private final long delay;
  private final long keep;
  private final boolean atOnce;
  private final boolean mayBeTimeless;
  private final ValueCounts open;
  private final EndTimes over = new EndTimes(); // with the rows to be put out, if they stay here
  private final Set<Integer> seen = new HashSet<>(); // of these, in one flush
  private final LateRows late;
  private final Page out;
  private final Operator next;
  private final int port;
  private final int[] rows = new int[ColumnDelta.ROWS];

  /**
   * @param next who takes the rows, or null if they stay in {@link #output}
   */
  Settle(TimeNode.Settle plan, Versions versions, LateRows late, Operator next, int port) {
    layout = new RowLayout(plan.schema());
    time = plan.time();
    delay = plan.delayMicros();
    keep = plan.keepMicros();
    atOnce = plan.atOnce();
    mayBeTimeless = plan.schema().type(time).nullable();
    int[] all = IntStream.range(0, layout.columns()).toArray();
    open = new ValueCounts(layout, all, versions);
    open.endBy(time);
    this.late = late;
    out = new Page(layout);
    this.next = next;
    this.port = port;
  }

  @Override
  public void push(int fromPort, Page delta) {
    for (int from = 0; from < delta.size(); from += rows.length) {
      int count = Math.min(rows.length, delta.size() - from);
      for (int i = 0; i < count; i++) {
        rows[i] = delta.start(from + i);
      }
      open.ahead(delta.bytes(), rows, count);
      for (int i = 0; i < count; i++) {
        take(delta, from + i, i);
      }
    }
  }

  private void take(Page delta, int row, int number) {
    long weight = delta.weight(row);
    byte[] bytes = delta.bytes();
    int at = delta.start(row);
    if (weight == 0) {
      return;
    }
    if (mayBeTimeless && layout.isNull(bytes, at, time)) {
      out.append(bytes, at, delta.end(row) - at, weight);
      return;
    }
    long own = layout.slot(bytes, at, time);
    if (over.isOver(own)) {
      if (weight > 0) {
        late.add(over.until() - own, weight, bytes, at);
      }
      return;
    }
    if (atOnce) {
      out.append(bytes, at, delta.end(row) - at, weight);
    }
    long known = open.store().size();
    open.add(number, bytes, at, weight);
    if (keep >= 0 && !atOnce && open.store().size() > known) {
      over.add(own, open.block());
    }
  }

  @Override
  public void flush(Epoch epoch) {
    long upTo = EndTimes.upTo(epoch.watermarkMicros(), delay);
    if (atOnce) {
      long until = EndTimes.upTo(upTo, keep);
      over.endUpTo(until, block -> {});
      open.endUpTo(until, block -> put(block, -1));
    } else if (keep < 0) {
      over.endUpTo(upTo, block -> {});
      open.endUpTo(upTo, block -> put(block, 1));
    } else {
      over.endUpTo(upTo, this::settled);
      seen.clear();
      open.endUpTo(EndTimes.upTo(upTo, keep), block -> put(block, -1));
    }
    if (next != null && !out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }

  /** A block that was noted when it came: by now it may be of another row, or noted twice. */
  private void settled(int block) {
    if (open.store().isLive(block) && over.isOver(open.time(block)) && seen.add(block)) {
      put(block, 1);
    }
  }

  private void put(int block, int sign) {
    long[] page = open.store().page(block);
    long copies = page[open.store().state(block)];
    if (copies < 0) {
      throw new IllegalStateException("a row was taken out more often than it was put in");
    }
    byte[] row = open.keys().row(page, open.store().header(block) + 1);
    out.append(row, 0, row.length, sign * copies);
    if (sign < 0) {
      out.mark(out.size() - 1, Page.EXPIRED);
    }
  }

  /** Where rows are gathered, if nobody takes them; the owner clears it. */
  Page output() {
    return out;
  }

  @Override
  public void durable(Consumer<Durable> into) {
    open.durable(into);
  }

  @Override
  public void join(Versions graph) {
    open.join(graph);
  }

  @Override
  public void close() {
    open.close();
  }

  @Override
  public void restored(long watermark) {
    long upTo = EndTimes.upTo(watermark, delay);
    over.restored(atOnce ? EndTimes.upTo(upTo, keep) : upTo);
    open.restoredEnds(keep < 0 ? upTo : EndTimes.upTo(upTo, keep));
    for (int block = 0; keep >= 0 && !atOnce && block < open.store().blockLimit(); block++) {
      if (open.store().isLive(block) && !over.isOver(open.time(block))) {
        over.add(open.time(block), block);
      }
    }
  }

  @Override
  public long stateBytes() {
    return open.heapBytes() + over.heapBytes();
  }

  @Override
  public long stateKeys() {
    return open.store().size();
  }
}
