package dripledger.engine.circuit;

import dripledger.engine.plan.TimeNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import java.util.HashSet;
import java.util.Set;
import java.util.function.Consumer;
import java.util.stream.IntStream;

/**
 * Rows with whether the current time has reached times of theirs: with t going on from one epoch to
 * the next, d(ρ R) = ρ(t, dR), and for each row of R of whose times t has reached one, the row as
 * it was less once and as it is once more. So the cost is by the row, and none is looked at before
 * its time.
 *
 * <p>State: the rows that have a time still to come, each with how often it is there, and by these
 * times.
 */
final class Reached implements Operator {
  private final RowLayout input;
  private final int kept; // columns of the input that are put out
  private final ValueCounts waiting;
  private final EndTimes times = new EndTimes();
  private final Set<Integer> seen = new HashSet<>(); // in one flush
  private final Page out;
  private final Operator next;
  private final int port;
  private final int[] rows = new int[ColumnDelta.ROWS];
  private long now = Epoch.NEVER;

  Reached(TimeNode.Reached plan, Versions versions, Operator next, int port) {
    input = new RowLayout(plan.input().schema());
    kept = input.columns() - plan.times();
    waiting = new ValueCounts(input, IntStream.range(0, input.columns()).toArray(), versions);
    out = new Page(new RowLayout(plan.schema()));
    this.next = next;
    this.port = port;
  }

  @Override
  public void current(long micros) {
    if (now == Epoch.NEVER) {
      now = micros;
      times.restored(now);
    }
  }

  @Override
  public void push(int fromPort, Page delta) {
    for (int from = 0; from < delta.size(); from += rows.length) {
      int count = Math.min(rows.length, delta.size() - from);
      for (int i = 0; i < count; i++) {
        rows[i] = delta.start(from + i);
      }
      waiting.ahead(delta.bytes(), rows, count);
      for (int i = 0; i < count; i++) {
        if (delta.weight(from + i) != 0) {
          take(delta.bytes(), rows[i], i, delta.weight(from + i));
        }
      }
      handOn();
    }
  }

  private void take(byte[] bytes, int row, int number, long weight) {
    put(bytes, row, now, weight);
    boolean counted = false;
    long known = waiting.store().size();
    for (int c = kept; c < input.columns(); c++) {
      if (!input.isNull(bytes, row, c) && input.slot(bytes, row, c) > now) {
        if (!counted) {
          waiting.add(number, bytes, row, weight);
          counted = true;
        }
        if (waiting.store().size() > known) {
          times.add(input.slot(bytes, row, c), waiting.block());
        }
      }
    }
  }

  /** A row as it is when the current time is this. */
  private void put(byte[] bytes, int row, long when, long weight) {
    RowWriter writer = out.begin();
    for (int c = 0; c < kept; c++) {
      writer.copy(c, input, bytes, row, c);
    }
    for (int c = kept; c < input.columns(); c++) {
      if (input.isNull(bytes, row, c)) {
        writer.setNull(c);
      } else {
        writer.setBoolean(c, input.slot(bytes, row, c) <= when);
      }
    }
    out.commit(weight);
  }

  @Override
  public void flush(Epoch epoch) {
    long before = now;
    if (epoch.currentMicros() <= before) {
      return;
    }
    now = epoch.currentMicros();
    seen.clear();
    times.endUpTo(
        now,
        block -> {
          if (waiting.store().isLive(block) && seen.add(block)) {
            goOn(block, before);
          }
        });
    handOn();
  }

  /** A block that was noted with a time: by now it may be of another row. */
  private void goOn(int block, long before) {
    long[] page = waiting.store().page(block);
    long copies = page[waiting.store().state(block)];
    byte[] row = waiting.keys().row(page, waiting.store().header(block) + 1);
    boolean reached = false;
    boolean waits = false;
    for (int c = kept; c < input.columns(); c++) {
      if (!input.isNull(row, 0, c)) {
        long time = input.slot(row, 0, c);
        reached |= time > before && time <= now;
        waits |= time > now;
      }
    }
    if (reached) {
      put(row, 0, before, -copies);
      put(row, 0, now, copies);
    }
    if (!waits) {
      waiting.store().remove(block);
    }
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

  @Override
  public long dueMicros() {
    return times.first();
  }

  @Override
  public void durable(Consumer<Durable> into) {
    waiting.durable(into);
  }

  @Override
  public void join(Versions graph) {
    waiting.join(graph);
  }

  @Override
  public void close() {
    waiting.close();
  }

  @Override
  public void restored(long watermark, long currentMicros) {
    now = currentMicros;
    times.restored(now);
    for (int block = 0; block < waiting.store().blockLimit(); block++) {
      if (waiting.store().isLive(block)) {
        byte[] row =
            waiting.keys().row(waiting.store().page(block), waiting.store().header(block) + 1);
        for (int c = kept; c < input.columns(); c++) {
          if (!input.isNull(row, 0, c) && input.slot(row, 0, c) > now) {
            times.add(input.slot(row, 0, c), block);
          }
        }
      }
    }
  }

  @Override
  public long stateBytes() {
    return waiting.heapBytes() + times.heapBytes();
  }

  @Override
  public long stateKeys() {
    return waiting.store().size();
  }
}
