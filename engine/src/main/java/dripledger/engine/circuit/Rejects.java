package dripledger.engine.circuit;

import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.Deque;
import java.util.List;

/**
 * Rows a circuit could not compute: how many there are now (a row taken out again counts back) and
 * the latest reasons. Written by the epoch loop, read from any thread.
 */
public final class Rejects {
  /** The reasons kept. */
  public static final int KEPT = 100;

  private long count;
  private final Deque<String> reasons = new ArrayDeque<>();

  /** Counts a row that failed; {@code weight} is the change's. */
  public synchronized void add(long weight, RuntimeException cause) {
    count += weight;
    if (weight > 0) {
      if (reasons.size() == KEPT) {
        reasons.removeFirst();
      }
      String message = cause.getMessage();
      reasons.addLast(message == null ? cause.getClass().getSimpleName() : message);
    }
  }

  /** Becomes what it was when a checkpoint was made. */
  public synchronized void restore(long saved, List<String> savedReasons) {
    count = saved;
    reasons.clear();
    reasons.addAll(savedReasons);
  }

  public synchronized long count() {
    return count;
  }

  /** The latest reasons, oldest first. */
  public synchronized List<String> reasons() {
    return new ArrayList<>(reasons);
  }
}
