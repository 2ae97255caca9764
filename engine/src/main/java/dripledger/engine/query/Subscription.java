package dripledger.engine.query;

import dripledger.engine.circuit.ChangeListener;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import java.nio.ByteBuffer;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.TimeUnit;

/**
 * A followed query: first the whole answer, then what changed, epoch by epoch. Filled by the epoch
 * loop, read by one thread with {@link #poll}. A reader that falls too far behind is cut off
 * instead of slowing the others.
 */
public final class Subscription implements ChangeListener, AutoCloseable {
  /** A row that came (+n) or went (−n). */
  public record Change(Object[] row, long weight) {}

  /**
   * What happened in one epoch: rows that went before rows that came.
   *
   * @param snapshot whether this is the whole answer, and not a change to an earlier one
   */
  public record Batch(long epoch, boolean snapshot, List<Change> changes) {}

  private final List<Column> columns;
  private final RowLayout layout;
  private final int maxRows;
  private final ArrayDeque<Batch> waiting = new ArrayDeque<>();
  private int waitingRows;
  private boolean started;
  private String ended;
  private Runnable onClose = () -> {};
  private Runnable onReady = () -> {};

  public Subscription(List<Column> columns, RowLayout layout, int maxRows) {
    this.columns = columns;
    this.layout = layout;
    this.maxRows = maxRows;
  }

  public List<Column> columns() {
    return columns;
  }

  public void onClose(Runnable action) {
    onClose = action;
  }

  /**
   * What to do whenever {@link #poll} would answer at once; done on the epoch loop's thread, so it
   * must be quick. Also done now, for what came before.
   */
  public void onReady(Runnable action) {
    synchronized (this) {
      onReady = action;
    }
    action.run();
  }

  /** Adds up the page's changes by row, so that what came and went in one epoch is not seen. */
  List<Change> net(Page page) {
    Map<ByteBuffer, Long> sums = new LinkedHashMap<>();
    for (int i = 0; i < page.size(); i++) {
      ByteBuffer row =
          ByteBuffer.wrap(java.util.Arrays.copyOfRange(page.bytes(), page.start(i), page.end(i)));
      sums.merge(row, page.weight(i), Long::sum);
    }
    List<Change> gone = new ArrayList<>();
    List<Change> come = new ArrayList<>();
    sums.forEach(
        (row, weight) -> {
          if (weight != 0) {
            (weight < 0 ? gone : come)
                .add(new Change(BoxedRows.read(layout, row.array(), 0), weight));
          }
        });
    gone.addAll(come);
    return gone;
  }

  /** Gives the answer so far; changes that came before this call come behind it. */
  public void first(long epoch, Page answer) {
    Batch batch = new Batch(epoch, true, net(answer));
    synchronized (this) {
      if (ended == null) {
        waiting.addFirst(batch);
      }
      started = true;
      notifyAll();
    }
  }

  @Override
  public void ended(String reason) {
    end(reason);
  }

  @Override
  public void changed(long epoch, Page delta) {
    List<Change> changes = net(delta);
    if (!changes.isEmpty()) {
      add(new Batch(epoch, false, changes));
    }
  }

  private synchronized void add(Batch batch) {
    if (ended != null) {
      return;
    }
    if (waitingRows + batch.changes.size() > maxRows) {
      waiting.clear();
      end("the reader fell more than " + maxRows + " changes behind; follow again");
      return;
    }
    waiting.add(batch);
    waitingRows += batch.changes.size();
    notifyAll();
    onReady.run();
  }

  synchronized void end(String reason) {
    if (ended == null) {
      ended = reason;
      notifyAll();
      onReady.run();
    }
  }

  /** The next batch, or null if none came in time. */
  public synchronized Batch poll(long timeoutMillis) throws InterruptedException {
    long until = System.nanoTime() + TimeUnit.MILLISECONDS.toNanos(timeoutMillis);
    while ((waiting.isEmpty() || !started) && ended == null) {
      long left = TimeUnit.NANOSECONDS.toMillis(until - System.nanoTime());
      if (left <= 0) {
        return null;
      }
      wait(left);
    }
    Batch batch = started ? waiting.poll() : null;
    if (batch != null && !batch.snapshot) {
      waitingRows -= batch.changes.size();
    }
    return batch;
  }

  /** Why nothing more will come, or null. */
  public synchronized String ended() {
    return waiting.isEmpty() ? ended : null;
  }

  @Override
  public void close() {
    end("closed");
    onClose.run();
  }
}
