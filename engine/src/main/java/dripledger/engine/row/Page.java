package dripledger.engine.row;

import java.util.Arrays;

/**
 * A delta: changes of one layout in the order they came, each a row and a weight (+n put in, −n
 * taken out). One growing byte array, with offsets and weights beside it and no object per row. A
 * page belongs to one thread at a time; an operator that receives one must not keep it.
 */
public final class Page {
  /** The mark of a row that has none. */
  public static final long UNMARKED = Long.MIN_VALUE;

  /** The mark of a row that is taken out because it has been kept for as long as it was to be. */
  public static final long EXPIRED = Long.MAX_VALUE - 1;

  private static final long[] NO_MARKS = {};

  private final RowWriter writer;
  private int[] starts;
  private long[] weights;
  private int size;
  private int committed; // where the last row that was committed ends
  private long[] marks = NO_MARKS; // of the first rows, as many as are marked
  private int marked;

  public Page(RowLayout layout) {
    this(layout, 16);
  }

  public Page(RowLayout layout, int expectedRows) {
    writer = new RowWriter(layout, Math.max(16, expectedRows) * (layout.fixedBytes() + 8));
    starts = new int[Math.max(16, expectedRows)];
    weights = new long[starts.length];
  }

  /**
   * The rows of another page with weights of their own: to leave some of them out. Good for as long
   * as the other page stays as it is.
   */
  public Page(Page rows) {
    writer = rows.writer;
    starts = rows.starts;
    size = rows.size;
    committed = rows.committed;
    marks = rows.marks;
    marked = rows.marked;
    weights = Arrays.copyOf(rows.weights, size);
  }

  public RowLayout layout() {
    return writer.layout();
  }

  public int size() {
    return size;
  }

  public boolean isEmpty() {
    return size == 0;
  }

  /** The bytes all rows live in; replaced when the page grows. */
  public byte[] bytes() {
    return writer.bytes();
  }

  /** Bytes used by the rows. */
  public int byteSize() {
    return writer.end();
  }

  public int start(int index) {
    return starts[index];
  }

  public int end(int index) {
    return index + 1 < size ? starts[index + 1] : writer.end();
  }

  public long weight(int index) {
    return weights[index];
  }

  public void setWeight(int index, long weight) {
    weights[index] = weight;
  }

  /**
   * Notes of an event how far the time of its partition had come when the event came. It goes with
   * the row for as long as the row stays itself: nothing of it is in the row's bytes.
   *
   * @param micros microseconds since 1970 in UTC
   */
  public void mark(int index, long micros) {
    if (index >= marks.length) {
      marks = Arrays.copyOf(marks, Math.max(starts.length, index + 1));
    }
    while (marked <= index) {
      marks[marked++] = UNMARKED;
    }
    marks[index] = micros;
  }

  /** A mark for each row, to be set by the caller: all of them, in the order of the rows. */
  public long[] markAll() {
    if (marks.length < size) {
      marks = new long[starts.length];
    }
    marked = size;
    return marks;
  }

  /** What was noted of a row, or {@link #UNMARKED}. */
  public long mark(int index) {
    return index < marked ? marks[index] : UNMARKED;
  }

  /** Whether something was noted of a row. */
  public boolean isMarked() {
    return marked > 0;
  }

  public void clear() {
    size = 0;
    marked = 0;
    committed = 0;
    writer.truncate(0);
  }

  /**
   * Starts a row; set its columns on the writer answered, then {@link #commit} or {@link #abort}.
   */
  public RowWriter begin() {
    writer.begin();
    return writer;
  }

  public void commit(long weight) {
    writer.finish();
    if (size == starts.length) {
      starts = Arrays.copyOf(starts, size * 2);
      weights = Arrays.copyOf(weights, size * 2);
    }
    starts[size] = writer.start();
    weights[size] = weight;
    size++;
    committed = writer.end();
  }

  /**
   * Appends a row of a layout without variable columns, whose bytes are to be set by the caller:
   * all of them, from the place answered on.
   */
  public int appendFixed(long weight) {
    int at = writer.fixed();
    if (size == starts.length) {
      starts = Arrays.copyOf(starts, size * 2);
      weights = Arrays.copyOf(weights, size * 2);
    }
    starts[size] = at;
    weights[size] = weight;
    size++;
    committed = writer.end();
    return at;
  }

  /** Drops the row begun last. */
  public void abort() {
    writer.truncate(writer.start());
  }

  /** Drops every row from this index on, and one that was begun and not committed. */
  public void truncate(int rows) {
    if (rows < size) {
      committed = starts[rows];
      size = rows;
      marked = Math.min(marked, rows);
    }
    writer.truncate(committed);
  }

  /** Appends a whole row of this page's layout. */
  public void append(byte[] source, int from, int length, long weight) {
    writer.append(source, from, length);
    commit(weight);
  }

  /**
   * Appends all rows of another page. One of an earlier layout of the same relation has fewer
   * columns; those missing are NULL.
   */
  public void appendAll(Page other) {
    if (other.layout().columns() != layout().columns()) {
      appendConverted(other);
      return;
    }
    for (int i = 0; i < other.size; i++) {
      append(other.bytes(), other.starts[i], other.end(i) - other.starts[i], other.weights[i]);
      markAs(other, i);
    }
  }

  private void markAs(Page other, int row) {
    if (row < other.marked) {
      mark(size - 1, other.marks[row]);
    }
  }

  /** As {@link #appendAll}, with the columns both have; more on the other side are left out. */
  public void appendConverted(Page other) {
    int common = Math.min(layout().columns(), other.layout().columns());
    for (int i = 0; i < other.size; i++) {
      begin();
      for (int c = 0; c < layout().columns(); c++) {
        if (c < common) {
          writer.copy(c, other.layout(), other.bytes(), other.starts[i], c);
        } else {
          writer.setNull(c);
        }
      }
      commit(other.weights[i]);
      markAs(other, i);
    }
  }

  /** Heap held, in bytes. */
  public long heapBytes() {
    return writer.bytes().length + 12L * starts.length + 8L * marks.length + 64;
  }
}
