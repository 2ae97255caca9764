package dripledger.engine.time;

import dripledger.engine.row.Page;
import dripledger.engine.time.PartitionMarks.Partition;
import java.io.DataInput;
import java.io.DataOutput;
import java.io.IOException;
import java.util.List;
import java.util.concurrent.TimeUnit;

/**
 * The watermark of a stream: the lowest of its partitions' own ({@link PartitionMarks}). A
 * partition that was silent for {@code idleMillis} no longer holds the others back; if all are
 * silent, it stays where it is. It never falls. Times of events are microseconds since 1970 in UTC;
 * silence is measured by a clock that nobody sets ({@link #clock}), so that one that is set changes
 * nothing. Written by the epoch loop only.
 */
public final class Watermark {
  /** No event has been seen. */
  public static final long NONE = Long.MIN_VALUE;

  /** There is no event time to go by: it holds nothing back. */
  public static final long TIMELESS = Long.MAX_VALUE;

  private final long latenessMicros;
  private final long idleMillis;
  private final PartitionMarks marks;
  private long watermark = NONE;

  public Watermark(long latenessMicros, long idleMillis) {
    this.latenessMicros = latenessMicros;
    this.idleMillis = idleMillis;
    marks = new PartitionMarks(latenessMicros);
  }

  /** Milliseconds of a clock that only goes forward, and has no date. */
  public static long clock() {
    return TimeUnit.NANOSECONDS.toMillis(System.nanoTime());
  }

  /** Says that a partition is read: until it has an event or is silent, nothing is known of it. */
  public void expect(int number, long nowMillis) {
    if (!marks.knows(number)) {
      marks.partition(number).seenMillis = nowMillis;
    }
  }

  private void seen(int number, long nowMillis) {
    expect(number, nowMillis);
    Partition partition = marks.partition(number);
    if (idle(partition, nowMillis)) {
      marks.comeBack(number, watermark);
    }
    partition.seenMillis = nowMillis;
  }

  /**
   * Takes in the times of all events of a page, and marks each event.
   *
   * @param column of the event time; events without one are passed over
   */
  public void observe(int number, Page page, int column, long nowMillis) {
    if (page.isEmpty()) {
      expect(number, nowMillis);
      return;
    }
    seen(number, nowMillis);
    marks.mark(number, page, column);
    advance(nowMillis);
  }

  /** Lets go of partitions that have been silent for too long. */
  public void advance(long nowMillis) {
    long lowest = TIMELESS;
    for (Partition p : marks.all().values()) {
      if (!idle(p, nowMillis)) {
        lowest = Math.min(lowest, p.mark(latenessMicros));
      }
    }
    if (lowest != TIMELESS) {
      watermark = Math.max(watermark, lowest);
    }
  }

  private boolean idle(Partition p, long nowMillis) {
    return nowMillis - p.seenMillis > idleMillis;
  }

  /** The watermark, or {@link #NONE}. */
  public long micros() {
    return watermark;
  }

  /** The highest event time of all partitions, or {@link #NONE}. */
  public long highest() {
    long highest = NONE;
    for (Partition p : marks.all().values()) {
      highest = Math.max(highest, p.highest);
    }
    return highest;
  }

  /** How many events came from behind their own partition's watermark. */
  public long late() {
    return marks.late();
  }

  /** Where partitions have come back that had been set aside. */
  public List<PartitionMarks.Return> returns() {
    return marks.returns();
  }

  /** Where one partition stands. */
  public record PartitionMark(int partition, long micros, boolean idle) {}

  /** Where each partition stands. */
  public List<PartitionMark> partitions(long nowMillis) {
    return marks.all().entrySet().stream()
        .filter(e -> e.getValue().highest != NONE)
        .map(
            e ->
                new PartitionMark(
                    e.getKey(), e.getValue().mark(latenessMicros), idle(e.getValue(), nowMillis)))
        .toList();
  }

  /** Writes it to a checkpoint. */
  public void save(DataOutput out) throws IOException {
    out.writeLong(watermark);
    marks.save(out);
  }

  /** Becomes what was saved; no partition counts as silent yet. */
  public void restore(DataInput in, long nowMillis) throws IOException {
    watermark = in.readLong();
    marks.restore(in, nowMillis);
  }
}
