package dripledger.engine.epoch;

import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.circuit.Epoch;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.row.Page;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Reject;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import dripledger.engine.time.Watermark;
import dripledger.engine.view.Pinned;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayList;
import java.util.Comparator;
import java.util.HashMap;
import java.util.HashSet;
import java.util.IdentityHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.TimeoutException;
import java.util.function.Consumer;
import java.util.function.LongPredicate;
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
 * <p>Whatever is thrown while a node is at work takes that node out of the graph with its reason,
 * and everything that reads from it; the loop goes on. What is thrown outside of any node ends the
 * loop: everybody who waits for it is told, and so is {@link #onEnd}. Nothing here asks a database
 * or waits for one.
 */
public final class EpochLoop implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(EpochLoop.class);
  private static final long MAX_PENDING_REJECT_BYTES = 32L << 20;
  private static final long TICK_MILLIS = 1000;

  /** Of what may be held, readers of older epochs may hold back one part in this many. */
  public static final int HELD_BACK_SHARE = 4;

  /**
   * The bounds of the loop.
   *
   * @param maxEpochRows an epoch stops taking more once it has this many rows
   * @param maxQueuedBytes inputs wait once this many bytes are queued
   * @param maxHeldBytes sources wait while state and published rows hold more
   */
  public record Limits(int maxEpochRows, long maxQueuedBytes, long maxHeldBytes) {}

  /** Changes to one relation, from one partition of its input. */
  public record Change(long relationId, Page page, int partition) {
    public Change(long relationId, Page page) {
      this(relationId, page, 0);
    }
  }

  /**
   * What one input hands over: all of it is shown by one epoch.
   *
   * @param sequence the ledger's sequence after it, or −1 if it is not from the ledger
   * @param settled what becomes true with it
   * @param before run before the changes are applied; or null
   */
  public record Input(List<Change> changes, long sequence, InputProgress settled, Runnable before) {
    int rows() {
      return changes.stream().mapToInt(c -> c.page.size()).sum() + settled.rejects().size();
    }

    long bytes() {
      return changes.stream().mapToLong(c -> c.page.byteSize()).sum()
          + InputQueue.rejectBytes(settled.rejects());
    }
  }

  private final Limits limits;
  private final EpochNumbers numbers;
  private final Versions versions = Versions.ofGraph();
  private final List<LiveNode> nodes = new ArrayList<>();
  private final Map<Long, LiveNode> byId = new HashMap<>();
  private final InputQueue queue;
  private final List<Reject> pendingRejects = new ArrayList<>();
  private final List<Long> pendingReplayed = new ArrayList<>();
  private long pendingRejectBytes;
  private boolean closed;
  private Thread thread;
  private Consumer<Throwable> onEnd = cause -> {};
  private volatile Throwable end;
  private volatile Snapshot snapshot;
  private volatile long lastStepNanos;
  private volatile long lastBeatNanos = System.nanoTime();
  private volatile long rowsTaken;
  private volatile long heldBytes;

  /**
   * @param reserveEpochs takes a count of epoch numbers for this process and answers the first
   */
  public EpochLoop(Limits limits, LongUnaryOperator reserveEpochs, long sequence) {
    this.limits = limits;
    queue = new InputQueue(limits.maxQueuedBytes());
    versions.boundHeldBack(limits.maxHeldBytes() / HELD_BACK_SHARE);
    numbers = new EpochNumbers(reserveEpochs);
    snapshot =
        new Snapshot(numbers.next(), versions.published(), sequence, Map.of(), Map.of(), Map.of());
  }

  /** What to tell if the loop ends by itself, on its thread; before {@link #start}. */
  public void onEnd(Consumer<Throwable> action) {
    onEnd = action;
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
    thread = new Thread(this::run, "epoch-loop");
    thread.start();
  }

  /** Queues what is in the ledger now. Sequences must come in ascending order. */
  public void submit(long sequence, List<Change> changes) {
    submit(new Input(changes, sequence, InputProgress.NOTHING, null));
  }

  /** Queues what an input hands over; blocks while too much waits. Each input keeps its order. */
  public void submit(Input input) {
    queue.put(input);
  }

  /** Whether a source that hands over more would have to wait. */
  public boolean full() {
    return queue.full();
  }

  private void measureHeld() {
    long held = 0;
    for (LiveNode node : nodes) {
      held += node.heldBytes();
    }
    heldBytes = held;
    holdSources();
  }

  private synchronized void holdSources() {
    queue.holdSources(
        heldBytes > limits.maxHeldBytes || pendingRejectBytes > MAX_PENDING_REJECT_BYTES);
  }

  /** Messages that were not taken since the last checkpoint, oldest first. */
  public synchronized List<Reject> pendingRejects() {
    return List.copyOf(pendingRejects);
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
      if (thread == null && !closed) {
        action.run();
        return;
      }
    }
    if (!queue.add(action, done, first)) {
      done.completeExceptionally(refusal());
    }
  }

  private IllegalStateException refusal() {
    return end == null ? shuttingDown() : ended();
  }

  private static IllegalStateException shuttingDown() {
    return new IllegalStateException("the service is shutting down");
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
        if (end != null) {
          throw ended();
        }
        if (closed) {
          throw shuttingDown();
        }
        if (left <= 0) {
          throw new TimeoutException("the views have not shown it yet");
        }
        wait(left);
      }
      return snapshot.epoch();
    }
  }

  /** Waits for what {@link #between} answered; what was thrown there is thrown here. */
  public static long await(CompletableFuture<Long> done) {
    try {
      return done.get();
    } catch (ExecutionException e) {
      throw e.getCause() instanceof RuntimeException r
          ? r
          : new IllegalStateException(e.getCause());
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
  }

  /** Adds a node; inside {@link #between} or before {@link #start} only. */
  public void attach(LiveNode node) {
    nodes.add(node);
    if (node instanceof QueryNode query && query.isFilling()) {
      query.measure();
    } else {
      takesPart(node);
    }
    wire();
  }

  private void takesPart(LiveNode node) {
    node.join(versions);
    if (node.id() != LiveNode.NO_NUMBER) {
      byId.put(node.id(), node);
    }
  }

  /** Puts what is read before what reads it. */
  private void sort() {
    Map<LiveNode, Integer> depths = new IdentityHashMap<>();
    nodes.forEach(node -> depth(node, depths));
    nodes.sort(Comparator.comparing(depths::get)); // stable
  }

  private int depth(LiveNode node, Map<LiveNode, Integer> known) {
    Integer depth = known.get(node);
    if (depth == null) {
      depth = 0;
      if (node instanceof QueryNode query) {
        for (long input : query.inputs()) {
          LiveNode source = byId.get(input);
          depth = Math.max(depth, source == null ? 0 : 1 + depth(source, known));
        }
      }
      known.put(node, depth);
    }
    return depth;
  }

  /** Tells each node which step it is read through, and whether its changes are read. */
  private void wire() {
    sort();
    Set<Long> read = new HashSet<>();
    for (int i = nodes.size() - 1; i >= 0; i--) {
      if (nodes.get(i) instanceof QueryNode query) {
        query.base(byId.get(query.baseId()));
        query.rowsWanted(query.needsOwnRows() || read.contains(query.id()));
        if (query.readsChanges()) {
          read.addAll(query.inputs());
        }
      }
    }
  }

  /** A node that was attached to be filled takes part from here on; inside {@link #between}. */
  public void live(QueryNode node) {
    node.drain();
    takesPart(node);
    wire();
  }

  /** Puts a node in the place of one with the same number; inside {@link #between} only. */
  public void replace(LiveNode old, LiveNode node) {
    nodes.remove(old);
    old.leave();
    byId.put(node.id(), node);
    wire();
  }

  /** Forgets how far an input was read: what it fed is gone. Inside {@link #between} only. */
  public void forgetInput(long inputId) {
    Map<Long, SourcePosition> left = new HashMap<>(snapshot.positions());
    left.remove(inputId);
    synchronized (this) {
      snapshot =
          new Snapshot(
              snapshot.epoch(),
              snapshot.version(),
              snapshot.sequence(),
              left,
              snapshot.relations(),
              snapshot.unreadable());
    }
  }

  /** Removes a node, and ends whoever follows it; inside {@link #between} only. */
  public void detach(LiveNode node) {
    nodes.remove(node);
    byId.remove(node.id(), node);
    node.leave();
    String reason = "\"" + node.name() + "\" was dropped or replaced; follow again";
    for (LiveNode each : List.copyOf(nodes)) {
      if (each instanceof QueryNode follower && follower.follows(node.id())) {
        follower.fail(reason);
        nodes.remove(follower);
        follower.leave();
      }
    }
    wire();
  }

  /**
   * Notes the state of all nodes between two epochs, for a checkpoint.
   *
   * @param whole of which nodes to save everything, and not what changed since the last time
   */
  public CompletableFuture<CheckpointImage> capture(LongPredicate whole) {
    CompletableFuture<CheckpointImage> done = new CompletableFuture<>();
    Runnable action =
        () -> {
          try {
            done.complete(image(whole));
          } catch (Throwable e) {
            done.completeExceptionally(e);
          }
        };
    synchronized (this) {
      if (closed) { // the last one, when nothing is stepped any more
        action.run();
        return done;
      }
    }
    run(action, true, done);
    return done;
  }

  private CheckpointImage image(LongPredicate whole) {
    long began = System.nanoTime();
    List<CheckpointImage.Node> images = new ArrayList<>();
    for (LiveNode node : nodes) {
      if (node.id() == LiveNode.NO_NUMBER || isFilling(node)) {
        continue;
      }
      // What failed is not to be trusted: it is made again from its inputs at the next start.
      boolean trusted = !node.isLoading() && (node.failure() == null || node.stoppedBySource());
      List<Durable.Capture> parts = new ArrayList<>();
      if (trusted) {
        boolean all = whole.test(node.id());
        node.durable().forEach(part -> parts.add(part.capture(all)));
      }
      images.add(
          new CheckpointImage.Node(
              node.id(), node.planPrint(), trusted ? node.figures() : null, parts));
    }
    Snapshot now = snapshot;
    InputProgress settled;
    synchronized (this) {
      settled =
          new InputProgress(
              now.positions(), List.copyOf(pendingRejects), List.copyOf(pendingReplayed));
    }
    return new CheckpointImage(
        now.epoch(), now.sequence(), settled, images, System.nanoTime() - began);
  }

  /** What a checkpoint noted of rejects is in it now. */
  public synchronized void saved(InputProgress settled) {
    pendingRejects.subList(0, settled.rejects().size()).clear();
    pendingReplayed.subList(0, settled.replayed().size()).clear();
    pendingRejectBytes = InputQueue.rejectBytes(pendingRejects);
    holdSources();
  }

  private void run() {
    try {
      while (true) {
        lastBeatNanos = System.nanoTime();
        List<InputQueue.Work> batch = queue.take(limits.maxEpochRows(), TICK_MILLIS);
        if (batch == null) {
          return;
        }
        if (batch.isEmpty()) {
          long now = System.currentTimeMillis();
          for (LiveNode node : nodes) {
            if (node instanceof InputNode input) {
              atWork(node, () -> input.advanceWatermark(now));
            }
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
    for (LiveNode node : nodes) {
      node.fail("the epoch loop has ended");
    }
    queue.close().forEach(done -> done.completeExceptionally(ended()));
    onEnd.accept(cause);
  }

  /** One epoch over the changes given, on the caller's thread. */
  public void stepNow(long sequence, List<Change> changes) {
    stepNow(List.of(new Input(changes, sequence, InputProgress.NOTHING, null)));
  }

  /** One epoch over what inputs handed over, on the caller's thread. */
  public void stepNow(List<Input> inputs) {
    long began = System.nanoTime();
    long now = System.currentTimeMillis();
    long epoch = numbers.next(); // may wait for one, so before anything changes
    long sequence = snapshot.sequence();
    Map<Long, SourcePosition> positions = new HashMap<>();
    for (Input input : inputs) {
      if (input.before != null) {
        input.before.run();
      }
      sequence = Math.max(sequence, input.sequence);
      positions.putAll(input.settled.positions());
      for (Change change : input.changes) {
        if (byId.get(change.relationId) instanceof InputNode node
            && node.failure() == null
            && !node.isLoading()) {
          atWork(node, () -> node.take(change.page, change.partition, now));
          rowsTaken += change.page.size();
        }
      }
      note(input.settled);
    }
    for (LiveNode node : nodes) {
      if (node.failure() == null) {
        atWork(node, () -> stepNode(node, epoch, now));
      }
    }
    publish(epoch, sequence, positions);
    for (LiveNode node : nodes) {
      if (node instanceof QueryNode query) {
        atWork(node, () -> query.tell(epoch));
      }
      atWork(node, node::endEpoch);
    }
    lastStepNanos = System.nanoTime() - began;
  }

  /** Whatever goes wrong here is the node's trouble alone, and that of what reads it. */
  private static void atWork(LiveNode node, Runnable step) {
    try {
      step.run();
    } catch (Throwable e) {
      LOG.error("{} has stopped", node.name(), e);
      node.fail(e.getMessage() == null ? e.toString() : e.getMessage());
    }
  }

  /** Counts messages that were not taken and are kept elsewhere. On the loop's thread only. */
  public void countRejected(List<Reject> rejects) {
    for (Reject reject : rejects) {
      LiveNode node = byId.get(reject.objectId());
      if (node != null) {
        node.countRejected(1);
      }
    }
  }

  private void note(InputProgress settled) {
    List<Reject> rejects = settled.rejects();
    if (rejects.isEmpty() && settled.replayed().isEmpty()) {
      return;
    }
    countRejected(rejects);
    synchronized (this) {
      pendingReplayed.addAll(settled.replayed());
      // Sources are held before this; those who push are told of each reject, and it is counted.
      if (pendingRejectBytes <= 2 * MAX_PENDING_REJECT_BYTES) {
        pendingRejects.addAll(rejects);
        pendingRejectBytes += InputQueue.rejectBytes(rejects);
      }
    }
  }

  /** Stops a table because its source says so; its rows stay. On the loop's thread only. */
  public void stopBySource(long id, String reason) {
    LiveNode node = byId.get(id);
    if (node != null && node.failure() == null) {
      LOG.warn("{} has stopped: {}", node.name(), reason);
      node.stopBySource(reason);
    }
  }

  /** Says from where inputs go on; before {@link #start} only. */
  public void positions(long epochSequence, Map<Long, SourcePosition> positions) {
    publish(numbers.next(), epochSequence, positions);
  }

  private void stepNode(LiveNode node, long epoch, long now) {
    if (node instanceof InputNode input) {
      input.taken(epoch);
      input.advanceWatermark(now);
      return;
    }
    QueryNode query = (QueryNode) node;
    long watermark = Watermark.TIMELESS;
    for (long number : query.inputs()) {
      LiveNode source = byId.get(number);
      if (source == null) {
        continue;
      }
      if (source.failure() != null && !source.stoppedBySource()) {
        node.fail(
            number < 0 // a step of its own
                ? source.failure()
                : "\"" + source.name() + "\", which it reads, has stopped");
        return;
      }
      watermark = Math.min(watermark, source.watermarkMicros());
      if (source.delta() != null && !source.delta().isEmpty() && query.readsChanges()) {
        query.feed(number, source.delta());
      }
    }
    if (!query.isFilling()) {
      query.step(new Epoch(epoch, watermark, now));
    }
  }

  private static boolean isFilling(LiveNode node) {
    return node instanceof QueryNode query && query.isFilling();
  }

  private void publish(long epoch, long sequence, Map<Long, SourcePosition> advanced) {
    versions.publish();
    long version = versions.published();
    Map<Long, RelationVersion> relations = new HashMap<>();
    Map<Long, String> unreadable = new HashMap<>();
    for (LiveNode node : nodes) {
      if (isFilling(node)) {
        continue;
      }
      if (node.failure() != null && !node.stoppedBySource()) {
        unreadable.put(node.id(), "\"" + node.name() + "\" has stopped: " + node.failure());
      } else if (node.isLoading()) {
        unreadable.put(node.id(), "\"" + node.name() + "\" is still being loaded");
      }
      RelationVersion relation = node.version(version);
      if (relation != null) {
        relations.put(node.id(), relation);
      }
    }
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
    if (running != null && running != Thread.currentThread()) {
      try {
        running.join(30_000);
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
      }
    }
  }
}
