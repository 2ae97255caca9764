package dripledger.engine.upkeep;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Upkeep;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.Refreshed;
import dripledger.engine.circuit.Refresher;
import dripledger.engine.definition.Definitions;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.query.Result;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.time.Arrival;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CompletionException;
import java.util.concurrent.Executors;
import java.util.concurrent.ScheduledExecutorService;
import java.util.concurrent.ScheduledFuture;
import java.util.concurrent.TimeUnit;
import java.util.function.LongSupplier;
import java.util.function.Supplier;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Refreshes views when they are due, or when somebody asks, and writes down what upkeep did. Safe
 * from any thread.
 */
public final class Upkeeper implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(Upkeeper.class);
  private static final long LOOK_MILLIS = 100;
  private static final long WRITE_EVERY = 50; // looks
  private static final int MOST_UNWRITTEN = 10_000; // of runs, and of minutes

  private final Definitions definitions;
  private final EpochLoop loop;
  private final UpkeepHistory history;
  private final LongSupplier nowMicros;
  private final Supplier<CompletableFuture<Void>> checkpoint;
  private final Freshness freshness;
  private long looks; // of its own thread
  private final List<UpkeepHistory.Run> unwritten = new ArrayList<>();
  private final List<UpkeepHistory.Minute> minutes = new ArrayList<>(); // unwritten, too
  private final Map<Long, CompletableFuture<UpkeepHistory.Run>> running = new HashMap<>();
  private final Object writing = new Object();
  private final ScheduledExecutorService schedule =
      Executors.newSingleThreadScheduledExecutor(task -> new Thread(task, "upkeep"));

  /**
   * @param nowMicros the time of day, in microseconds since 1970
   * @param checkpoint makes what was done outlive the process
   */
  public Upkeeper(
      Definitions definitions,
      EpochLoop loop,
      UpkeepHistory history,
      LongSupplier nowMicros,
      Supplier<CompletableFuture<Void>> checkpoint) {
    this.definitions = definitions;
    this.loop = loop;
    this.history = history;
    this.nowMicros = nowMicros;
    this.checkpoint = checkpoint;
    freshness = new Freshness(this::wanted);
    loop.onShown(freshness::shown);
  }

  private long wanted(long view) {
    return definitions.catalog().find(view) instanceof CatalogObject.MaterializedView m
        ? m.upkeep().freshMicros()
        : 0;
  }

  /** Begins to look what is due. */
  public void start() {
    ScheduledFuture<?> ignored =
        schedule.scheduleWithFixedDelay(this::look, 0, LOOK_MILLIS, TimeUnit.MILLISECONDS);
  }

  private void look() {
    if (++looks % WRITE_EVERY == 0) {
      write();
    }
    try {
      for (CatalogObject object : definitions.catalog().all()) {
        if (object instanceof CatalogObject.MaterializedView view
            && definitions.node(view.id()) instanceof QueryNode node
            && node.refresher() != null
            && node.failure() == null) {
          String cause = due(view.upkeep(), node.refresher());
          if (cause != null) {
            CompletableFuture<UpkeepHistory.Run> ignored = refresh(view, node, cause);
          }
        }
      }
    } catch (RuntimeException e) {
      LOG.warn("upkeep is late: {}", e.getMessage());
    }
  }

  /** Why a view is to be refreshed now, or null. */
  private String due(Upkeep upkeep, Refresher refresher) {
    long last = refresher.lastMicros();
    if (last == Arrival.NONE) {
      return null; // it has not been shown at all yet
    }
    long now = nowMicros.getAsLong();
    if (upkeep.next(last) <= now) {
      return "due";
    }
    if (refresher.isFull()) {
      return "full";
    }
    long since = refresher.waitsSince();
    // Half of it, so that there is time to do it.
    return upkeep.freshMicros() > 0
            && refresher.waitingRows() > 0
            && now - since >= upkeep.freshMicros() / 2
        ? "fresh_within"
        : null;
  }

  /** Has a view refreshed, unless it is about to be; one that comes later counts for this cause. */
  private synchronized CompletableFuture<UpkeepHistory.Run> refresh(
      CatalogObject.MaterializedView view, QueryNode node, String cause) {
    boolean asked = cause.equals("asked");
    CompletableFuture<UpkeepHistory.Run> other = running.get(view.id());
    if (other != null && !asked) {
      return other;
    }
    CompletableFuture<UpkeepHistory.Run> done = new CompletableFuture<>();
    running.put(view.id(), done);
    Telling telling = new Telling(view.id(), cause, done);
    CompletableFuture<Long> ignored =
        loop.between(() -> node.refresher().ask(telling))
            .whenComplete(
                (epoch, e) -> {
                  if (e != null) {
                    forget(view.id(), done);
                    done.completeExceptionally(e);
                  }
                });
    return done;
  }

  private synchronized void forget(long view, CompletableFuture<UpkeepHistory.Run> done) {
    running.remove(view, done);
  }

  /** Writes down what became of a refresh. */
  private final class Telling implements Refreshed.Listener {
    private final long view;
    private final String cause;
    private final CompletableFuture<UpkeepHistory.Run> done;

    Telling(long view, String cause, CompletableFuture<UpkeepHistory.Run> done) {
      this.view = view;
      this.cause = cause;
      this.done = done;
    }

    @Override
    public void done(Refreshed r, long epoch) {
      UpkeepHistory.Run run =
          new UpkeepHistory.Run(
              view,
              BoxedRows.timestamp(r.beganMicros()),
              cause,
              epoch,
              r.read(),
              r.added(),
              r.removed(),
              r.unchanged(),
              r.late(),
              r.rejected(),
              TimeUnit.NANOSECONDS.toMicros(r.nanos()),
              null);
      note(run);
      forget(view, done);
      done.complete(run);
    }

    @Override
    public void failed(String reason) {
      note(
          new UpkeepHistory.Run(
              view,
              BoxedRows.timestamp(nowMicros.getAsLong()),
              cause,
              0,
              0,
              0,
              0,
              0,
              0,
              0,
              0,
              reason));
      forget(view, done);
      done.completeExceptionally(new EngineException(Code.FAILED, reason, null));
    }
  }

  private void note(UpkeepHistory.Run run) {
    synchronized (unwritten) {
      if (unwritten.size() < MOST_UNWRITTEN) {
        unwritten.add(run);
      }
    }
  }

  /** The epoch loop never waits for this: it asks a database. */
  private void write() {
    synchronized (writing) {
      List<UpkeepHistory.Run> runs;
      synchronized (unwritten) {
        runs = List.copyOf(unwritten);
      }
      List<UpkeepHistory.Minute> past;
      synchronized (minutes) {
        minutes.addAll(freshness.take());
        if (minutes.size() > MOST_UNWRITTEN) {
          minutes.subList(0, minutes.size() - MOST_UNWRITTEN).clear();
        }
        past = List.copyOf(minutes);
      }
      try {
        if (!runs.isEmpty() || !past.isEmpty()) {
          history.add(runs, past);
        }
        synchronized (unwritten) {
          unwritten.subList(0, runs.size()).clear();
        }
        synchronized (minutes) {
          minutes.subList(0, past.size()).clear();
        }
      } catch (RuntimeException e) {
        LOG.warn("the history of upkeep cannot be written: {}", e.getMessage());
      }
    }
  }

  /** What was done, oldest first, as far as it is kept. */
  public List<UpkeepHistory.Run> runs() {
    List<UpkeepHistory.Run> all = new ArrayList<>();
    history.runs(all::add);
    synchronized (unwritten) {
      all.addAll(unwritten);
    }
    return all;
  }

  /** How fresh views were, oldest first, as far as it is kept, and are in this minute. */
  public List<UpkeepHistory.Minute> minutes() {
    List<UpkeepHistory.Minute> all = new ArrayList<>();
    history.minutes(all::add);
    synchronized (minutes) {
      all.addAll(minutes);
    }
    all.addAll(freshness.current());
    return all;
  }

  /** Refreshes a view and answers what that did, once it outlives the process. */
  public Result refresh(String name) {
    CatalogObject.MaterializedView view =
        (CatalogObject.MaterializedView) definitions.catalog().find(name);
    QueryNode node = (QueryNode) definitions.node(view.id());
    if (node.failure() != null) {
      throw new EngineException(Code.FAILED, name + " has stopped: " + node.failure(), null);
    }
    if (node.refresher() == null) {
      return new Result.Done(
          name + " takes in everything as it comes; nothing waits", loop.snapshot().epoch());
    }
    try {
      UpkeepHistory.Run run = refresh(view, node, "asked").join();
      checkpoint.get().join();
      write();
      return new Result.Done(text(name, run), run.epoch());
    } catch (CompletionException e) {
      if (e.getCause() instanceof EngineException known) {
        throw known;
      }
      throw e;
    }
  }

  private static String text(String name, UpkeepHistory.Run run) {
    return String.format(
        Locale.ROOT,
        "refreshed %s: %,d rows read, %,d put in, %,d taken out, %,d unchanged, %,d late,"
            + " %,d more rejected, in %,.1f ms",
        name,
        run.read(),
        run.added(),
        run.removed(),
        run.unchanged(),
        run.late(),
        run.rejected(),
        run.micros() / 1e3);
  }

  @Override
  public void close() {
    schedule.shutdownNow();
    write();
    List<CompletableFuture<UpkeepHistory.Run>> left;
    synchronized (this) {
      left = List.copyOf(running.values());
    }
    left.forEach(
        run ->
            run.completeExceptionally(
                new EngineException(Code.FAILED, "the service is shutting down", null)));
  }
}
