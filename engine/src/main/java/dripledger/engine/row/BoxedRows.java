package dripledger.engine.row;

import java.math.BigDecimal;
import java.time.Duration;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.time.Period;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.List;

/**
 * Rows as objects, for the edges of the API and tests only: Boolean, Long (all integers), Double
 * (REAL too), BigDecimal, String, byte[], LocalDate, LocalTime, LocalDateTime, Duration, Period,
 * and List for ROW and ARRAY. Pure functions.
 */
public final class BoxedRows {
  private static final long MICROS = 1_000_000L;

  private BoxedRows() {}

  public static long micros(LocalDateTime value) {
    return Math.addExact(
        Math.multiplyExact(value.toEpochSecond(ZoneOffset.UTC), MICROS), value.getNano() / 1000);
  }

  public static LocalDateTime timestamp(long micros) {
    return LocalDateTime.ofEpochSecond(
        Math.floorDiv(micros, MICROS), (int) Math.floorMod(micros, MICROS) * 1000, ZoneOffset.UTC);
  }

  public static Object[] read(RowLayout layout, byte[] bytes, int row) {
    Object[] values = new Object[layout.columns()];
    for (int i = 0; i < values.length; i++) {
      values[i] = readColumn(layout, bytes, row, i);
    }
    return values;
  }

  /** The value of one column, or null. */
  public static Object readColumn(RowLayout layout, byte[] bytes, int row, int column) {
    if (layout.isNull(bytes, row, column)) {
      return null;
    }
    ColumnType type = layout.schema().type(column);
    long slot = layout.slot(bytes, row, column);
    return switch (type.kind()) {
      case BOOLEAN -> slot != 0;
      case SMALLINT, INTEGER, BIGINT -> slot;
      case REAL, DOUBLE -> Double.longBitsToDouble(slot);
      case DECIMAL -> layout.decimalValue(bytes, row, column);
      case VARCHAR -> layout.stringValue(bytes, row, column);
      case VARBINARY -> layout.binaryValue(bytes, row, column);
      case DATE -> LocalDate.ofEpochDay(slot);
      case TIME -> LocalTime.ofNanoOfDay(slot * 1000);
      case TIMESTAMP -> timestamp(slot);
      case INTERVAL_DAY_TIME -> Duration.of(slot, java.time.temporal.ChronoUnit.MICROS);
      case INTERVAL_YEAR_MONTH -> Period.ofMonths((int) slot);
      case ROW ->
          java.util.Arrays.asList(
              read(layout.nested(column), bytes, layout.variableOffset(bytes, row, column)));
      case ARRAY -> {
        int at = layout.variableOffset(bytes, row, column);
        int count = Bytes.getInt(bytes, at);
        RowLayout elements = RowLayout.ofArray(type.element(), count);
        List<Object> list = new ArrayList<>(count);
        for (int i = 0; i < count; i++) {
          list.add(readColumn(elements, bytes, at + 4, i));
        }
        yield list;
      }
    };
  }

  /**
   * Sets all columns of the row begun on the writer.
   *
   * @throws IllegalArgumentException if a value does not fit its column
   */
  public static void write(RowWriter writer, Object... values) {
    for (int i = 0; i < values.length; i++) {
      writeColumn(writer, i, values[i]);
    }
  }

  /**
   * Sets one column.
   *
   * @throws IllegalArgumentException if the value does not fit the column
   */
  public static void writeColumn(RowWriter writer, int column, Object value) {
    ColumnType type = writer.layout().schema().type(column);
    if (value == null) {
      if (!type.nullable()) {
        throw new IllegalArgumentException(
            "column "
                + writer.layout().schema().column(column).name()
                + " is NOT NULL and the value is missing");
      }
      writer.setNull(column);
      return;
    }
    switch (type.kind()) {
      case BOOLEAN -> writer.setBoolean(column, (Boolean) value);
      case SMALLINT -> writer.setLong(column, inRange(value, Short.MIN_VALUE, Short.MAX_VALUE));
      case INTEGER -> writer.setLong(column, inRange(value, Integer.MIN_VALUE, Integer.MAX_VALUE));
      case BIGINT -> writer.setLong(column, ((Number) value).longValue());
      case REAL -> writer.setDouble(column, ((Number) value).floatValue());
      case DOUBLE -> writer.setDouble(column, ((Number) value).doubleValue());
      case DECIMAL -> {
        try {
          writer.setDecimal(column, (BigDecimal) value);
        } catch (ArithmeticException e) {
          throw new IllegalArgumentException(value + " does not fit " + type.sql(), e);
        }
      }
      case VARCHAR -> {
        String text = (String) value;
        if (type.precision() >= 0 && text.codePointCount(0, text.length()) > type.precision()) {
          throw new IllegalArgumentException("text is longer than " + type.sql());
        }
        writer.setString(column, text);
      }
      case VARBINARY -> {
        byte[] binary = (byte[]) value;
        writer.setBytes(column, binary, 0, binary.length);
      }
      case DATE -> writer.setLong(column, ((LocalDate) value).toEpochDay());
      case TIME -> writer.setLong(column, ((LocalTime) value).toNanoOfDay() / 1000);
      case TIMESTAMP -> writer.setLong(column, micros((LocalDateTime) value));
      case INTERVAL_DAY_TIME -> {
        Duration d = (Duration) value;
        writer.setLong(column, d.getSeconds() * MICROS + d.getNano() / 1000);
      }
      case INTERVAL_YEAR_MONTH -> writer.setLong(column, ((Period) value).toTotalMonths());
      case ROW -> {
        RowWriter nested = new RowWriter(writer.layout().nested(column), 64);
        nested.begin();
        write(nested, ((List<?>) value).toArray());
        writer.setBytes(column, nested.bytes(), nested.start(), nested.finish());
      }
      case ARRAY -> {
        List<?> list = (List<?>) value;
        RowWriter elements = new RowWriter(RowLayout.ofArray(type.element(), list.size()), 64);
        elements.begin();
        write(elements, list.toArray());
        int length = elements.finish();
        byte[] encoded = new byte[4 + length];
        Bytes.putInt(encoded, 0, list.size());
        System.arraycopy(elements.bytes(), elements.start(), encoded, 4, length);
        writer.setBytes(column, encoded, 0, encoded.length);
      }
    }
  }

  private static long inRange(Object value, long min, long max) {
    long number = ((Number) value).longValue();
    if (number < min || number > max) {
      throw new IllegalArgumentException(number + " is out of range");
    }
    return number;
  }
}
