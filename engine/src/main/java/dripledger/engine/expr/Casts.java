package dripledger.engine.expr;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.WideDecimal;
import java.math.BigDecimal;
import java.math.MathContext;
import java.math.RoundingMode;
import java.time.DateTimeException;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.time.OffsetDateTime;
import java.time.ZoneOffset;
import java.time.format.DateTimeFormatter;
import java.time.format.DateTimeFormatterBuilder;
import java.time.format.ResolverStyle;
import java.time.temporal.ChronoField;
import java.util.Locale;

/**
 * Casts between values, as PostgreSQL does them; a failed one throws and so rejects the row. Called
 * by generated code. Times are microseconds since 1970 in UTC, dates days since 1970.
 */
public final class Casts {
  private static final DateTimeFormatter TIME_TEXT = strict("HH:mm[:ss", "]");
  private static final DateTimeFormatter TIMESTAMP_TEXT =
      strict("uuuu-MM-dd[['T'][' ']HH:mm[:ss", "]]");
  private static final DateTimeFormatter ZONED_TEXT =
      strict("uuuu-MM-dd['T'][' ']HH:mm[:ss", "][XXX][XX][X]");

  /** Reads only what is a time: the 30th of February is none. */
  private static DateTimeFormatter strict(String beforeFraction, String behind) {
    DateTimeFormatterBuilder builder = new DateTimeFormatterBuilder();
    builder.appendPattern(beforeFraction); // an optional part opened here is closed behind
    builder.appendFraction(ChronoField.NANO_OF_SECOND, 0, 9, true);
    builder.appendPattern(behind);
    return builder
        .parseDefaulting(ChronoField.HOUR_OF_DAY, 0)
        .parseDefaulting(ChronoField.MINUTE_OF_HOUR, 0)
        .parseDefaulting(ChronoField.SECOND_OF_MINUTE, 0)
        .parseDefaulting(ChronoField.NANO_OF_SECOND, 0)
        .toFormatter(Locale.ROOT)
        .withResolverStyle(ResolverStyle.STRICT);
  }

  /** Microseconds of a day. */
  public static final long DAY = 86_400_000_000L;

  /** Characters of a number as text, and digits before the point. */
  private static final int MAX_NUMBER_CHARS = 1000;

  private Casts() {}

  /** Thrown for a value that does not fit; becomes the reject's reason. */
  public static final class CastException extends RuntimeException {
    private static final long serialVersionUID = 1L;

    CastException(String message) {
      super(message);
    }
  }

  private static CastException notA(String what, String text) {
    String shown = text.length() > 40 ? text.substring(0, 40) + "…" : text;
    return new CastException("'" + shown + "' is not a valid " + what);
  }

  public static long shortRange(long value) {
    if (value < Short.MIN_VALUE || value > Short.MAX_VALUE) {
      throw new CastException(value + " is out of range for SMALLINT");
    }
    return value;
  }

  public static long intRange(long value) {
    if (value < Integer.MIN_VALUE || value > Integer.MAX_VALUE) {
      throw new CastException(value + " is out of range for INTEGER");
    }
    return value;
  }

  public static long toLong(double value) {
    double rounded = Math.rint(value);
    if (!(rounded >= -0x1p63 && rounded < 0x1p63)) {
      throw new CastException(value + " is out of range for BIGINT");
    }
    return (long) rounded;
  }

  public static long toLong(BigDecimal value) {
    try {
      return value.setScale(0, RoundingMode.HALF_UP).longValueExact();
    } catch (ArithmeticException e) {
      throw new CastException(value + " is out of range for BIGINT");
    }
  }

  public static long toLong(String text) {
    try {
      return Long.parseLong(text.strip());
    } catch (NumberFormatException e) {
      throw notA("integer", text);
    }
  }

  public static double toDouble(String text) {
    String s = text.strip();
    switch (s.toLowerCase(java.util.Locale.ROOT)) {
      case "infinity", "inf", "+infinity" -> {
        return Double.POSITIVE_INFINITY;
      }
      case "-infinity", "-inf" -> {
        return Double.NEGATIVE_INFINITY;
      }
      case "nan" -> {
        return Double.NaN;
      }
      default -> {
        char last = s.isEmpty() ? 'x' : s.charAt(s.length() - 1);
        if (Character.isLetter(last)) {
          throw notA("number", text);
        }
        try {
          return Double.parseDouble(s);
        } catch (NumberFormatException e) {
          throw notA("number", text);
        }
      }
    }
  }

  public static BigDecimal toDecimal(String text) {
    String digits = text.strip();
    if (digits.length() > MAX_NUMBER_CHARS) {
      throw new CastException("a number of more than " + MAX_NUMBER_CHARS + " characters");
    }
    try {
      BigDecimal value = new BigDecimal(digits);
      long before = (long) value.precision() - value.scale(); // digits before the point
      if (value.signum() != 0 && before > MAX_NUMBER_CHARS) {
        throw new CastException(digits + " is out of range");
      }
      // What is that small is 0 in every column there is.
      return before < -MAX_NUMBER_CHARS ? BigDecimal.ZERO : value;
    } catch (NumberFormatException e) {
      throw notA("number", text);
    }
  }

  /** Fifteen significant digits, as PostgreSQL casts double precision to numeric. */
  public static BigDecimal toDecimal(double value) {
    if (!Double.isFinite(value)) {
      throw new CastException(value + " has no decimal form");
    }
    return new BigDecimal(value).round(new MathContext(15, RoundingMode.HALF_EVEN));
  }

  /** Six significant digits, as PostgreSQL casts real to numeric. */
  public static BigDecimal realToDecimal(double value) {
    return toDecimal(value).round(new MathContext(6, RoundingMode.HALF_EVEN));
  }

  /** Rounds to the scale; throws if the digits do not fit. */
  public static BigDecimal fit(BigDecimal value, int precision, int scale) {
    try {
      return WideDecimal.fit(value, precision, scale);
    } catch (ArithmeticException e) {
      throw new CastException(value + " does not fit DECIMAL(" + precision + ", " + scale + ")");
    }
  }

  public static double toReal(double value) {
    float f = (float) value;
    if (Float.isInfinite(f) && !Double.isInfinite(value)) {
      throw new CastException(value + " is out of range for REAL");
    }
    return f;
  }

  public static boolean toBoolean(String text) {
    return switch (text.strip().toLowerCase(java.util.Locale.ROOT)) {
      case "t", "true", "y", "yes", "on", "1" -> true;
      case "f", "false", "n", "no", "off", "0" -> false;
      default -> throw notA("boolean", text);
    };
  }

  public static String truncate(String text, int length) {
    return text.codePointCount(0, text.length()) <= length
        ? text
        : text.substring(0, text.offsetByCodePoints(0, length));
  }

  /** ISO-8601 or SQL form, with or without an offset; digits past microseconds are rounded off. */
  public static long toTimestamp(String text) {
    String s = text.strip();
    try {
      char last = s.isEmpty() ? 'x' : s.charAt(s.length() - 1);
      boolean zoned = last == 'Z' || s.indexOf('+') > 0 || s.lastIndexOf('-') > 7;
      if (zoned) {
        OffsetDateTime value = ZONED_TEXT.parse(s, OffsetDateTime::from);
        return BoxedRows.micros(value.withOffsetSameInstant(ZoneOffset.UTC).toLocalDateTime());
      }
      return BoxedRows.micros(TIMESTAMP_TEXT.parse(s, LocalDateTime::from));
    } catch (DateTimeException e) {
      throw notA("timestamp", text);
    }
  }

  public static long toDate(String text) {
    String s = text.strip();
    try {
      if (s.length() > 10) {
        toTimestamp(s); // the rest must be a time, and says nothing about the day
        return LocalDate.parse(s.substring(0, 10)).toEpochDay();
      }
      return LocalDate.parse(s).toEpochDay();
    } catch (DateTimeException e) {
      throw notA("date", text);
    }
  }

  public static long toTime(String text) {
    try {
      return TIME_TEXT.parse(text.strip(), LocalTime::from).toNanoOfDay() / 1000;
    } catch (DateTimeException e) {
      throw notA("time", text);
    }
  }

  public static long dateOfTimestamp(long micros) {
    return Math.floorDiv(micros, DAY);
  }

  public static long timeOfTimestamp(long micros) {
    return Math.floorMod(micros, DAY);
  }

  public static long timestampOfDate(long days) {
    return Math.multiplyExact(days, DAY);
  }

  public static String text(long value) {
    return Long.toString(value);
  }

  public static String text(boolean value) {
    return value ? "true" : "false";
  }

  public static String text(BigDecimal value) {
    return value.toPlainString();
  }

  /** Shortest digits that read back the same; an exponent from 1e15 on, as PostgreSQL prints it. */
  public static String text(double value) {
    if (Double.isNaN(value)) {
      return "NaN";
    }
    if (Double.isInfinite(value)) {
      return value > 0 ? "Infinity" : "-Infinity";
    }
    if (value == 0) {
      return "0";
    }
    return floatingText(new BigDecimal(Double.toString(value)));
  }

  public static String realText(double value) {
    return Double.isFinite(value) && value != 0
        ? floatingText(new BigDecimal(Float.toString((float) value)))
        : text(value);
  }

  private static String floatingText(BigDecimal exact) {
    BigDecimal digits = exact.stripTrailingZeros();
    int exponent = digits.precision() - digits.scale() - 1;
    if (exponent >= -5 && exponent < 15) {
      return digits.toPlainString();
    }
    String unscaled = digits.unscaledValue().abs().toString();
    String mantissa =
        unscaled.length() == 1 ? unscaled : unscaled.charAt(0) + "." + unscaled.substring(1);
    String sign = exponent < 0 ? "-" : "+";
    int size = Math.abs(exponent);
    return (digits.signum() < 0 ? "-" : "") + mantissa + "e" + sign + (size < 10 ? "0" : "") + size;
  }

  public static String timeText(long micros) {
    StringBuilder text = new StringBuilder(15);
    appendTime(text, micros);
    return text.toString();
  }

  private static void appendTime(StringBuilder text, long micros) {
    long seconds = micros / 1_000_000;
    long hours = seconds / 3600;
    if (hours > 99) {
      text.append(hours);
    } else {
      two(text, (int) hours);
    }
    two(text.append(':'), (int) (seconds / 60 % 60));
    two(text.append(':'), (int) (seconds % 60));
    int fraction = (int) (micros % 1_000_000);
    if (fraction != 0) {
      text.append('.');
      for (int unit = 100_000; fraction > 0; unit /= 10) {
        text.append((char) ('0' + fraction / unit));
        fraction %= unit;
      }
    }
  }

  private static void two(StringBuilder text, int number) {
    text.append((char) ('0' + number / 10)).append((char) ('0' + number % 10));
  }

  private static void appendDate(StringBuilder text, long days) {
    LocalDate date = LocalDate.ofEpochDay(days);
    if (date.getYear() < 1000 || date.getYear() > 9999) {
      text.append(date);
      return;
    }
    text.append(date.getYear());
    two(text.append('-'), date.getMonthValue());
    two(text.append('-'), date.getDayOfMonth());
  }

  public static String dateText(long days) {
    return LocalDate.ofEpochDay(days).toString();
  }

  public static String timestampText(long micros) {
    StringBuilder text = new StringBuilder(26);
    appendDate(text, Math.floorDiv(micros, DAY));
    appendTime(text.append(' '), Math.floorMod(micros, DAY));
    return text.toString();
  }

  /** As network output writes it: ISO-8601 with Z. */
  public static String isoTimestamp(long micros) {
    StringBuilder text = new StringBuilder(27);
    appendDate(text, Math.floorDiv(micros, DAY));
    appendTime(text.append('T'), Math.floorMod(micros, DAY));
    return text.append('Z').toString();
  }

  /** Reads text as a value of the type, for parameters of look-ups. */
  public static Object parse(String text, ColumnType type) {
    return switch (type.kind()) {
      case BOOLEAN -> toBoolean(text);
      case SMALLINT -> shortRange(toLong(text));
      case INTEGER -> intRange(toLong(text));
      case BIGINT -> toLong(text);
      case REAL, DOUBLE -> toDouble(text);
      case DECIMAL -> fit(toDecimal(text), type.precision(), type.scale());
      case VARCHAR -> text;
      case VARBINARY -> java.util.Base64.getDecoder().decode(text);
      case DATE -> LocalDate.ofEpochDay(toDate(text));
      case TIME -> LocalTime.ofNanoOfDay(toTime(text) * 1000);
      case TIMESTAMP -> BoxedRows.timestamp(toTimestamp(text));
      default -> throw new CastException("a " + type.sql() + " cannot be given as text");
    };
  }
}
