package dripledger.engine.row;

import java.math.BigDecimal;
import java.math.BigInteger;
import java.nio.charset.StandardCharsets;
import java.util.Arrays;

/**
 * Appends rows of one layout to a growing buffer. Between {@link #begin} and {@link #finish}
 * columns are set in ascending order (the variable area is packed in that order, which makes the
 * encoding canonical); every column must be set, to a value or by {@link #setNull}. Not
 * thread-safe.
 */
public final class RowWriter {
  /** Whether NULL is refused where none may be; what reads messages notes it, and says so later. */
  private static final boolean STRICT = Boolean.getBoolean("drip.strict-nulls");

  /** The largest row, in bytes; a larger one is refused with {@link RowTooLargeException}. */
  public static final int MAX_ROW_BYTES = 512 * 1024;

  private final RowLayout layout;
  private final int fixedBytes;
  private final int headerBytes;
  private byte[] bytes;
  private int start;
  private int end;

  public RowWriter(RowLayout layout, int initialBytes) {
    this.layout = layout;
    this.fixedBytes = layout.fixedBytes();
    this.headerBytes = layout.headerBytes();
    this.bytes = new byte[Math.max(initialBytes, 64)];
  }

  /** Thrown by {@link #finish}; the row is dropped. */
  public static final class RowTooLargeException extends RuntimeException {
    private static final long serialVersionUID = 1L;

    RowTooLargeException(int size) {
      super("the row has " + size + " bytes; the limit is " + MAX_ROW_BYTES);
    }
  }

  public RowLayout layout() {
    return layout;
  }

  /** The buffer itself; replaced when it grows, so do not keep it across a write. */
  public byte[] bytes() {
    return bytes;
  }

  /** The first byte of the row begun last. */
  public int start() {
    return start;
  }

  /** One past the last byte written. */
  public int end() {
    return end;
  }

  /** Forgets everything behind {@code position}, an earlier {@link #end}. */
  public void truncate(int position) {
    end = position;
    start = position;
  }

  public void begin() {
    start = end;
    ensure(fixedBytes);
    for (int i = 0; i < headerBytes; i++) {
      bytes[start + i] = 0;
    }
    end = start + fixedBytes;
  }

  /** Begins a row that is a copy of a whole row of the same layout. */
  void append(byte[] source, int from, int length) {
    start = end;
    ensure(length);
    System.arraycopy(source, from, bytes, end, length);
    end += length;
  }

  /** Makes room for a row of fixed size, and answers where it starts. */
  int fixed() {
    start = end;
    ensure(fixedBytes);
    end = start + fixedBytes;
    return start;
  }

  /** Makes the row that was begun a copy of a whole row of the same layout. */
  public void setRow(byte[] source, int from, int length) {
    end = start;
    append(source, from, length);
  }

  /** Ends the row and answers its length in bytes. */
  public int finish() {
    int size = end - start;
    if (size > MAX_ROW_BYTES) {
      truncate(start);
      throw new RowTooLargeException(size);
    }
    return size;
  }

  private void ensure(int more) {
    if (bytes.length - end < more) {
      long wanted = Math.max((long) end + more, bytes.length * 2L);
      if ((long) end + more > Integer.MAX_VALUE - 16) {
        throw new IllegalStateException("a page holds at most 2 GiB");
      }
      bytes = Arrays.copyOf(bytes, (int) Math.min(wanted, Integer.MAX_VALUE - 16));
    }
  }

  public void setNull(int column) {
    assert !STRICT || layout.schema().type(column).nullable() : "NULL in column " + column;
    bytes[start + (column >>> 3)] |= (byte) (1 << (column & 7));
    Bytes.putLong(bytes, start + layout.slotOffset(column), 0);
  }

  public void setLong(int column, long value) {
    Bytes.putLong(bytes, start + layout.slotOffset(column), value);
  }

  public void setBoolean(int column, boolean value) {
    setLong(column, value ? 1 : 0);
  }

  public void setDouble(int column, double value) {
    setLong(column, slotOf(value));
  }

  /** The slot of a floating-point value: one for both zeros, one for every NaN. */
  public static long slotOf(double value) {
    return value == 0.0 ? 0L : Double.doubleToLongBits(value);
  }

  public void setBytes(int column, byte[] source, int from, int length) {
    ensure(length);
    System.arraycopy(source, from, bytes, end, length);
    setLong(column, ((long) (end - start) << 32) | length);
    end += length;
  }

  public void setString(int column, String value) {
    byte[] utf8 = value.getBytes(StandardCharsets.UTF_8);
    setBytes(column, utf8, 0, utf8.length);
  }

  /** Rounds half away from zero to the column's scale; fails if the digits do not fit. */
  public void setDecimal(int column, BigDecimal value) {
    ColumnType type = layout.schema().type(column);
    BigInteger unscaled = WideDecimal.fit(value, type.precision(), type.scale()).unscaledValue();
    if (layout.isVariable(column)) {
      ensure(WideDecimal.BYTES);
      WideDecimal.write(unscaled, bytes, end);
      setLong(column, ((long) (end - start) << 32) | WideDecimal.BYTES);
      end += WideDecimal.BYTES;
    } else {
      setLong(column, unscaled.longValueExact());
    }
  }

  /**
   * Copies all columns of a row of another layout.
   *
   * @param first where the row's first column goes
   */
  public void copyAll(int first, RowLayout from, byte[] source, int row) {
    int columns = from.columns();
    if (from.anyVariable()) {
      for (int c = 0; c < columns; c++) {
        copy(first + c, from, source, row, c);
      }
      return;
    }
    int source0 = row + from.headerBytes();
    int target0 = start + layout.slotOffset(first);
    for (int c = 0; c < columns; c++) { // rows are short: a call to copy bytes costs more
      Bytes.putLong(bytes, target0 + 8 * c, Bytes.getLong(source, source0 + 8 * c));
    }
    for (int h = 0; h < from.headerBytes(); h++) {
      if (source[row + h] != 0) {
        copyNulls(first, from, source, row);
        return;
      }
    }
  }

  private void copyNulls(int first, RowLayout from, byte[] source, int row) {
    for (int c = 0; c < from.columns(); c++) {
      if (from.isNull(source, row, c)) {
        setNull(first + c);
      }
    }
  }

  /** Copies a column of the same type from a row of another layout. */
  public void copy(int column, RowLayout from, byte[] source, int row, int sourceColumn) {
    if (from.isNull(source, row, sourceColumn)) {
      setNull(column);
    } else if (from.isVariable(sourceColumn)) {
      long slot = from.slot(source, row, sourceColumn);
      setBytes(column, source, row + (int) (slot >>> 32), (int) slot);
    } else {
      setLong(column, from.slot(source, row, sourceColumn));
    }
  }
}
