package dripledger.engine.epoch;

import dripledger.engine.source.Reject;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.List;
import java.util.concurrent.CompletableFuture;

/**
 * What waits for the epoch loop, bounded in bytes: who hands over more waits. Thread-safe.
 *
 * <p>Actions between two epochs wait here too; they are bounded by the few who ask for them.
 */
final class InputQueue {
  /** One input's rows, or an action that stands alone and completes {@code done}. */
  record Work(EpochInput input, int rows, long bytes, Runnable action, CompletableFuture<?> done) {
    boolean alone() {
      return action != null || input.before() != null;
    }
  }

  private final long maxBytes;
  private final ArrayDeque<Work> queue = new ArrayDeque<>();
  private long bytes;
  private boolean closed;
  private boolean sourcesHeld;

  InputQueue(long maxBytes) {
    this.maxBytes = maxBytes;
  }

  static long rejectBytes(List<Reject> rejects) {
    long bytes = 0;
    for (Reject r : rejects) {
      bytes += 200 + (r.raw() == null ? 0 : r.raw().length);
    }
    return bytes;
  }

  /**
   * Adds what an input hands over once there is room. One that is interrupted meanwhile and can
   * read it again gives it up; what is in the ledger must go in its order and keeps waiting.
   */
  void put(EpochInput input) {
    boolean source = input.sequence() < 0;
    boolean heldBack = source && !input.changes().isEmpty();
    boolean interrupted = false;
    synchronized (this) {
      while (!closed && (bytes > maxBytes || heldBack && sourcesHeld)) {
        try {
          wait();
        } catch (InterruptedException e) {
          interrupted = true;
          if (source) {
            break;
          }
        }
      }
      // Once closed it stays in the ledger or at its source, and is read at the next start.
      if (!closed && !(interrupted && source)) {
        Work work = new Work(input, input.rows(), input.bytes(), null, null);
        queue.add(work);
        bytes += work.bytes;
        notifyAll();
      }
    }
    if (interrupted) {
      Thread.currentThread().interrupt();
    }
  }

  /** Adds an action, behind what waits or before it; answers false once closed. */
  synchronized boolean add(Runnable action, CompletableFuture<?> done, boolean first) {
    if (closed) {
      return false;
    }
    Work work = new Work(null, 0, 0, action, done);
    if (first) {
      queue.addFirst(work);
    } else {
      queue.add(work);
    }
    notifyAll();
    return true;
  }

  /**
   * Takes what one epoch may hold: a single action, or inputs of up to so many rows.
   *
   * @param timeoutMillis how long to wait for something; 0 for not at all
   * @return empty if nothing came in time; null once closed
   */
  synchronized List<Work> take(int maxRows, long timeoutMillis) throws InterruptedException {
    if (queue.isEmpty() && !closed && timeoutMillis > 0) {
      wait(timeoutMillis);
    }
    if (closed) {
      return null;
    }
    List<Work> batch = new ArrayList<>();
    int rows = 0;
    while (!queue.isEmpty() && rows < maxRows && (batch.isEmpty() || !queue.peek().alone())) {
      Work next = queue.poll();
      bytes -= next.bytes;
      rows += next.rows;
      batch.add(next);
      if (next.alone()) {
        break;
      }
    }
    notifyAll();
    return batch;
  }

  /** Says whether sources must wait for another reason than the bytes that wait here. */
  synchronized void holdSources(boolean hold) {
    if (sourcesHeld != hold) {
      sourcesHeld = hold;
      notifyAll();
    }
  }

  /** Whether a source that hands over more would have to wait. */
  synchronized boolean full() {
    return bytes > maxBytes || sourcesHeld;
  }

  synchronized long bytes() {
    return bytes;
  }

  /** Lets go of everybody who waits; answers what waits for actions that will never run. */
  synchronized List<CompletableFuture<?>> close() {
    closed = true;
    notifyAll();
    List<CompletableFuture<?>> left = new ArrayList<>();
    for (Work work : queue) {
      if (work.done != null) {
        left.add(work.done);
      }
    }
    queue.clear();
    return left;
  }
}
