package dripledger.engine.query;

import dripledger.engine.access.Caller;
import dripledger.engine.error.EngineException;
import dripledger.engine.row.Column;
import dripledger.engine.sql.Command;
import dripledger.engine.view.Pinned;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.Deque;
import java.util.List;
import java.util.concurrent.ArrayBlockingQueue;
import java.util.concurrent.BlockingQueue;
import java.util.concurrent.TimeUnit;

/**
 * An answer that is fetched in pieces, all of one epoch: a thread of its own reads a few rows ahead
 * and waits for them to be taken, so that an answer of any size takes little room. Used by one
 * thread; {@link #cancel} is for any.
 */
public final class RowCursor implements AutoCloseable {
  private static final int PIECE = 128; // rows
  private static final int AHEAD = 4; // pieces
  private static final long LOOK_MILLIS = 50;

  private final Command.QueryPlan plan;
  private final Pinned read;
  private final QueryRunner runner;
  private final Runnable whenClosed;
  private final BlockingQueue<List<Object[]>> pieces = new ArrayBlockingQueue<>(AHEAD);
  private final Deque<Object[]> waiting = new ArrayDeque<>();
  private final Thread thread;
  private volatile RunningScripts.Script script;
  private volatile boolean closed;
  private volatile boolean cancelled;
  private volatile RuntimeException failure;
  private boolean ended;

  /**
   * @param text of the query, for those who list what is carried out
   * @param read is closed when all is read
   * @param millis how long it may read, without the time it waits; 0 for as long as any
   * @param whenClosed is run once, by whoever closes it
   */
  public RowCursor(
      Command.QueryPlan plan,
      Pinned read,
      QueryRunner runner,
      String text,
      Caller caller,
      long millis,
      Runnable whenClosed) {
    this.plan = plan;
    this.read = read;
    this.runner = runner;
    this.whenClosed = whenClosed;
    thread =
        new Thread(() -> read(text, caller, millis), Thread.currentThread().getName() + "/rows");
    thread.setDaemon(true);
    thread.start();
  }

  public List<Column> columns() {
    return plan.columns();
  }

  /**
   * The next row; waits for it.
   *
   * @return null if there is none
   * @throws EngineException what the query ended with
   */
  public Object[] next() {
    try {
      while (waiting.isEmpty() && !ended) {
        List<Object[]> piece = pieces.poll(LOOK_MILLIS, TimeUnit.MILLISECONDS);
        if (piece != null) {
          waiting.addAll(piece);
          ended = piece.isEmpty();
        } else if (!thread.isAlive() && pieces.isEmpty()) {
          ended = true; // and could not say so
          failure = failure == null ? new IllegalStateException("its reader ended") : failure;
        }
      }
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new EngineException(EngineException.Code.CANCELLED, "the query was cancelled");
    }
    if (waiting.isEmpty() && failure != null) {
      throw failure;
    }
    return waiting.poll();
  }

  /** Ends it with an error. Safe from any thread. */
  public void cancel() {
    cancelled = true;
    RunningScripts.Script running = script;
    if (running != null) {
      running.cancel();
    }
  }

  /** Ends it, read to its end or not. */
  @Override
  public void close() {
    if (!closed) {
      closed = true;
      cancel();
      whenClosed.run();
    }
  }

  // ---- on its own thread

  private void read(String text, Caller caller, long millis) {
    try (RunningScripts.Script running = runner.scripts().begin(null, text, caller, millis);
        read) {
      script = running;
      if (cancelled) {
        running.cancel();
      }
      running.goOn();
      Ahead ahead = new Ahead(running);
      runner.answer(plan, read.snapshot(), ahead);
      ahead.hand();
    } catch (RuntimeException e) {
      failure = e;
    } catch (Throwable e) { // nobody may take what there was so far for all of it
      failure = new IllegalStateException("a query failed", e);
    }
    try {
      while (!closed && !pieces.offer(List.of(), LOOK_MILLIS, TimeUnit.MILLISECONDS)) {
        Thread.onSpinWait();
      }
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }

  private final class Ahead implements RowSink {
    private final RunningScripts.Script running;
    private List<Object[]> piece = new ArrayList<>(PIECE);

    private Ahead(RunningScripts.Script running) {
      this.running = running;
    }

    @Override
    public void columns(List<Column> columns) {}

    @Override
    public void row(Object[] row) {
      piece.add(row);
      if (piece.size() == PIECE) {
        hand();
      }
    }

    private void hand() {
      long began = System.nanoTime();
      try {
        while (!piece.isEmpty() && !pieces.offer(piece, LOOK_MILLIS, TimeUnit.MILLISECONDS)) {
          running.goOn();
        }
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        throw new EngineException(EngineException.Code.CANCELLED, "the query was cancelled");
      }
      running.waited(System.nanoTime() - began);
      piece = new ArrayList<>(PIECE);
    }
  }
}
