package dripledger.engine.epoch;

import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Reject;
import dripledger.engine.store.Versions;
import dripledger.engine.time.Arrival;
import dripledger.engine.time.Watermark;
import dripledger.engine.view.Pinned;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.TimeoutException;
import java.util.function.BiConsumer;
import java.util.function.Consumer;
import java.util.function.LongPredicate;
import java.util.function.LongSupplier;
import java.util.function.LongUnaryOperator;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * The clock of the engine and the only writer of operator state. An epoch takes what is ready, up
 * to a bound in rows, pushes it through every node, what is read before what reads it, and
 * publishes all relations at once by one write of {@link #snapshot}.
 *
 * <p>Back-pressure: {@link #submit} blocks while more than the bounded number of bytes waits, or,
 * for a source, while the views hold as much as they may.
 *
 * <p>What is thrown outside of any node (see {@link Graph}) ends the loop: everybody who waits for
 * it is told, and so is {@link #onEnd}. Nothing here asks a database or waits for one.
 */
public final class EpochLoop implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(EpochLoop.class);
  private static final long TICK_MILLIS = 1000;

  /** Of what may be held, readers of older epochs may hold back one part in this many. */
  public static final int HELD_BACK_SHARE = 4;

  private final EpochLimits limits;
  private final EpochNumbers numbers;
  private final Versions versions = Versions.ofGraph();
  private final Graph graph;
  private final InputQueue queue;
  private final PendingRejects rejects = new PendingRejects();
  private boolean closed;
  private Thread thread;
  private Consumer<Throwable> onEnd = cause -> {};
  private BiConsumer<Long, Arrival> onShown = (view, arrival) -> {};
  private volatile Throwable end;
  private volatile Snapshot snapshot;
  private volatile long lastStepNanos;
  private volatile long lastBeatNanos = System.nanoTime();
  private volatile long rowsTaken;
  private volatile long heldBytes;

  /**
   * @param clock the time of day, in microseconds since 1970
   * @param reserveEpochs takes a count of epoch numbers for this process and answers the first
   */
  public EpochLoop(EpochLimits limits, LongSupplier clock, LongUnaryOperator reserveEpochs) {
    this.limits = limits;
    graph = new Graph(versions, clock, limits.workers(), limits.togetherRows());
    queue = new InputQueue(limits.maxQueuedBytes());
    versions.boundHeldBack(limits.maxHeldBytes() / HELD_BACK_SHARE);
    numbers = new EpochNumbers(reserveEpochs);
    snapshot = new Snapshot(numbers.next(), versions.published(), 0, Map.of(), Map.of(), Map.of());
  }

  /** What to tell if the loop ends by itself, on its thread; before {@link #start}. */
  public void onEnd(Consumer<Throwable> action) {
    onEnd = action;
  }

  /**
   * What to tell of views as soon as what came in is shown: their numbers, and when it came. On its
   * thread; before {@link #start}.
   */
  public void onShown(BiConsumer<Long, Arrival> action) {
    onShown = action;
  }

  /** The newest epoch's relations. Safe from any thread. */
  public Snapshot snapshot() {
    return snapshot;
  }

  /** The clock of all stores of the graph. */
  Versions versions() {
    return versions;
  }

  /**
   * The newest epoch's relations, readable until it is closed, or until more would have to be kept
   * for it than may. Safe from any thread.
   */
  public Pinned pin() {
    return pin(false);
  }

  /** As {@link #pin}, whatever has to be kept for it. */
  public Pinned pinFirmly() {
    return pin(true);
  }

  /** What is kept for readers of older epochs, in bytes. */
  public long heldBackBytes() {
    return versions.heldBackBytes();
  }

  /** How often readers of an epoch were ended because too much was kept for them. */
  public long endedReads() {
    return versions.endedReads();
  }

  private Pinned pin(boolean firm) {
    while (true) {
      Versions.Pin pin = firm ? versions.pinFirmly() : versions.pin();
      Snapshot now = snapshot;
      if (now.version() == pin.version()) {
        return new Pinned(now, pin);
      }
      pin.close(); // between the stores' publishing and ours
      if (end != null) {
        throw ended();
      }
      Thread.onSpinWait();
    }
  }

  /** How long the last epoch took, in nanoseconds. */
  public long lastStepNanos() {
    return lastStepNanos;
  }

  /**
   * Why the loop does not do its work, or null if it does. It gives a sign of life at least once a
   * second, unless one epoch takes longer.
   *
   * @param patienceMillis how long it may be silent
   */
  public String ailment(long patienceMillis) {
    if (end != null) {
      return "the epoch loop has ended: " + end;
    }
    long silent = TimeUnit.NANOSECONDS.toMillis(System.nanoTime() - lastBeatNanos);
    if (silent <= patienceMillis) {
      return null;
    }
    return numbers.waiting()
        ? "the epoch loop waits for the database to reserve numbers"
        : "the epoch loop has been at one epoch for " + silent / 1000 + " s";
  }

  /** Rows taken in since the process started. */
  public long rowsTaken() {
    return rowsTaken;
  }

  /** Heap of all operator state and published rows after the last epoch, in bytes. */
  public long heldBytes() {
    return heldBytes;
  }

  /** Bytes of changes that wait. */
  public long queuedBytes() {
    return queue.bytes();
  }

  /** Starts stepping. Until then {@link #stepNow} steps on the caller's thread, for recovery. */
  public synchronized void start() {
    stepNow(List.of()); // what was filled knows how far time has come
    thread = new Thread(this::run, "epoch-loop");
    thread.start();
  }

  /** Queues what is in the ledger now. Sequences must come in ascending order. */
  public void submit(long sequence, List<EpochInput.Change> changes) {
    submit(new EpochInput(changes, sequence, InputProgress.NOTHING, null));
  }

  /** Queues what an input hands over; blocks while too much waits. Each input keeps its order. */
  public void submit(EpochInput input) {
    queue.put(input);
  }

  /** Whether a source that hands over more would have to wait. */
  public boolean full() {
    return queue.full();
  }

  private void measureHeld() {
    heldBytes = graph.heldBytes();
    holdSources();
  }

  private synchronized void holdSources() {
    queue.holdSources(heldBytes > limits.maxHeldBytes() || rejects.full());
  }

  /** What was not taken since the last checkpoint. */
  public PendingRejects rejects() {
    return rejects;
  }

  /**
   * Runs an action between two epochs, with sole access to the graph, and publishes an epoch.
   *
   * @return completes with the epoch that shows what the action did, or with what it threw
   */
  public CompletableFuture<Long> between(Runnable action) {
    CompletableFuture<Long> done = new CompletableFuture<>();
    Runnable guarded =
        () -> {
          if (end != null) {
            done.completeExceptionally(ended());
            return;
          }
          try {
            action.run();
          } catch (Throwable e) {
            done.completeExceptionally(e);
          }
          try {
            publish(numbers.next(), snapshot.sequence(), Map.of());
          } catch (RuntimeException e) {
            done.completeExceptionally(e);
            throw e;
          }
          done.complete(snapshot.epoch());
        };
    run(guarded, false, done);
    return done;
  }

  private void run(Runnable action, boolean first, CompletableFuture<?> done) {
    synchronized (this) {
      if (closed ? first : thread == null) { // at the end, when nothing is stepped any more
        action.run();
        return;
      }
    }
    if (!queue.add(action, done, first)) {
      done.completeExceptionally(refusal());
    }
  }

  private IllegalStateException refusal() {
    return end == null ? new IllegalStateException("the service is shutting down") : ended();
  }

  private IllegalStateException ended() {
    return new IllegalStateException("the epoch loop has ended: " + end, end);
  }

  /** Waits until an epoch holds the append; answers that epoch. */
  public long awaitSequence(long sequence, long timeoutMillis)
      throws InterruptedException, TimeoutException {
    long until = System.nanoTime() + TimeUnit.MILLISECONDS.toNanos(timeoutMillis);
    synchronized (this) {
      while (snapshot.sequence() < sequence) {
        long left = TimeUnit.NANOSECONDS.toMillis(until - System.nanoTime());
        if (end != null || closed) {
          throw refusal();
        }
        if (left <= 0) {
          throw new TimeoutException("the views have not shown it yet");
        }
        wait(left);
      }
      return snapshot.epoch();
    }
  }

  /** Adds a node; inside {@link #between} or before {@link #start} only. */
  public void attach(LiveNode node) {
    graph.attach(node);
  }

  /** A node that was attached to be filled takes part from here on; inside {@link #between}. */
  public void live(QueryNode node) {
    graph.live(node);
    stepNow(List.of()); // what has ended by now is seen with it
  }

  /** The current time for what is filled; inside {@link #between} or before {@link #start} only. */
  public long currentMicros() {
    return graph.currentMicros();
  }

  /** Has a node look rows up in tables as they are; before {@link #start} only. */
  public void tables(QueryNode node) {
    graph.tables(node);
  }

  /** Puts a node in the place of one with the same number; inside {@link #between} only. */
  public void replace(LiveNode old, LiveNode node) {
    graph.replace(old, node);
  }

  /** Removes a node, and ends whoever follows it; inside {@link #between} only. */
  public void detach(LiveNode node) {
    graph.detach(node);
  }

  /** Forgets how far an input was read: what it fed is gone. Inside {@link #between} only. */
  public void forgetInput(long inputId) {
    Map<Long, SourcePosition> left = new HashMap<>(snapshot.positions());
    left.remove(inputId);
    synchronized (this) {
      snapshot = snapshot.withPositions(left);
    }
  }

  /**
   * Notes the state of all nodes between two epochs and two refreshes, for a checkpoint.
   *
   * @param whole of which instances to save everything, and not what changed since the last time
   */
  public CompletableFuture<CheckpointImage> capture(LongPredicate whole) {
    CompletableFuture<CheckpointImage> done = new CompletableFuture<>();
    Runnable image =
        () -> {
          try {
            done.complete(image(whole));
          } catch (Throwable e) {
            done.completeExceptionally(e);
          }
        };
    Runnable action = () -> graph.refreshes().whenNone(image);
    run(action, true, done);
    return done;
  }

  private CheckpointImage image(LongPredicate whole) {
    long began = System.nanoTime();
    List<CheckpointImage.Node> images = graph.capture(whole);
    Snapshot now = snapshot;
    InputProgress settled = rejects.with(now.positions());
    return new CheckpointImage(
        now.epoch(), now.sequence(), settled, images, System.nanoTime() - began);
  }

  /** What a checkpoint noted of rejects is in it now. */
  public void saved(InputProgress settled) {
    rejects.saved(settled);
    holdSources();
  }

  private void run() {
    try {
      while (true) {
        lastBeatNanos = System.nanoTime();
        boolean busy = graph.refreshes().isBusy();
        List<InputQueue.Work> batch = queue.take(limits.maxEpochRows(), busy ? 0 : TICK_MILLIS);
        if (batch == null) {
          return;
        }
        if (batch.isEmpty()) {
          if (busy || graph.idle(Watermark.clock())) {
            stepNow(List.of()); // time has gone on without events
          }
          versions.trim(); // readers may have let go of what was kept for them
          measureHeld();
        } else if (batch.get(0).action() != null) {
          batch.get(0).action().run();
        } else {
          stepNow(batch.stream().map(InputQueue.Work::input).toList());
        }
      }
    } catch (Throwable e) {
      stop(e);
    }
  }

  /** The loop cannot go on: nobody shall wait for it. */
  private void stop(Throwable cause) {
    synchronized (this) {
      if (closed) {
        return;
      }
      end = cause;
      notifyAll();
    }
    LOG.error("the epoch loop has ended", cause);
    graph.fail("the epoch loop has ended");
    queue.close().forEach(done -> done.completeExceptionally(ended()));
    onEnd.accept(cause);
  }

  /** One epoch over the changes given, on the caller's thread. */
  public void stepNow(long sequence, List<EpochInput.Change> changes) {
    stepNow(List.of(new EpochInput(changes, sequence, InputProgress.NOTHING, null)));
  }

  /** One epoch over what inputs handed over, on the caller's thread. */
  public void stepNow(List<EpochInput> inputs) {
    long began = System.nanoTime();
    long now = Watermark.clock();
    long epoch = numbers.next(); // may wait for one, so before anything changes
    long sequence = snapshot.sequence();
    Map<Long, SourcePosition> positions = new HashMap<>();
    for (EpochInput input : inputs) {
      if (input.before() != null) {
        input.before().run();
      }
      sequence = Math.max(sequence, input.sequence());
      positions.putAll(input.settled().positions());
      for (EpochInput.Change change : input.changes()) {
        rowsTaken += graph.take(change, now);
      }
      note(input.settled());
    }
    graph.step(epoch, now);
    publish(epoch, sequence, positions);
    if (thread != null) { // not what is made again at a start
      graph.refreshes().arrivals(onShown);
    }
    graph.end(epoch, rejects::add);
    graph.refreshes().ended();
    lastStepNanos = System.nanoTime() - began;
  }

  /** Counts messages that were not taken and are kept elsewhere. On the loop's thread only. */
  public void countRejected(List<Reject> more) {
    for (Reject reject : more) {
      LiveNode node = graph.node(reject.objectId());
      if (node != null) {
        node.countRejected(1);
      }
    }
  }

  private void note(InputProgress settled) {
    if (settled.rejects().isEmpty() && settled.replayed().isEmpty()) {
      return;
    }
    countRejected(settled.rejects());
    rejects.add(settled);
  }

  /** Stops a table because its source says so; its rows stay. On the loop's thread only. */
  public void stopBySource(long id, String reason) {
    LiveNode node = graph.node(id);
    if (node != null && node.failure() == null) {
      LOG.warn("{} has stopped: {}", node.name(), reason);
      node.stopBySource(reason);
    }
  }

  /** Says from where inputs go on; before {@link #start} only. */
  public void positions(long epochSequence, Map<Long, SourcePosition> positions) {
    publish(numbers.next(), epochSequence, positions);
  }

  private void publish(long epoch, long sequence, Map<Long, SourcePosition> advanced) {
    versions.publish();
    long version = versions.published();
    Map<Long, RelationVersion> relations = new HashMap<>();
    Map<Long, String> unreadable = new HashMap<>();
    graph.publish(version, relations, unreadable);
    measureHeld();
    Map<Long, SourcePosition> positions = snapshot.positions();
    if (!advanced.isEmpty()) {
      positions = new HashMap<>(positions);
      positions.putAll(advanced);
    }
    synchronized (this) {
      snapshot = new Snapshot(epoch, version, sequence, positions, relations, unreadable);
      notifyAll();
    }
  }

  /** Stops after the current epoch. What still waits is in the ledger. */
  @Override
  public void close() {
    Thread running;
    synchronized (this) {
      closed = true;
      notifyAll();
      running = thread;
    }
    queue.close().forEach(done -> done.completeExceptionally(refusal()));
    numbers.close();
    try {
      if (running != null && running != Thread.currentThread()) {
        running.join(30_000);
      }
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
    graph.close();
  }
}
