package dripledger.engine.circuit;

import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicLongArray;

/**
 * How many rows an operator has left out because they came too late, and by how much. Written by
 * the epoch loop, read from any thread.
 */
public final class LateRows {
  /** By how much a row was late at most, in microseconds; more is in one more class. */
  private static final long[] LIMITS = {
    TimeUnit.SECONDS.toMicros(1),
    TimeUnit.SECONDS.toMicros(10),
    TimeUnit.MINUTES.toMicros(1),
    TimeUnit.MINUTES.toMicros(10),
    TimeUnit.HOURS.toMicros(1),
    TimeUnit.DAYS.toMicros(1)
  };

  private final AtomicLongArray counts = new AtomicLongArray(LIMITS.length + 1);

  /** Some rows that were late by no more than this, or {@link Long#MAX_VALUE}. */
  public record Class(long upToMicros, long rows) {}

  /**
   * Counts a row.
   *
   * @param by how much more lateness would have saved it, in microseconds
   */
  void add(long by, long rows) {
    int i = 0;
    while (i < LIMITS.length && by > LIMITS[i]) {
      i++;
    }
    counts.lazySet(i, counts.get(i) + rows);
  }

  /** All of them. */
  public long count() {
    long all = 0;
    for (int i = 0; i < counts.length(); i++) {
      all += counts.get(i);
    }
    return all;
  }

  /** How many by each measure of lateness, the smallest first. */
  public java.util.List<Class> classes() {
    java.util.List<Class> classes = new java.util.ArrayList<>();
    for (int i = 0; i < counts.length(); i++) {
      classes.add(new Class(i < LIMITS.length ? LIMITS[i] : Long.MAX_VALUE, counts.get(i)));
    }
    return classes;
  }

  void save(DataOutputStream out) throws IOException {
    for (int i = 0; i < counts.length(); i++) {
      out.writeLong(counts.get(i));
    }
  }

  void restore(DataInputStream in) throws IOException {
    for (int i = 0; i < counts.length(); i++) {
      counts.set(i, in.readLong());
    }
  }
}
