package dripledger.engine.circuit;

import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.row.Page;
import dripledger.engine.source.Reject;
import dripledger.engine.source.Settled;
import dripledger.engine.state.Durable;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.TimeUnit;
import java.util.function.LongPredicate;
import java.util.function.LongUnaryOperator;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * The clock of the engine and the only writer of operator state. An epoch takes what is ready, up
 * to a bound in rows, pushes it through every circuit in the order they were made (so inputs come
 * before what reads them), and publishes all relations at once by one write of {@link #snapshot}.
 *
 * <p>Back-pressure: {@link #submit} blocks while more than the bounded number of bytes waits. A
 * circuit that throws is taken out of the graph with its reason, as is everything that reads from
 * it; the loop itself goes on.
 */
public final class EpochLoop implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(EpochLoop.class);
  private static final long EPOCH_BLOCK = 10_000;
  private static final long MAX_PENDING_REJECT_BYTES = 32L << 20;
  private static final long TICK_MILLIS = 1000;

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
  public record Input(List<Change> changes, long sequence, Settled settled, Runnable before) {
    int rows() {
      return changes.stream().mapToInt(c -> c.page.size()).sum() + settled.rejects().size();
    }

    long bytes() {
      return changes.stream().mapToLong(c -> c.page.byteSize()).sum()
          + rejectBytes(settled.rejects());
    }
  }

  private record Work(Input input, int rows, long bytes, Runnable action) {}

  private static long rejectBytes(List<Reject> rejects) {
    long bytes = 0;
    for (Reject r : rejects) {
      bytes += 200 + (r.raw() == null ? 0 : r.raw().length);
    }
    return bytes;
  }

  private final Limits limits;
  private final LongUnaryOperator reserveEpochs;
  private final List<LiveNode> nodes = new ArrayList<>();
  private final Map<Long, LiveNode> byId = new HashMap<>();
  private final ArrayDeque<Work> queue = new ArrayDeque<>();
  private final List<Reject> pendingRejects = new ArrayList<>();
  private final List<Long> pendingReplayed = new ArrayList<>();
  private long pendingRejectBytes;
  private long queuedBytes;
  private boolean closed;
  private Thread thread;
  private long reservedUpTo;
  private volatile Snapshot snapshot;
  private volatile long lastStepNanos;
  private volatile long rowsTaken;
  private volatile long heldBytes;

  /**
   * @param reserveEpochs takes a count of epoch numbers for this process and answers the first
   */
  public EpochLoop(Limits limits, LongUnaryOperator reserveEpochs, long sequence) {
    this.limits = limits;
    this.reserveEpochs = reserveEpochs;
    long first = reserveEpochs.applyAsLong(EPOCH_BLOCK);
    reservedUpTo = first + EPOCH_BLOCK;
    snapshot = new Snapshot(first, sequence, Map.of(), Map.of(), Map.of());
  }

  /** The newest epoch's relations. Safe from any thread. */
  public Snapshot snapshot() {
    return snapshot;
  }

  /** How long the last epoch took, in nanoseconds. */
  public long lastStepNanos() {
    return lastStepNanos;
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
  public synchronized long queuedBytes() {
    return queuedBytes;
  }

  /** Starts stepping. Until then {@link #stepNow} steps on the caller's thread, for recovery. */
  public synchronized void start() {
    thread = new Thread(this::run, "epoch-loop");
    thread.start();
  }

  /** Queues what is in the ledger now. Sequences must come in ascending order. */
  public void submit(long sequence, List<Change> changes) {
    submit(new Input(changes, sequence, Settled.NOTHING, null));
  }

  /** Queues what an input hands over; blocks while too much waits. Each input keeps its order. */
  public void submit(Input input) {
    long bytes = input.bytes();
    synchronized (this) {
      boolean interrupted = false;
      while (full(input.sequence < 0) && !closed) {
        try {
          wait();
        } catch (InterruptedException e) {
          interrupted = true;
          if (input.sequence < 0) {
            break; // a feed that is being closed; what it has will be read again
          }
        }
      }
      if (interrupted) {
        Thread.currentThread().interrupt();
        if (input.sequence < 0) {
          return;
        }
      }
      if (closed) {
        return; // it is in the ledger or at its source and will be read again at the next start
      }
      queue.add(new Work(input, input.rows(), bytes, null));
      queuedBytes += bytes;
      notifyAll();
    }
  }

  /** Whether a source that hands over more would have to wait. */
  public synchronized boolean full() {
    return full(true);
  }

  private boolean full(boolean source) {
    return queuedBytes > limits.maxQueuedBytes
        || source
            && (heldBytes > limits.maxHeldBytes || pendingRejectBytes > MAX_PENDING_REJECT_BYTES);
  }

  /** Messages that were not taken since the last checkpoint, oldest first. */
  public synchronized List<Reject> pendingRejects() {
    return List.copyOf(pendingRejects);
  }

  /**
   * Runs an action between two epochs, with sole access to the graph, and publishes an epoch.
   *
   * @return completes with the epoch that shows what the action did
   */
  public CompletableFuture<Long> between(Runnable action) {
    CompletableFuture<Long> done = new CompletableFuture<>();
    Runnable guarded =
        () -> {
          try {
            action.run();
          } catch (RuntimeException e) {
            done.completeExceptionally(e);
          }
        };
    synchronized (this) {
      if (closed) {
        done.completeExceptionally(new IllegalStateException("the service is shutting down"));
        return done;
      }
      if (thread == null) {
        guarded.run();
        publish(snapshot.sequence(), Map.of());
        done.complete(snapshot.epoch());
        return done;
      }
      queue.add(new Work(null, 0, 0, () -> publishAfter(guarded)));
      queue.add(new Work(null, 0, 0, () -> done.complete(snapshot.epoch())));
      notifyAll();
    }
    return done;
  }

  /** Waits until an epoch holds the append; answers that epoch. */
  public long awaitSequence(long sequence, long timeoutMillis) throws InterruptedException {
    long end = System.nanoTime() + TimeUnit.MILLISECONDS.toNanos(timeoutMillis);
    synchronized (this) {
      while (snapshot.sequence() < sequence) {
        long left = TimeUnit.NANOSECONDS.toMillis(end - System.nanoTime());
        if (left <= 0 || closed) {
          throw new IllegalStateException("the views have not shown it yet");
        }
        wait(left);
      }
      return snapshot.epoch();
    }
  }

  /** Adds a node; inside {@link #between} or before {@link #start} only. */
  public void attach(LiveNode node) {
    nodes.add(node);
    if (node.id() >= 0) {
      byId.put(node.id(), node);
    }
    node.measure();
  }

  /** Puts a node in the place of one with the same number; inside {@link #between} only. */
  public void replace(LiveNode old, LiveNode node) {
    nodes.set(nodes.indexOf(old), node);
    byId.put(node.id(), node);
    node.measure();
  }

  /** Forgets how far an input was read: what it fed is gone. Inside {@link #between} only. */
  public void forgetInput(long inputId) {
    Map<Long, SourcePosition> left = new HashMap<>(snapshot.positions());
    left.remove(inputId);
    synchronized (this) {
      snapshot =
          new Snapshot(
              snapshot.epoch(), snapshot.sequence(), left, snapshot.relations(), snapshot.amiss());
    }
  }

  /** Removes a node; inside {@link #between} only. */
  public void detach(LiveNode node) {
    nodes.remove(node);
    byId.remove(node.id(), node);
  }

  private void publishAfter(Runnable action) {
    action.run();
    publish(snapshot.sequence(), Map.of());
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
          } catch (RuntimeException e) {
            done.completeExceptionally(e);
          }
        };
    synchronized (this) {
      if (thread == null || closed) {
        action.run();
      } else {
        queue.addFirst(new Work(null, 0, 0, action));
        notifyAll();
      }
    }
    return done;
  }

  private CheckpointImage image(LongPredicate whole) {
    long began = System.nanoTime();
    List<CheckpointImage.Node> images = new ArrayList<>();
    for (LiveNode node : nodes) {
      if (node.id() < 0) {
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
    Settled settled;
    synchronized (this) {
      settled =
          new Settled(now.positions(), List.copyOf(pendingRejects), List.copyOf(pendingReplayed));
    }
    return new CheckpointImage(
        now.epoch(), now.sequence(), settled, images, System.nanoTime() - began);
  }

  /** What a checkpoint noted of rejects is in it now. */
  public synchronized void saved(Settled settled) {
    pendingRejects.subList(0, settled.rejects().size()).clear();
    pendingReplayed.subList(0, settled.replayed().size()).clear();
    pendingRejectBytes = rejectBytes(pendingRejects);
    notifyAll();
  }

  private void run() {
    while (true) {
      List<Work> batch = new ArrayList<>();
      synchronized (this) {
        while (queue.isEmpty() && !closed) {
          try {
            wait(TICK_MILLIS);
          } catch (InterruptedException e) {
            closed = true;
          }
          if (queue.isEmpty() && !closed) {
            long now = System.currentTimeMillis();
            nodes.forEach(node -> node.advanceWatermark(now));
          }
        }
        if (closed) {
          return;
        }
        int rows = 0;
        while (!queue.isEmpty() && rows < limits.maxEpochRows) {
          Work next = queue.peek();
          boolean alone = next.action != null || next.input.before != null;
          if (alone && !batch.isEmpty()) {
            break;
          }
          queue.poll();
          queuedBytes -= next.bytes;
          rows += next.rows;
          batch.add(next);
          if (alone) {
            break;
          }
        }
        notifyAll();
      }
      if (batch.get(0).action != null) {
        batch.get(0).action.run();
      } else {
        stepNow(batch.stream().map(Work::input).toList());
      }
    }
  }

  /** One epoch over the changes given, on the caller's thread. */
  public void stepNow(long sequence, List<Change> changes) {
    stepNow(List.of(new Input(changes, sequence, Settled.NOTHING, null)));
  }

  /** One epoch over what inputs handed over, on the caller's thread. */
  public void stepNow(List<Input> inputs) {
    long began = System.nanoTime();
    long now = System.currentTimeMillis();
    long epoch = snapshot.epoch() + 1;
    long sequence = snapshot.sequence();
    Map<Long, SourcePosition> positions = new HashMap<>();
    for (Input input : inputs) {
      if (input.before != null) {
        input.before.run();
      }
      sequence = Math.max(sequence, input.sequence);
      positions.putAll(input.settled.positions());
      for (Change change : input.changes) {
        LiveNode node = byId.get(change.relationId);
        if (node != null && node.failure() == null && !node.isLoading()) {
          node.take(change.page, change.partition, now);
          rowsTaken += change.page.size();
        }
      }
      note(input.settled);
    }
    for (LiveNode node : nodes) {
      if (node.failure() == null) {
        node.taken();
        stepNode(node, epoch);
        node.advanceWatermark(now);
      }
    }
    publish(sequence, positions);
    for (LiveNode node : nodes) {
      node.tell(snapshot.epoch());
      node.endEpoch();
    }
    lastStepNanos = System.nanoTime() - began;
  }

  /** Counts messages that were not taken and are kept elsewhere. On the loop's thread only. */
  public void countRejected(List<Reject> rejects) {
    for (Reject reject : rejects) {
      LiveNode node = byId.get(reject.objectId());
      if (node != null) {
        node.rejected(1);
      }
    }
  }

  private void note(Settled settled) {
    List<Reject> rejects = settled.rejects();
    if (rejects.isEmpty() && settled.replayed().isEmpty()) {
      return;
    }
    countRejected(rejects);
    synchronized (this) {
      pendingRejects.addAll(rejects);
      pendingReplayed.addAll(settled.replayed());
      pendingRejectBytes += rejectBytes(rejects);
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
    publish(epochSequence, positions);
  }

  private void stepNode(LiveNode node, long epoch) {
    try {
      boolean fed = node.delta() != null;
      if (node.circuit() != null) {
        for (long input : node.circuit().inputs()) {
          LiveNode source = byId.get(input);
          if (source == null) {
            continue;
          }
          if (source.failure() != null && !source.stoppedBySource()) {
            node.fail("\"" + source.name() + "\", which it reads, has stopped");
            return;
          }
          if (source.delta() != null && !source.delta().isEmpty()) {
            node.circuit().feed(input, source.delta());
            fed = true;
          }
        }
      }
      if (fed) {
        node.step(epoch);
      }
    } catch (RuntimeException | OutOfMemoryError | StackOverflowError e) {
      LOG.error("{} has stopped", node.name(), e);
      node.fail(String.valueOf(e.getMessage()));
    }
  }

  private void publish(long sequence, Map<Long, SourcePosition> advanced) {
    long epoch = snapshot.epoch() + 1;
    if (epoch >= reservedUpTo) {
      epoch = reserveEpochs.applyAsLong(EPOCH_BLOCK);
      reservedUpTo = epoch + EPOCH_BLOCK;
    }
    Map<Long, RelationVersion> versions = new HashMap<>();
    Map<Long, String> amiss = new HashMap<>();
    long held = 0;
    for (LiveNode node : nodes) {
      held += node.heldBytes();
      if (node.failure() != null && !node.stoppedBySource()) {
        amiss.put(node.id(), "\"" + node.name() + "\" has stopped: " + node.failure());
      } else if (node.isLoading()) {
        amiss.put(node.id(), "\"" + node.name() + "\" is still being loaded");
      }
      if (node.store() != null) {
        versions.put(node.id(), node.store().version());
      }
    }
    heldBytes = held;
    Map<Long, SourcePosition> positions = snapshot.positions();
    if (!advanced.isEmpty()) {
      positions = new HashMap<>(positions);
      positions.putAll(advanced);
    }
    synchronized (this) {
      snapshot = new Snapshot(epoch, sequence, positions, versions, amiss);
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
    if (running != null && running != Thread.currentThread()) {
      try {
        running.join(30_000);
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
      }
    }
  }
}
