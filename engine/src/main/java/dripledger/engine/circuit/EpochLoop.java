package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.TimeUnit;
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

  /**
   * The bounds of the loop.
   *
   * @param maxEpochRows an epoch stops taking more once it has this many rows
   * @param maxQueuedBytes inputs wait once this many bytes are queued
   */
  public record Limits(int maxEpochRows, long maxQueuedBytes) {}

  /** Changes to one relation. */
  public record Change(long relationId, Page page) {}

  private record Work(List<Change> changes, long sequence, int rows, long bytes, Runnable action) {}

  private final Limits limits;
  private final LongUnaryOperator reserveEpochs;
  private final List<LiveNode> nodes = new ArrayList<>();
  private final Map<Long, LiveNode> byId = new HashMap<>();
  private final ArrayDeque<Work> queue = new ArrayDeque<>();
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
    snapshot = new Snapshot(first, sequence, Map.of());
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

  /** Queues changes; blocks while too much waits. Sequences must come in ascending order. */
  public void submit(long sequence, List<Change> changes) {
    int rows = 0;
    long bytes = 0;
    for (Change c : changes) {
      rows += c.page.size();
      bytes += c.page.byteSize();
    }
    synchronized (this) {
      boolean interrupted = false;
      while (queuedBytes > limits.maxQueuedBytes && !closed) {
        try {
          wait();
        } catch (InterruptedException e) {
          interrupted = true;
        }
      }
      if (interrupted) {
        Thread.currentThread().interrupt();
      }
      if (closed) {
        return; // it is in the ledger and will be read again at the next start
      }
      queue.add(new Work(changes, sequence, rows, bytes, null));
      queuedBytes += bytes;
      notifyAll();
    }
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
        publish(snapshot.sequence());
        done.complete(snapshot.epoch());
        return done;
      }
      queue.add(new Work(List.of(), -1, 0, 0, guarded));
      queue.add(new Work(List.of(), -1, 0, 0, () -> done.complete(snapshot.epoch())));
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

  /** Removes a node; inside {@link #between} only. */
  public void detach(LiveNode node) {
    nodes.remove(node);
    byId.remove(node.id(), node);
  }

  private void run() {
    while (true) {
      List<Work> batch = new ArrayList<>();
      synchronized (this) {
        while (queue.isEmpty() && !closed) {
          try {
            wait();
          } catch (InterruptedException e) {
            closed = true;
          }
        }
        if (closed) {
          return;
        }
        int rows = 0;
        while (!queue.isEmpty() && rows < limits.maxEpochRows) {
          Work next = queue.peek();
          if (next.action != null && !batch.isEmpty()) {
            break;
          }
          queue.poll();
          queuedBytes -= next.bytes;
          rows += next.rows;
          batch.add(next);
          if (next.action != null) {
            break;
          }
        }
        notifyAll();
      }
      Work first = batch.get(0);
      if (first.action != null) {
        first.action.run();
        publish(snapshot.sequence());
      } else {
        List<Change> changes = new ArrayList<>();
        batch.forEach(w -> changes.addAll(w.changes));
        stepNow(batch.get(batch.size() - 1).sequence, changes);
      }
    }
  }

  /** One epoch over the changes given, on the caller's thread. */
  public void stepNow(long sequence, List<Change> changes) {
    long began = System.nanoTime();
    long epoch = snapshot.epoch() + 1;
    for (Change change : changes) {
      LiveNode node = byId.get(change.relationId);
      if (node != null) {
        node.take(change.page);
        rowsTaken += change.page.size();
      }
    }
    for (LiveNode node : nodes) {
      if (node.failure() == null) {
        stepNode(node, epoch);
      }
    }
    publish(sequence);
    for (LiveNode node : nodes) {
      node.tell(snapshot.epoch());
      node.endEpoch();
    }
    lastStepNanos = System.nanoTime() - began;
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
          if (source.failure() != null) {
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

  private void publish(long sequence) {
    long epoch = snapshot.epoch() + 1;
    if (epoch >= reservedUpTo) {
      epoch = reserveEpochs.applyAsLong(EPOCH_BLOCK);
      reservedUpTo = epoch + EPOCH_BLOCK;
    }
    Map<Long, RelationVersion> versions = new HashMap<>();
    long held = 0;
    for (LiveNode node : nodes) {
      held += node.heldBytes();
      if (node.store() != null) {
        versions.put(node.id(), node.store().version());
      }
    }
    heldBytes = held;
    synchronized (this) {
      snapshot = new Snapshot(epoch, sequence, versions);
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
