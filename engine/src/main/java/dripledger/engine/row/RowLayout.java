package dripledger.engine.row;

import java.nio.charset.StandardCharsets;
import java.util.Arrays;

/**
 * Where the bytes of a row of one {@link Schema} are: one null bit a column (rounded up to bytes),
 * one 8-byte slot a column, then the variable area. The slot of a variable column holds {@code
 * offset << 32 | length}, the offset counted from the row's first byte, so that a row can be moved
 * without touching it. Immutable; safe from any thread.
 */
public final class RowLayout {
  private final Schema schema;
  private final int headerBytes;
  private final int fixedBytes;
  private final boolean[] variable;
  private final boolean anyVariable;
  private final RowLayout[] nested;

  public RowLayout(Schema schema) {
    this.schema = schema;
    int n = schema.size();
    headerBytes = (n + 7) >>> 3;
    fixedBytes = headerBytes + 8 * n;
    variable = new boolean[n];
    nested = new RowLayout[n];
    boolean any = false;
    for (int i = 0; i < n; i++) {
      ColumnType type = schema.type(i);
      variable[i] = type.isVariable();
      any |= variable[i];
      if (type.kind() == ColumnType.Kind.ROW) {
        nested[i] = new RowLayout(new Schema(type.fields()));
      }
    }
    anyVariable = any;
  }

  public Schema schema() {
    return schema;
  }

  public int columns() {
    return variable.length;
  }

  /** Bytes of null bits. */
  public int headerBytes() {
    return headerBytes;
  }

  /** Bytes of null bits and slots; the whole row if no column is variable. */
  public int fixedBytes() {
    return fixedBytes;
  }

  public boolean isVariable(int column) {
    return variable[column];
  }

  public boolean anyVariable() {
    return anyVariable;
  }

  /** The layout of a ROW column's fields, or null for other columns. */
  public RowLayout nested(int column) {
    return nested[column];
  }

  public int slotOffset(int column) {
    return headerBytes + 8 * column;
  }

  public boolean isNull(byte[] bytes, int row, int column) {
    return (bytes[row + (column >>> 3)] & (1 << (column & 7))) != 0;
  }

  /** The raw slot: the value of a fixed column, the place of a variable one. */
  public long slot(byte[] bytes, int row, int column) {
    return Bytes.getLong(bytes, row + headerBytes + 8 * column);
  }

  public int variableOffset(byte[] bytes, int row, int column) {
    return row + (int) (slot(bytes, row, column) >>> 32);
  }

  public int variableLength(byte[] bytes, int row, int column) {
    return (int) slot(bytes, row, column);
  }

  /** The bytes of the row that starts at {@code row}. */
  public int length(byte[] bytes, int row) {
    if (!anyVariable) {
      return fixedBytes;
    }
    for (int i = variable.length - 1; i >= 0; i--) {
      if (variable[i] && !isNull(bytes, row, i)) {
        long slot = slot(bytes, row, i);
        return (int) (slot >>> 32) + (int) slot;
      }
    }
    return fixedBytes;
  }

  /** The layout of the first columns only. */
  public RowLayout leading(int count) {
    return new RowLayout(new Schema(schema.columns().subList(0, count)));
  }

  public double doubleValue(byte[] bytes, int row, int column) {
    return Double.longBitsToDouble(slot(bytes, row, column));
  }

  public String stringValue(byte[] bytes, int row, int column) {
    long slot = slot(bytes, row, column);
    return new String(bytes, row + (int) (slot >>> 32), (int) slot, StandardCharsets.UTF_8);
  }

  public java.math.BigDecimal decimalValue(byte[] bytes, int row, int column) {
    int scale = schema.type(column).scale();
    long slot = slot(bytes, row, column);
    if (!variable[column]) {
      return java.math.BigDecimal.valueOf(slot, scale);
    }
    return new java.math.BigDecimal(
        new java.math.BigInteger(bytes, row + (int) (slot >>> 32), WideDecimal.BYTES), scale);
  }

  public byte[] binaryValue(byte[] bytes, int row, int column) {
    int from = variableOffset(bytes, row, column);
    return Arrays.copyOfRange(bytes, from, from + variableLength(bytes, row, column));
  }

  /** The layout an ARRAY value of {@code count} elements is written with. */
  public static RowLayout ofArray(ColumnType element, int count) {
    Column column = new Column("e", element.withNullable(true));
    return new RowLayout(new Schema(java.util.Collections.nCopies(count, column)));
  }

  @Override
  public boolean equals(Object other) {
    return other instanceof RowLayout that && schema.equals(that.schema);
  }

  @Override
  public int hashCode() {
    return schema.hashCode();
  }
}
