package dripledger.engine.row;

import java.util.Arrays;

/**
 * Encodes chosen columns of a row so that unsigned comparison of the bytes is comparison of the
 * values, column by column, with NULL last. The encoding of each column ends itself, so a key of
 * fewer columns is a prefix of the keys it covers, and bytes may follow a key. Text sorts by code
 * point.
 *
 * <p>A nullable column starts with 1, or 2 for NULL. Integers are big-endian with the sign flipped;
 * floating point flips all bits of negatives; text and binary end with 00 00, a 00 inside is
 * written 00 FF; an ARRAY writes 1 before each element and 0 at its end. Immutable; safe from any
 * thread.
 */
public final class SortKeyCodec {
  private final RowLayout layout;
  private final int[] columns;
  private final boolean[] plain; // a slot that needs its sign flipped and nothing else

  public SortKeyCodec(RowLayout layout, int[] columns) {
    this.layout = layout;
    this.columns = columns.clone();
    plain = new boolean[columns.length];
    for (int i = 0; i < columns.length; i++) {
      ColumnType type = layout.schema().type(columns[i]);
      plain[i] = !type.nullable() && !type.isVariable() && !type.kind().isFloating();
    }
  }

  /** The key's columns, in key order. */
  public int[] columns() {
    return columns.clone();
  }

  /** Appends the key of a row. */
  public void encode(byte[] bytes, int row, ByteSink out) {
    for (int i = 0; i < columns.length; i++) {
      if (plain[i]) {
        out.putLong(layout.slot(bytes, row, columns[i]) ^ Long.MIN_VALUE);
      } else {
        encodeColumn(layout, bytes, row, columns[i], out);
      }
    }
  }

  private static void encodeColumn(
      RowLayout layout, byte[] bytes, int row, int column, ByteSink out) {
    ColumnType type = layout.schema().type(column);
    if (type.nullable()) {
      if (layout.isNull(bytes, row, column)) {
        out.putByte(2);
        return;
      }
      out.putByte(1);
    }
    switch (type.kind()) {
      case REAL, DOUBLE -> {
        long bits = layout.slot(bytes, row, column);
        out.putLong(bits < 0 ? ~bits : bits ^ Long.MIN_VALUE);
      }
      case VARCHAR, VARBINARY -> {
        int from = layout.variableOffset(bytes, row, column);
        out.putEscaped(bytes, from, from + layout.variableLength(bytes, row, column));
      }
      case ROW -> {
        RowLayout fields = layout.nested(column);
        int nestedRow = layout.variableOffset(bytes, row, column);
        for (int i = 0; i < fields.columns(); i++) {
          encodeColumn(fields, bytes, nestedRow, i, out);
        }
      }
      case ARRAY -> {
        int at = layout.variableOffset(bytes, row, column);
        int count = Bytes.getInt(bytes, at);
        RowLayout elements = RowLayout.ofArray(type.element(), count);
        for (int i = 0; i < count; i++) {
          out.putByte(1);
          encodeColumn(elements, bytes, at + 4, i, out);
        }
        out.putByte(0);
      }
      default -> {
        if (type.isVariable()) {
          int from = layout.variableOffset(bytes, row, column);
          out.putByte(bytes[from] ^ 0x80);
          out.put(bytes, from + 1, WideDecimal.BYTES - 1);
        } else {
          out.putLong(layout.slot(bytes, row, column) ^ Long.MIN_VALUE);
        }
      }
    }
  }

  /** A growing byte array that keys are appended to. Not thread-safe. */
  public static final class ByteSink {
    private byte[] bytes = new byte[256];
    private int size;

    public byte[] bytes() {
      return bytes;
    }

    public int size() {
      return size;
    }

    public void clear() {
      size = 0;
    }

    public byte[] toByteArray() {
      return Arrays.copyOf(bytes, size);
    }

    private void ensure(int more) {
      if (bytes.length - size < more) {
        long wanted = Math.max((long) size + more, bytes.length * 2L);
        bytes = Arrays.copyOf(bytes, (int) Math.min(wanted, Integer.MAX_VALUE - 16));
      }
    }

    public void putByte(int value) {
      ensure(1);
      bytes[size++] = (byte) value;
    }

    public void putLong(long value) {
      ensure(8);
      Bytes.putLongBigEndian(bytes, size, value);
      size += 8;
    }

    public void put(byte[] source, int from, int length) {
      ensure(length);
      System.arraycopy(source, from, bytes, size, length);
      size += length;
    }

    void putEscaped(byte[] source, int from, int to) {
      ensure(2 * (to - from) + 2);
      for (int i = from; i < to; i++) {
        bytes[size++] = source[i];
        if (source[i] == 0) {
          bytes[size++] = -1;
        }
      }
      bytes[size++] = 0;
      bytes[size++] = 0;
    }
  }
}
