package dripledger.server.wire;

import dripledger.connectors.format.JsonRows;
import dripledger.engine.expr.Casts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.RowLayout;
import java.math.BigDecimal;
import java.math.BigInteger;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.time.Period;
import java.util.HexFormat;
import java.util.List;

/**
 * Values as the protocol has them: as text, as PostgreSQL prints it, or in its binary form. Both
 * take the place of a length and the value's bytes behind it. Stateless.
 */
final class WireValues {
  private static final long MICROS_A_SECOND = 1_000_000L;
  static final int EPOCH_DAYS = 10_957; // from 1970 to 2000, where binary dates begin
  static final long EPOCH_MICROS = EPOCH_DAYS * 86_400L * MICROS_A_SECOND;

  private WireValues() {}

  /** A column of a row that is kept, without boxing it where that is easy. */
  static void write(
      WireOutput out, RowLayout layout, byte[] bytes, int row, int column, boolean binary) {
    if (layout.isNull(bytes, row, column)) {
      out.nullValue();
      return;
    }
    ColumnType type = layout.schema().type(column);
    Kind kind = type.kind();
    if (kind == Kind.VARCHAR) {
      int length = layout.variableLength(bytes, row, column);
      out.int32(length).bytes(bytes, layout.variableOffset(bytes, row, column), length);
    } else if (kind.isInteger()) {
      integer(out, kind, layout.slot(bytes, row, column), binary);
    } else if (kind == Kind.TIMESTAMP) {
      timestamp(out, layout.slot(bytes, row, column), binary);
    } else {
      write(out, type, BoxedRows.readColumn(layout, bytes, row, column), binary);
    }
  }

  private static void integer(WireOutput out, Kind kind, long value, boolean binary) {
    if (!binary) {
      int begun = out.beginValue();
      out.digits(value);
      out.endValue(begun);
    } else if (kind == Kind.SMALLINT) {
      out.int32(2).int16((int) value);
    } else if (kind == Kind.INTEGER) {
      out.int32(4).int32((int) value);
    } else {
      out.int32(8).int64(value);
    }
  }

  private static void timestamp(WireOutput out, long micros, boolean binary) {
    if (binary) {
      out.int32(8).int64(micros - EPOCH_MICROS);
    } else {
      text(out, Casts.timestampText(micros));
    }
  }

  private static void text(WireOutput out, String text) {
    int begun = out.beginValue();
    out.chars(text);
    out.endValue(begun);
  }

  /** A boxed value. */
  static void write(WireOutput out, ColumnType type, Object value, boolean binary) {
    if (value == null) {
      out.nullValue();
    } else if (binary && !WireType.isJson(type)) {
      binary(out, type, value);
    } else {
      text(out, text(type, value));
    }
  }

  /** A value as PostgreSQL prints it. */
  static String text(ColumnType type, Object value) {
    if (WireType.isJson(type)) {
      return JsonRows.text(type, value);
    }
    return switch (type.kind()) {
      case BOOLEAN -> (Boolean) value ? "t" : "f";
      case REAL -> Casts.realText((Double) value);
      case DOUBLE -> Casts.text((double) (Double) value);
      case DECIMAL -> ((BigDecimal) value).toPlainString();
      case VARBINARY -> "\\x" + HexFormat.of().formatHex((byte[]) value);
      case TIME -> Casts.timeText(((LocalTime) value).toNanoOfDay() / 1000);
      case TIMESTAMP -> Casts.timestampText(BoxedRows.micros((LocalDateTime) value));
      case INTERVAL_DAY_TIME -> interval((Duration) value);
      case INTERVAL_YEAR_MONTH -> interval((Period) value);
      case ARRAY -> array(type.element(), (List<?>) value);
      default -> value.toString();
    };
  }

  private static String interval(Duration value) {
    long micros = micros(value);
    long days = micros / Casts.DAY;
    long rest = micros % Casts.DAY;
    String time = rest == 0 ? "" : (rest < 0 ? "-" : "") + Casts.timeText(Math.abs(rest));
    if (days == 0) {
      return time.isEmpty() ? "00:00:00" : time;
    }
    String text = days + (days == 1 ? " day" : " days");
    return time.isEmpty() ? text : text + " " + (days < 0 && rest > 0 ? "+" : "") + time;
  }

  private static String interval(Period value) {
    long months = value.toTotalMonths();
    long years = months / 12;
    long rest = months % 12;
    String first = years == 0 ? "" : years + (years == 1 ? " year" : " years");
    String second = rest == 0 ? "" : rest + (rest == 1 ? " mon" : " mons");
    return first.isEmpty() && second.isEmpty()
        ? "00:00:00"
        : first + (first.isEmpty() || second.isEmpty() ? "" : " ") + second;
  }

  private static long micros(Duration value) {
    return value.getSeconds() * MICROS_A_SECOND + value.getNano() / 1000;
  }

  private static String array(ColumnType element, List<?> values) {
    StringBuilder text = new StringBuilder("{");
    for (Object value : values) {
      if (text.length() > 1) {
        text.append(',');
      }
      if (value == null) {
        text.append("NULL");
        continue;
      }
      String plain = text(element, value);
      if (plain.isEmpty()
          || plain.equalsIgnoreCase("null")
          || plain.chars().anyMatch(c -> "{},\"\\".indexOf(c) >= 0 || Character.isWhitespace(c))) {
        plain = '"' + plain.replace("\\", "\\\\").replace("\"", "\\\"") + '"';
      }
      text.append(plain);
    }
    return text.append('}').toString();
  }

  private static void binary(WireOutput out, ColumnType type, Object value) {
    switch (type.kind()) {
      case BOOLEAN -> out.int32(1).int8((Boolean) value ? 1 : 0);
      case SMALLINT, INTEGER, BIGINT -> integer(out, type.kind(), (Long) value, true);
      case REAL -> out.int32(4).int32(Float.floatToIntBits(((Double) value).floatValue()));
      case DOUBLE -> out.int32(8).int64(Double.doubleToLongBits((Double) value));
      case DECIMAL -> numeric(out, (BigDecimal) value);
      case VARBINARY -> out.int32(((byte[]) value).length).bytes((byte[]) value);
      case DATE -> out.int32(4).int32((int) ((LocalDate) value).toEpochDay() - EPOCH_DAYS);
      case TIME -> out.int32(8).int64(((LocalTime) value).toNanoOfDay() / 1000);
      case TIMESTAMP -> timestamp(out, BoxedRows.micros((LocalDateTime) value), true);
      case INTERVAL_DAY_TIME -> {
        long micros = micros((Duration) value);
        out.int32(16).int64(micros % Casts.DAY).int32((int) (micros / Casts.DAY)).int32(0);
      }
      case INTERVAL_YEAR_MONTH ->
          out.int32(16).int64(0).int32(0).int32((int) ((Period) value).toTotalMonths());
      case ARRAY -> arrayBinary(out, type.element(), (List<?>) value);
      default -> {
        byte[] text = text(type, value).getBytes(StandardCharsets.UTF_8);
        out.int32(text.length).bytes(text);
      }
    }
  }

  private static void arrayBinary(WireOutput out, ColumnType element, List<?> values) {
    int begun = out.beginValue();
    out.int32(values.isEmpty() ? 0 : 1);
    out.int32(values.contains(null) ? 1 : 0);
    out.int32(WireType.of(element).oid());
    if (!values.isEmpty()) {
      out.int32(values.size()).int32(1);
      values.forEach(v -> write(out, element, v, true));
    }
    out.endValue(begun);
  }

  /** Digits to the base of ten thousand, the first of which counts {@code weight} such places. */
  private static void numeric(WireOutput out, BigDecimal value) {
    int scale = Math.max(0, value.scale());
    BigInteger unscaled = value.setScale((scale + 3) / 4 * 4).unscaledValue().abs();
    int after = (scale + 3) / 4;
    java.util.ArrayDeque<Integer> digits = new java.util.ArrayDeque<>();
    BigInteger base = BigInteger.valueOf(10_000);
    while (unscaled.signum() != 0) {
      BigInteger[] parts = unscaled.divideAndRemainder(base);
      digits.addFirst(parts[1].intValue());
      unscaled = parts[0];
    }
    int weight = digits.size() - after - 1;
    while (!digits.isEmpty() && digits.peekLast() == 0) {
      digits.removeLast();
    }
    int begun = out.beginValue();
    out.int16(digits.size()).int16(digits.isEmpty() ? 0 : weight);
    out.int16(value.signum() < 0 ? 0x4000 : 0).int16(scale);
    digits.forEach(out::int16);
    out.endValue(begun);
  }
}
