package dripledger.engine.epoch;

import java.util.function.LongUnaryOperator;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Numbers for epochs. They are reserved in blocks, so that no number is ever given twice over all
 * processes, and ahead of need on a thread of its own, so that the epoch loop asks nobody. If the
 * records do not answer until the last block is used up, {@link #next} waits for them: inputs then
 * slow down, and nothing breaks.
 */
final class EpochNumbers implements AutoCloseable {
  static final long BLOCK = 10_000;

  private static final Logger LOG = LoggerFactory.getLogger(EpochNumbers.class);
  private static final long RETRY_MILLIS = 200;

  private final LongUnaryOperator reserve;
  private final Thread thread = new Thread(this::keepAhead, "epoch-numbers");
  private long next;
  private long end;
  private long spare = -1; // the first number of the block reserved ahead
  private boolean waiting;
  private boolean closed;

  /**
   * Reserves the first block on the caller's thread.
   *
   * @param reserve takes a count of numbers and answers the first
   */
  EpochNumbers(LongUnaryOperator reserve) {
    this.reserve = reserve;
    next = reserve.applyAsLong(BLOCK);
    end = next + BLOCK;
    thread.setDaemon(true);
    thread.start();
  }

  /** The next number; waits while there is none. */
  synchronized long next() {
    while (next == end && spare < 0) {
      if (closed) {
        throw new IllegalStateException("the service is shutting down");
      }
      waiting = true;
      try {
        wait();
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        throw new IllegalStateException("interrupted", e);
      } finally {
        waiting = false;
      }
    }
    if (next == end) {
      next = spare;
      end = next + BLOCK;
      spare = -1;
    }
    if (spare < 0 && end - next == BLOCK / 2) {
      notifyAll();
    }
    return next++;
  }

  /** Whether the loop stands still for want of a number. */
  synchronized boolean waiting() {
    return waiting;
  }

  private void keepAhead() {
    while (true) {
      synchronized (this) {
        while (!closed && (spare >= 0 || end - next > BLOCK / 2)) {
          try {
            wait();
          } catch (InterruptedException e) {
            return;
          }
        }
        if (closed) {
          return;
        }
      }
      long first = -1;
      try {
        first = reserve.applyAsLong(BLOCK);
      } catch (RuntimeException e) {
        LOG.warn("numbers for epochs cannot be reserved, trying again: {}", e.getMessage());
      }
      synchronized (this) {
        if (first >= 0) {
          spare = first;
          notifyAll();
        } else if (!closed) {
          try {
            wait(RETRY_MILLIS);
          } catch (InterruptedException e) {
            return;
          }
        }
      }
    }
  }

  @Override
  public synchronized void close() {
    closed = true;
    notifyAll();
  }
}
