package dripledger.engine.circuit;

import dripledger.engine.time.Spans;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.util.ArrayList;
import java.util.List;
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
  public List<Class> classes() {
    List<Class> classes = new ArrayList<>();
    for (int i = 0; i < counts.length(); i++) {
      classes.add(new Class(i < LIMITS.length ? LIMITS[i] : Long.MAX_VALUE, counts.get(i)));
    }
    return classes;
  }

  /** How many would have been in time with how much more lateness; null if none was late. */
  public String saved() {
    List<String> parts = new ArrayList<>();
    long saved = 0;
    for (Class each : classes()) {
      saved += each.rows;
      if (each.rows > 0) {
        boolean known = each.upToMicros != Long.MAX_VALUE;
        parts.add(saved + " by " + (known ? Spans.text(each.upToMicros) : "more than a day"));
      }
    }
    return parts.isEmpty() ? null : String.join(", ", parts);
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
