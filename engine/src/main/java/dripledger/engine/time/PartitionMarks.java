package dripledger.engine.time;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import java.io.DataInput;
import java.io.DataOutput;
import java.io.IOException;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;

/**
 * The own watermark of each partition of a stream, row by row in the partition's order: the highest
 * event time seen in it less the lateness. It depends on nothing else, so that whoever reads the
 * events again finds the same; but where a partition that had been set aside as silent came back,
 * it is at least what the stream's watermark was then, and that is noted by its row. Times are
 * microseconds since 1970 in UTC. Used by one thread at a time.
 */
public final class PartitionMarks {
  /** Where a partition came back: before which of its rows, counted from 0, and to what. */
  public record Return(int partition, long row, long micros) {}

  static final class Partition {
    long highest = Watermark.NONE;
    long floor = Watermark.NONE;
    long rows;
    long seenMillis;
    private List<Return> returns = List.of(); // those still to come when events are read again

    /** Comes back as it did before, if that was before this row of those that are read. */
    private void comeBackAgain(int read) {
      while (!returns.isEmpty() && returns.get(0).row == rows + read) {
        floor = returns.get(0).micros;
        returns = returns.subList(1, returns.size());
      }
    }

    /** Its own watermark, or {@link Watermark#NONE}. */
    long mark(long latenessMicros) {
      long own = highest == Watermark.NONE ? Watermark.NONE : highest - latenessMicros;
      return Math.max(own, floor);
    }
  }

  private final long latenessMicros;
  private final Map<Integer, Partition> partitions = new TreeMap<>();
  private final List<Return> returns = new ArrayList<>();
  private long late;

  PartitionMarks(long latenessMicros) {
    this.latenessMicros = latenessMicros;
  }

  /** Those of a stream whose events are read again from the first on. */
  public static PartitionMarks again(long latenessMicros, List<Return> returns) {
    PartitionMarks marks = new PartitionMarks(latenessMicros);
    Map<Integer, List<Return>> each = new HashMap<>();
    returns.forEach(r -> each.computeIfAbsent(r.partition, p -> new ArrayList<>()).add(r));
    each.forEach((number, list) -> marks.partition(number).returns = list);
    return marks;
  }

  Partition partition(int number) {
    return partitions.computeIfAbsent(number, n -> new Partition());
  }

  boolean knows(int number) {
    return partitions.containsKey(number);
  }

  Map<Integer, Partition> all() {
    return partitions;
  }

  /** A partition that was set aside is read again. */
  void comeBack(int number, long watermark) {
    Partition partition = partition(number);
    if (watermark > partition.mark(latenessMicros)) {
      partition.floor = watermark;
      returns.add(new Return(number, partition.rows, watermark));
    }
  }

  /** Where partitions have come back, in the order of that. */
  List<Return> returns() {
    return List.copyOf(returns);
  }

  /** Rows whose time was behind their own partition's watermark when they came. */
  long late() {
    return late;
  }

  /**
   * Takes in all events of a page, and marks each with its partition's own watermark.
   *
   * @param column of the event time; an event without one says nothing about time
   */
  public void mark(int number, Page page, int column) {
    Partition partition = partition(number);
    RowLayout layout = page.layout();
    byte[] bytes = page.bytes();
    boolean nullable = layout.schema().type(column).nullable();
    long[] marks = page.markAll();
    long mark = partition.mark(latenessMicros);
    for (int i = 0; i < page.size(); i++) {
      if (!partition.returns.isEmpty()) {
        partition.comeBackAgain(i);
        mark = partition.mark(latenessMicros);
      }
      int row = page.start(i);
      if (!nullable || !layout.isNull(bytes, row, column)) {
        long at = layout.slot(bytes, row, column);
        late += at < mark ? 1 : 0;
        if (at > partition.highest) {
          partition.highest = at;
          mark = partition.mark(latenessMicros);
        }
      }
      marks[i] = mark;
    }
    partition.rows += page.size();
  }

  void save(DataOutput out) throws IOException {
    out.writeLong(late);
    out.writeInt(partitions.size());
    for (Map.Entry<Integer, Partition> e : partitions.entrySet()) {
      out.writeInt(e.getKey());
      out.writeLong(e.getValue().highest);
      out.writeLong(e.getValue().floor);
      out.writeLong(e.getValue().rows);
    }
    out.writeInt(returns.size());
    for (Return r : returns) {
      out.writeInt(r.partition);
      out.writeLong(r.row);
      out.writeLong(r.micros);
    }
  }

  void restore(DataInput in, long nowMillis) throws IOException {
    late = in.readLong();
    for (int n = in.readInt(); n > 0; n--) {
      Partition p = partition(in.readInt());
      p.highest = in.readLong();
      p.floor = in.readLong();
      p.rows = in.readLong();
      p.seenMillis = nowMillis;
    }
    for (int n = in.readInt(); n > 0; n--) {
      returns.add(new Return(in.readInt(), in.readLong(), in.readLong()));
    }
  }
}
