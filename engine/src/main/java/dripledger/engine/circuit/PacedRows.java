package dripledger.engine.circuit;

import dripledger.engine.plan.Paced;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import java.util.function.Consumer;
import java.util.stream.IntStream;

/**
 * The changes of two inputs, each row held back until the current time passes a multiple of a span,
 * or the watermark the row's own time: what one input takes out of a row and the other puts in by
 * then is nothing.
 *
 * <p>State: the rows that have changed since, each with by how much, and by their times.
 */
final class PacedRows implements Operator {
  private static final int BATCH = ColumnDelta.ROWS;

  private final RowLayout layout;
  private final int time;
  private final long delay;
  private final long every;
  private final boolean mayBeTimeless;
  private final ValueCounts pending;
  private final EndTimes over = new EndTimes();
  private final Page out;
  private final Page coming; // what is put out besides, behind what goes
  private final Operator next;
  private final int port;
  private final int[] rows = new int[BATCH];
  private long turn = Epoch.NEVER; // which multiple was passed last

  /**
   * @param next who takes the rows, or null if they stay in {@link #output}
   */
  PacedRows(Paced plan, Versions versions, Operator next, int port) {
    layout = new RowLayout(plan.schema());
    time = plan.time();
    delay = plan.delayMicros();
    every = plan.everyMicros();
    mayBeTimeless = plan.schema().type(time).nullable();
    pending = new ValueCounts(layout, IntStream.range(0, layout.columns()).toArray(), versions);
    pending.endBy(time);
    out = new Page(layout);
    coming = new Page(layout);
    this.next = next;
    this.port = port;
  }

  @Override
  public void push(int fromPort, Page delta) {
    for (int from = 0; from < delta.size(); from += BATCH) {
      int count = Math.min(BATCH, delta.size() - from);
      for (int i = 0; i < count; i++) {
        rows[i] = delta.start(from + i);
      }
      pending.ahead(delta.bytes(), rows, count);
      for (int i = 0; i < count; i++) {
        long weight = delta.weight(from + i);
        boolean timeless = mayBeTimeless && layout.isNull(delta.bytes(), rows[i], time);
        if (timeless || over.isOver(layout.slot(delta.bytes(), rows[i], time))) {
          out.append(delta.bytes(), rows[i], delta.end(from + i) - rows[i], weight);
        } else if (weight != 0) {
          pending.add(i, delta.bytes(), rows[i], weight);
        }
      }
    }
  }

  @Override
  public void flush(Epoch epoch) {
    long upTo = EndTimes.upTo(epoch.watermarkMicros(), delay);
    over.endUpTo(upTo, block -> {});
    pending.endUpTo(upTo, this::put);
    if (epoch.currentMicros() != Epoch.NEVER) {
      long now = Math.floorDiv(epoch.currentMicros(), every);
      if (now > turn) {
        turn = now;
        pending.endAll(this::put);
      }
    }
    out.appendAll(coming);
    coming.clear();
    if (next != null && !out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }

  private void put(int block) {
    long[] page = pending.store().page(block);
    long weight = page[pending.store().state(block)];
    byte[] row = pending.keys().row(page, pending.store().header(block) + 1);
    (weight < 0 ? out : coming).append(row, 0, row.length, weight);
  }

  /** Where rows are gathered, if nobody takes them; the owner clears it. */
  Page output() {
    return out;
  }

  @Override
  public long dueMicros() {
    return pending.store().size() == 0 || turn == Epoch.NEVER ? Long.MAX_VALUE : (turn + 1) * every;
  }

  @Override
  public void durable(Consumer<Durable> into) {
    pending.durable(into);
  }

  @Override
  public void join(Versions graph) {
    pending.join(graph);
  }

  @Override
  public void close() {
    pending.close();
  }

  @Override
  public void restored(long watermark, long currentMicros) {
    long upTo = EndTimes.upTo(watermark, delay);
    over.restored(upTo);
    pending.restoredEnds(upTo);
    turn = currentMicros == Epoch.NEVER ? Epoch.NEVER : Math.floorDiv(currentMicros, every);
  }

  @Override
  public long stateBytes() {
    return pending.heapBytes();
  }

  @Override
  public long stateKeys() {
    return pending.store().size();
  }
}
