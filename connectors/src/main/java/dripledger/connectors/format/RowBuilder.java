package dripledger.connectors.format;

import dripledger.engine.expr.Casts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import java.math.BigDecimal;
import java.math.RoundingMode;
import java.nio.charset.StandardCharsets;
import java.util.Arrays;

/**
 * One row whose columns become known in any order: a decoder sets them, {@link #write} puts them
 * into a page in column order. Reused from message to message; nothing is allocated for a value.
 * Not thread-safe.
 */
public final class RowBuilder {
  private static final byte UNSET = 0;
  private static final byte SLOT = 1;
  private static final byte BYTES = 2;
  private static final byte DECIMAL = 3;
  private static final byte NESTED = 4;

  private final Schema schema;
  private final byte[] state;
  private final long[] slots; // the value, or where its bytes are: offset << 32 | length
  private final BigDecimal[] decimals;
  private final RowBuilder[] nested;
  private final RowWriter[] nestedWriters;
  private byte[] bytes = new byte[256];
  private int used;

  public RowBuilder(Schema schema) {
    this.schema = schema;
    int n = schema.size();
    state = new byte[n];
    slots = new long[n];
    decimals = new BigDecimal[n];
    nested = new RowBuilder[n];
    nestedWriters = new RowWriter[n];
    for (int i = 0; i < n; i++) {
      if (schema.type(i).kind() == Kind.ROW) {
        Schema fields = new Schema(schema.type(i).fields());
        nested[i] = new RowBuilder(fields);
        nestedWriters[i] = new RowWriter(new RowLayout(fields), 64);
      }
    }
  }

  public Schema schema() {
    return schema;
  }

  /** Makes every column unset; unset columns are NULL. */
  public void clear() {
    Arrays.fill(state, UNSET);
    used = 0;
  }

  public boolean isSet(int column) {
    return state[column] != UNSET;
  }

  public void setNull(int column) {
    state[column] = UNSET;
  }

  /** The value of a column that fits a slot, in the column's own unit. */
  public void setLong(int column, long value) {
    state[column] = SLOT;
    slots[column] = value;
  }

  public void setDouble(int column, double value) {
    double fitted = schema.type(column).kind() == Kind.REAL ? (float) value : value;
    setLong(column, fitted == 0.0 ? 0L : Double.doubleToLongBits(fitted));
  }

  public void setDecimal(int column, BigDecimal value) {
    ColumnType type = schema.type(column);
    BigDecimal scaled = value.setScale(type.scale(), RoundingMode.HALF_UP);
    if (scaled.precision() > type.precision()) {
      throw new ArithmeticException("it does not fit " + type.sql());
    }
    decimals[column] = scaled;
    state[column] = DECIMAL;
  }

  public void setBytes(int column, byte[] source, int from, int length) {
    ensure(length);
    System.arraycopy(source, from, bytes, used, length);
    placed(column, length);
  }

  private void placed(int column, int length) {
    state[column] = BYTES;
    slots[column] = (long) used << 32 | length;
    used += length;
  }

  private void ensure(int more) {
    if (bytes.length - used < more) {
      if ((long) used + more > 4L * RowWriter.MAX_ROW_BYTES) {
        throw new FormatException("the row is larger than " + RowWriter.MAX_ROW_BYTES + " bytes");
      }
      bytes = Arrays.copyOf(bytes, Math.max(used + more, bytes.length * 2));
    }
  }

  public void setText(int column, String value) {
    byte[] utf8 = value.getBytes(StandardCharsets.UTF_8);
    checkLength(column, value.length(), () -> value);
    setBytes(column, utf8, 0, utf8.length);
  }

  /** Text as characters; what is not ASCII takes a detour. */
  public void setText(int column, char[] text, int from, int length) {
    ensure(length);
    byte[] to = bytes;
    int at = used;
    for (int i = 0; i < length; i++) {
      char c = text[from + i];
      if (c >= 0x80) {
        setText(column, new String(text, from, length));
        return;
      }
      to[at + i] = (byte) c;
    }
    checkLength(column, length, () -> new String(text, from, length));
    placed(column, length);
  }

  /**
   * A value given as text, read as a CAST would.
   *
   * @throws RuntimeException if it is not of the column's type
   */
  public void setParsed(int column, String text) {
    switch (schema.type(column).kind()) {
      case VARCHAR -> setText(column, text);
      case BOOLEAN -> setLong(column, Casts.toBoolean(text) ? 1 : 0);
      case SMALLINT -> setLong(column, Casts.shortRange(Casts.toLong(text)));
      case INTEGER -> setLong(column, Casts.intRange(Casts.toLong(text)));
      case BIGINT -> setLong(column, Casts.toLong(text));
      case REAL, DOUBLE -> setDouble(column, Casts.toDouble(text));
      case DECIMAL -> setDecimal(column, Casts.toDecimal(text));
      case DATE -> setLong(column, Casts.toDate(text));
      case TIME -> setLong(column, Casts.toTime(text));
      case TIMESTAMP -> setLong(column, Casts.toTimestamp(text));
      default -> setBoxed(column, Casts.parse(text, schema.type(column)));
    }
  }

  private void checkLength(int column, int units, java.util.function.Supplier<String> text) {
    int limit = schema.type(column).precision();
    if (limit >= 0 && units > limit && text.get().codePointCount(0, units) > limit) {
      Column c = schema.column(column);
      throw new FormatException("column " + c.name() + ": text is longer than " + c.type().sql());
    }
  }

  /** The builder of a ROW column's fields, cleared; setting any of them sets the column. */
  public RowBuilder nested(int column) {
    nested[column].clear();
    state[column] = NESTED;
    return nested[column];
  }

  /** A value in boxed form: see {@link BoxedRows}. */
  public void setBoxed(int column, Object value) {
    if (value == null) {
      setNull(column);
      return;
    }
    switch (schema.type(column).kind()) {
      case VARCHAR -> setText(column, (String) value);
      case DECIMAL -> setDecimal(column, (BigDecimal) value);
      case VARBINARY -> setBytes(column, (byte[]) value, 0, ((byte[]) value).length);
      default -> {
        Column c = schema.column(column);
        RowLayout one = new RowLayout(Schema.of(new Column(c.name(), c.type().withNullable(true))));
        RowWriter writer = new RowWriter(one, 64);
        writer.begin();
        BoxedRows.writeColumn(writer, 0, value);
        writer.finish();
        if (one.isVariable(0)) {
          setBytes(
              column,
              writer.bytes(),
              one.variableOffset(writer.bytes(), 0, 0),
              one.variableLength(writer.bytes(), 0, 0));
        } else {
          setLong(column, one.slot(writer.bytes(), 0, 0));
        }
      }
    }
  }

  /** The value of a column in boxed form; where speed does not matter. */
  public Object boxed(int column) {
    RowLayout layout = new RowLayout(schema);
    RowWriter writer = new RowWriter(layout, 64);
    writer.begin();
    write(writer, true);
    writer.finish();
    return BoxedRows.readColumn(layout, writer.bytes(), 0, column);
  }

  /**
   * Sets all columns of the row begun on a writer whose first columns are this schema's.
   *
   * @param keepsMissing whether columns that must not be NULL may be unset all the same
   * @throws FormatException if a column that must not be NULL is
   */
  public void write(RowWriter writer, boolean keepsMissing) {
    for (int i = 0; i < state.length; i++) {
      switch (state[i]) {
        case SLOT -> writer.setLong(i, slots[i]);
        case BYTES -> writer.setBytes(i, bytes, (int) (slots[i] >>> 32), (int) slots[i]);
        case DECIMAL -> writer.setDecimal(i, decimals[i]);
        case NESTED -> {
          RowWriter fields = nestedWriters[i];
          fields.truncate(0);
          fields.begin();
          nested[i].write(fields, keepsMissing);
          int length = fields.finish();
          writer.setBytes(i, fields.bytes(), fields.start(), length);
        }
        default -> {
          if (!keepsMissing && !schema.type(i).nullable()) {
            throw new FormatException(
                "column " + schema.column(i).name() + " is NOT NULL and the value is missing");
          }
          writer.setNull(i);
        }
      }
    }
  }
}
