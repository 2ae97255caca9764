package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.time.Spans;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.util.ArrayList;
import java.util.List;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicLongArray;
import java.util.function.Consumer;

/**
 * How many rows an operator has left out because they came too late, and by how much; if somebody
 * wants to keep them, those of the last epoch too. Written by who steps the operator; the counts
 * are read from any thread.
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

  /** Rows that may wait for {@link #take} in bytes; more are only counted. */
  private static final int MAX_BYTES = 16 << 20;

  private final AtomicLongArray counts = new AtomicLongArray(LIMITS.length + 1);
  private final String step;
  private final RowLayout layout;
  private Page gathered; // each with by how much it was late as its mark; null unless rows are kept
  private long passedOver;

  /** Some rows that were late by no more than this, or {@link Long#MAX_VALUE}. */
  public record Class(long upToMicros, long rows) {}

  /**
   * Rows that were left out.
   *
   * @param rows each with by how much it was late as its mark, in microseconds
   * @param more how many besides there was no room for
   */
  public record Left(String step, Page rows, long more) {}

  /**
   * @param step the step of the plan that leaves rows out
   * @param layout of these
   */
  LateRows(String step, RowLayout layout) {
    this.step = step;
    this.layout = layout;
  }

  /** Whether rows are gathered from now on, for {@link #take}. */
  void gather(boolean wanted) {
    if (wanted != (gathered != null)) {
      gathered = wanted ? new Page(layout) : null;
    }
  }

  /** Hands over what was gathered, if that is anything. */
  void take(Consumer<Left> sink) {
    if (gathered != null && !gathered.isEmpty()) {
      sink.accept(new Left(step, gathered, passedOver));
      gathered = new Page(layout);
      passedOver = 0;
    }
  }

  /**
   * Counts a row, and gathers it if it is to be kept.
   *
   * @param by how much more lateness would have saved it, in microseconds
   */
  void add(long by, long rows, byte[] bytes, int start) {
    count(by, rows);
    if (mayGather(rows)) {
      int length = layout.length(bytes, start);
      gathered.append(bytes, start, length, rows);
      gathered.mark(gathered.size() - 1, by);
    }
  }

  /** As above, of a row by columns. */
  void add(long by, ColumnDelta delta, int row) {
    long rows = delta.weights[row];
    count(by, rows);
    if (mayGather(rows)) {
      RowWriter writer = gathered.begin();
      for (int c = 0; c < layout.columns(); c++) {
        if (delta.columns[c] == null || (delta.nulls[row] & 1L << c) != 0) {
          writer.setNull(c);
        } else {
          writer.setLong(c, delta.columns[c][row]);
        }
      }
      gathered.commit(rows);
      gathered.mark(gathered.size() - 1, by);
    }
  }

  private boolean mayGather(long rows) {
    if (gathered == null) {
      return false;
    }
    if (gathered.byteSize() < MAX_BYTES) {
      return true;
    }
    passedOver += rows;
    return false;
  }

  private void count(long by, long rows) {
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
