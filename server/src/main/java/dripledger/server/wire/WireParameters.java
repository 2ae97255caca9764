package dripledger.server.wire;

import dripledger.engine.expr.Casts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.math.BigDecimal;
import java.math.BigInteger;
import java.nio.ByteBuffer;
import java.time.DateTimeException;
import java.time.Duration;
import java.time.LocalDate;
import java.time.LocalTime;
import java.time.temporal.ChronoUnit;
import java.util.ArrayList;
import java.util.HexFormat;
import java.util.List;

/** The values of parameters, and of rows that are copied in, as clients send them. Stateless. */
final class WireParameters {
  private WireParameters() {}

  /**
   * A value as {@link BoxedRows} has it.
   *
   * @param name of what it is for, for an error
   * @throws WireError if it is none of its type
   */
  static Object read(
      String name, ColumnType type, byte[] bytes, int from, int length, boolean binary)
      throws WireInput.Malformed {
    if (!binary || type.kind() == Kind.VARCHAR) {
      return parse(name, type, WireInput.utf8(bytes, from, length));
    }
    try {
      return binary(type, ByteBuffer.wrap(bytes, from, length));
    } catch (java.nio.BufferUnderflowException | DateTimeException | ArithmeticException e) {
      throw new WireError(
          "22P03", "the value of " + name + " is no " + type.sql() + " in binary form", null);
    }
  }

  /** As {@link #read}, of text. */
  static Object parse(String name, ColumnType type, String text) {
    try {
      return switch (type.kind()) {
        case VARBINARY -> bytea(text);
        case DECIMAL -> Casts.toDecimal(text);
        case INTERVAL_DAY_TIME -> IntervalText.parse(name, text);
        case ARRAY -> array(name, type.element(), text);
        default -> Casts.parse(text, type);
      };
    } catch (RuntimeException e) {
      if (e instanceof WireError) {
        throw e;
      }
      throw new WireError("22P02", "the value of " + name + " is no " + type.sql(), null);
    }
  }

  private static byte[] bytea(String text) {
    if (text.startsWith("\\x")) {
      return HexFormat.of().parseHex(text.substring(2));
    }
    java.io.ByteArrayOutputStream out = new java.io.ByteArrayOutputStream();
    for (int i = 0; i < text.length(); i++) {
      char c = text.charAt(i);
      if (c == '\\' && text.startsWith("\\", i + 1)) {
        i++;
        out.write('\\');
      } else if (c == '\\') {
        out.write(Integer.parseInt(text.substring(i + 1, i + 4), 8));
        i += 3;
      } else {
        out.writeBytes(String.valueOf(c).getBytes(java.nio.charset.StandardCharsets.UTF_8));
      }
    }
    return out.toByteArray();
  }

  private static List<Object> array(String name, ColumnType element, String text) {
    List<Object> values = new ArrayList<>();
    if (!text.startsWith("{") || !text.endsWith("}")) {
      throw new IllegalArgumentException(text);
    }
    int at = 1;
    while (at < text.length() - 1) {
      StringBuilder value = new StringBuilder();
      boolean quoted = text.charAt(at) == '"';
      if (quoted) {
        for (at++; text.charAt(at) != '"'; at++) {
          value.append(text.charAt(at) == '\\' ? text.charAt(++at) : text.charAt(at));
        }
        at++;
      } else {
        while (text.charAt(at) != ',' && at < text.length() - 1) {
          value.append(text.charAt(at++));
        }
      }
      boolean isNull = !quoted && value.toString().equalsIgnoreCase("null");
      values.add(isNull ? null : parse(name, element, value.toString()));
      at++;
    }
    return values;
  }

  private static Object binary(ColumnType type, ByteBuffer in) {
    Object value =
        switch (type.kind()) {
          case BOOLEAN -> in.get() != 0;
          case SMALLINT, INTEGER, BIGINT -> integer(in);
          case REAL, DOUBLE ->
              in.remaining() == 4 ? (double) in.getFloat() : (Double) in.getDouble();
          case DECIMAL -> numeric(in);
          case VARBINARY -> {
            byte[] bytes = new byte[in.remaining()];
            in.get(bytes);
            yield bytes;
          }
          case DATE -> LocalDate.ofEpochDay((long) in.getInt() + WireValues.EPOCH_DAYS);
          case TIME -> LocalTime.ofNanoOfDay(Math.multiplyExact(in.getLong(), 1000L));
          case TIMESTAMP ->
              BoxedRows.timestamp(Math.addExact(in.getLong(), WireValues.EPOCH_MICROS));
          case INTERVAL_DAY_TIME -> {
            long micros = in.getLong();
            int days = in.getInt();
            if (in.getInt() != 0) {
              throw new DateTimeException("months are of no fixed length");
            }
            yield Duration.ofDays(days).plus(micros, ChronoUnit.MICROS);
          }
          case ARRAY -> arrayBinary(type.element(), in);
          default -> throw new java.nio.BufferUnderflowException();
        };
    if (in.hasRemaining()) {
      throw new java.nio.BufferUnderflowException();
    }
    return value;
  }

  private static long integer(ByteBuffer in) {
    return switch (in.remaining()) {
      case 2 -> in.getShort();
      case 4 -> in.getInt();
      default -> in.getLong();
    };
  }

  private static BigDecimal numeric(ByteBuffer in) {
    int digits = in.getShort();
    int weight = in.getShort();
    int sign = in.getShort() & 0xffff;
    int scale = in.getShort();
    if (sign != 0 && sign != 0x4000 || digits < 0 || digits > 40 || Math.abs(weight) > 40) {
      throw new ArithmeticException("not a number we have");
    }
    BigInteger unscaled = BigInteger.ZERO;
    for (int i = 0; i < digits; i++) {
      unscaled =
          unscaled.multiply(BigInteger.valueOf(10_000)).add(BigInteger.valueOf(in.getShort()));
    }
    BigDecimal value = new BigDecimal(unscaled).scaleByPowerOfTen(4 * (weight - digits + 1));
    value = value.setScale(scale, java.math.RoundingMode.HALF_UP);
    return sign == 0 ? value : value.negate();
  }

  private static List<Object> arrayBinary(ColumnType element, ByteBuffer in) {
    List<Object> values = new ArrayList<>();
    int dimensions = in.getInt();
    in.getInt();
    in.getInt();
    if (dimensions == 0) {
      return values;
    }
    int count = in.getInt();
    in.getInt();
    if (dimensions != 1 || count > in.remaining() / 4) {
      throw new java.nio.BufferUnderflowException();
    }
    for (int i = 0; i < count; i++) {
      int length = in.getInt();
      if (length < 0) {
        values.add(null);
        continue;
      }
      if (length > in.remaining()) {
        throw new java.nio.BufferUnderflowException();
      }
      ByteBuffer one = in.slice(in.position(), length);
      in.position(in.position() + length);
      if (element.kind() == Kind.VARCHAR) {
        values.add(java.nio.charset.StandardCharsets.UTF_8.decode(one).toString());
      } else {
        values.add(binary(element, one));
      }
    }
    return values;
  }
}
