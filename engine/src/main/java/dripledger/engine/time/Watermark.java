package dripledger.engine.time;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import java.io.DataInput;
import java.io.DataOutput;
import java.io.IOException;
import java.util.Map;
import java.util.TreeMap;

/**
 * The watermark of a stream: in each partition the highest event time seen less the lateness, and
 * over the partitions the lowest of them. A partition that was silent for {@code idleMillis} no
 * longer holds the others back; if all are silent, it stays where it is. It never falls. Times are
 * microseconds since 1970 in UTC. Written by the epoch loop only.
 */
public final class Watermark {
  /** No event has been seen. */
  public static final long NONE = Long.MIN_VALUE;

  /** There is no event time to go by: it holds nothing back. */
  public static final long TIMELESS = Long.MAX_VALUE;

  private static final class Partition {
    long highest = NONE;
    long seenMillis;
  }

  private final long latenessMicros;
  private final long idleMillis;
  private final Map<Integer, Partition> partitions = new TreeMap<>();
  private long watermark = NONE;
  private long late;

  public Watermark(long latenessMicros, long idleMillis) {
    this.latenessMicros = latenessMicros;
    this.idleMillis = idleMillis;
  }

  /** Says that a partition is read: until it has an event or is silent, nothing is known of it. */
  public void expect(int number, long nowMillis) {
    if (!partitions.containsKey(number)) {
      Partition partition = new Partition();
      partition.seenMillis = nowMillis;
      partitions.put(number, partition);
    }
  }

  /** Takes in the time of an event. */
  public void observe(int number, long eventMicros, long nowMillis) {
    observe(seen(number, nowMillis), eventMicros, nowMillis);
  }

  private Partition seen(int number, long nowMillis) {
    expect(number, nowMillis);
    Partition partition = partitions.get(number);
    partition.seenMillis = nowMillis;
    return partition;
  }

  private void observe(Partition partition, long eventMicros, long nowMillis) {
    if (watermark != NONE && eventMicros < watermark) {
      late++;
    }
    if (eventMicros > partition.highest) {
      boolean held = partition.highest == NONE || partition.highest - latenessMicros <= watermark;
      partition.highest = eventMicros;
      if (held) {
        advance(nowMillis);
      }
    }
  }

  /**
   * Takes in the times of all events of a page.
   *
   * @param column of the event time; events without one are passed over
   */
  public void observe(int number, Page page, int column, long nowMillis) {
    expect(number, nowMillis);
    Partition partition = null; // until there is an event with a time
    RowLayout layout = page.layout();
    byte[] bytes = page.bytes();
    for (int i = 0; i < page.size(); i++) {
      int row = page.start(i);
      if (!layout.isNull(bytes, row, column)) {
        partition = partition == null ? seen(number, nowMillis) : partition;
        observe(partition, layout.slot(bytes, row, column), nowMillis);
      }
    }
  }

  /** Lets go of partitions that have been silent for too long. */
  public void advance(long nowMillis) {
    long lowest = Long.MAX_VALUE;
    for (Partition p : partitions.values()) {
      if (!idle(p, nowMillis)) {
        lowest = Math.min(lowest, p.highest);
      }
    }
    if (lowest != Long.MAX_VALUE && lowest != NONE) {
      watermark = Math.max(watermark, lowest - latenessMicros);
    }
  }

  private boolean idle(Partition p, long nowMillis) {
    return nowMillis - p.seenMillis > idleMillis;
  }

  /** The watermark, or {@link #NONE}. */
  public long micros() {
    return watermark;
  }

  /** How many events came from behind the watermark. */
  public long late() {
    return late;
  }

  /** Where one partition stands. */
  public record PartitionMark(int partition, long micros, boolean idle) {}

  /** Where each partition stands. */
  public java.util.List<PartitionMark> partitions(long nowMillis) {
    return partitions.entrySet().stream()
        .filter(e -> e.getValue().highest != NONE)
        .map(
            e ->
                new PartitionMark(
                    e.getKey(),
                    e.getValue().highest - latenessMicros,
                    idle(e.getValue(), nowMillis)))
        .toList();
  }

  /** Writes it to a checkpoint. */
  public void save(DataOutput out) throws IOException {
    out.writeLong(watermark);
    out.writeLong(late);
    out.writeInt(partitions.size());
    for (Map.Entry<Integer, Partition> e : partitions.entrySet()) {
      out.writeInt(e.getKey());
      out.writeLong(e.getValue().highest);
    }
  }

  /** Becomes what was saved; no partition counts as silent yet. */
  public void restore(DataInput in, long nowMillis) throws IOException {
    watermark = in.readLong();
    late = in.readLong();
    for (int n = in.readInt(); n > 0; n--) {
      Partition p = new Partition();
      partitions.put(in.readInt(), p);
      p.highest = in.readLong();
      p.seenMillis = nowMillis;
    }
  }
}
