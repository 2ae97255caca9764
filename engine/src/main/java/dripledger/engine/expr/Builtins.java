package dripledger.engine.expr;

import java.math.BigDecimal;
import java.math.RoundingMode;
import java.nio.charset.StandardCharsets;
import java.security.MessageDigest;
import java.security.NoSuchAlgorithmException;
import java.time.LocalDate;
import java.time.temporal.ChronoUnit;
import java.time.temporal.IsoFields;
import java.util.HexFormat;
import java.util.Locale;
import java.util.regex.Pattern;

/**
 * Scalar functions, found by the compiler by name and number of arguments: {@code UPPER(x)} calls
 * {@link #upper}. All are strict (NULL in, NULL out, handled by the caller), pure, and answer what
 * PostgreSQL answers. Text is counted in code points.
 */
public final class Builtins {
  private Builtins() {}

  private static RuntimeException fail(String message) {
    return new Casts.CastException(message);
  }

  // ---- text

  public static String upper(String s) {
    return s.toUpperCase(Locale.ROOT);
  }

  public static String lower(String s) {
    return s.toLowerCase(Locale.ROOT);
  }

  public static String initcap(String s) {
    StringBuilder out = new StringBuilder(s.length());
    boolean inWord = false;
    for (int i = 0; i < s.length(); ) {
      int c = s.codePointAt(i);
      i += Character.charCount(c);
      out.appendCodePoint(inWord ? Character.toLowerCase(c) : Character.toUpperCase(c));
      inWord = Character.isLetterOrDigit(c);
    }
    return out.toString();
  }

  public static long char_length(String s) {
    return s.codePointCount(0, s.length());
  }

  public static long character_length(String s) {
    return char_length(s);
  }

  public static long length(String s) {
    return char_length(s);
  }

  public static long octet_length(String s) {
    return s.getBytes(StandardCharsets.UTF_8).length;
  }

  public static long ascii(String s) {
    return s.isEmpty() ? 0 : s.codePointAt(0);
  }

  public static String chr(long code) {
    if (code <= 0 || code > Character.MAX_CODE_POINT) {
      throw fail(code + " is not a character");
    }
    return Character.toString((int) code);
  }

  private static String slice(String s, long from, long to) {
    long length = char_length(s);
    long lo = Math.max(0, from);
    long hi = Math.min(length, to);
    if (lo >= hi) {
      return "";
    }
    int start = s.offsetByCodePoints(0, (int) lo);
    return s.substring(start, s.offsetByCodePoints(start, (int) (hi - lo)));
  }

  public static String substring(String s, long from) {
    return slice(s, from - 1, Long.MAX_VALUE);
  }

  public static String substring(String s, long from, long count) {
    if (count < 0) {
      throw fail("negative substring length");
    }
    return slice(s, from - 1, from - 1 + count);
  }

  public static String substr(String s, long from) {
    return substring(s, from);
  }

  public static String substr(String s, long from, long count) {
    return substring(s, from, count);
  }

  public static String left(String s, long count) {
    return slice(s, 0, count >= 0 ? count : char_length(s) + count);
  }

  public static String right(String s, long count) {
    long length = char_length(s);
    return slice(s, count >= 0 ? length - count : -count, length);
  }

  public static String repeat(String s, long count) {
    if (count > 0 && (long) s.length() * count > 512 * 1024) {
      throw fail("REPEAT would make a value above 512 KiB");
    }
    return count <= 0 ? "" : s.repeat((int) count);
  }

  public static String reverse(String s) {
    return new StringBuilder(s).reverse().toString();
  }

  public static String replace(String s, String what, String with) {
    return what.isEmpty() ? s : s.replace(what, with);
  }

  public static String translate(String s, String from, String to) {
    int[] source = from.codePoints().toArray();
    int[] target = to.codePoints().toArray();
    StringBuilder out = new StringBuilder(s.length());
    s.codePoints()
        .forEach(
            c -> {
              int i = 0;
              while (i < source.length && source[i] != c) {
                i++;
              }
              if (i == source.length) {
                out.appendCodePoint(c);
              } else if (i < target.length) {
                out.appendCodePoint(target[i]);
              }
            });
    return out.toString();
  }

  public static String translate3(String s, String from, String to) {
    return translate(s, from, to);
  }

  private static String pad(String s, long length, String fill, boolean left) {
    if (length > 512 * 1024) {
      throw fail("padding would make a value above 512 KiB");
    }
    long size = char_length(s);
    if (length <= size) {
      return slice(s, 0, length);
    }
    if (fill.isEmpty()) {
      return s;
    }
    StringBuilder padding = new StringBuilder();
    int[] points = fill.codePoints().toArray();
    for (int i = 0; i < length - size; i++) {
      padding.appendCodePoint(points[i % points.length]);
    }
    return left ? padding + s : s + padding;
  }

  public static String lpad(String s, long length) {
    return pad(s, length, " ", true);
  }

  public static String lpad(String s, long length, String fill) {
    return pad(s, length, fill, true);
  }

  public static String rpad(String s, long length) {
    return pad(s, length, " ", false);
  }

  public static String rpad(String s, long length, String fill) {
    return pad(s, length, fill, false);
  }

  /** TRIM and its kin: every leading or trailing character that is in {@code characters}. */
  public static String trim(String s, String characters, boolean leading, boolean trailing) {
    int from = 0;
    int to = s.length();
    while (leading && from < to && characters.indexOf(s.codePointAt(from)) >= 0) {
      from += Character.charCount(s.codePointAt(from));
    }
    while (trailing && to > from && characters.indexOf(s.codePointBefore(to)) >= 0) {
      to -= Character.charCount(s.codePointBefore(to));
    }
    return s.substring(from, to);
  }

  public static String ltrim(String s) {
    return trim(s, " ", true, false);
  }

  public static String ltrim(String s, String characters) {
    return trim(s, characters, true, false);
  }

  public static String rtrim(String s) {
    return trim(s, " ", false, true);
  }

  public static String rtrim(String s, String characters) {
    return trim(s, characters, false, true);
  }

  public static String btrim(String s) {
    return trim(s, " ", true, true);
  }

  public static long position(String what, String in) {
    int at = in.indexOf(what);
    return at < 0 ? 0 : in.codePointCount(0, at) + 1L;
  }

  public static long strpos(String in, String what) {
    return position(what, in);
  }

  public static boolean starts_with(String s, String prefix) {
    return s.startsWith(prefix);
  }

  public static String split_part(String s, String separator, long field) {
    if (field == 0) {
      throw fail("the field of SPLIT_PART counts from 1");
    }
    String[] parts = separator.isEmpty() ? new String[] {s} : s.split(Pattern.quote(separator), -1);
    long index = field > 0 ? field - 1 : parts.length + field;
    return index >= 0 && index < parts.length ? parts[(int) index] : "";
  }

  public static String md5(String s) {
    return digest("MD5", s);
  }

  public static String sha1(String s) {
    return digest("SHA-1", s);
  }

  private static String digest(String algorithm, String s) {
    try {
      return HexFormat.of()
          .formatHex(
              MessageDigest.getInstance(algorithm).digest(s.getBytes(StandardCharsets.UTF_8)));
    } catch (NoSuchAlgorithmException e) {
      throw new IllegalStateException(e);
    }
  }

  /** Comparison by code point, which is the order of the UTF-8 bytes. */
  public static int compare(String a, String b) {
    int n = Math.min(a.length(), b.length());
    for (int i = 0; i < n; i++) {
      char x = a.charAt(i);
      char y = b.charAt(i);
      if (x != y) {
        // Surrogates stand for code points above all other characters.
        boolean sx = Character.isSurrogate(x);
        boolean sy = Character.isSurrogate(y);
        return sx == sy ? x - y : sx ? 1 : -1;
      }
    }
    return a.length() - b.length();
  }

  /** A LIKE pattern as a regular expression; a backslash escapes unless another escape is given. */
  public static Pattern likePattern(String like, String escape, boolean ignoreCase) {
    StringBuilder regex = new StringBuilder();
    int escapeChar = escape.isEmpty() ? -1 : escape.codePointAt(0);
    StringBuilder literal = new StringBuilder();
    for (int i = 0; i < like.length(); ) {
      int c = like.codePointAt(i);
      i += Character.charCount(c);
      if (c == escapeChar) {
        if (i >= like.length()) {
          throw fail("a LIKE pattern must not end with its escape character");
        }
        c = like.codePointAt(i);
        i += Character.charCount(c);
        literal.appendCodePoint(c);
      } else if (c == '%' || c == '_') {
        if (literal.length() > 0) {
          regex.append(Pattern.quote(literal.toString()));
          literal.setLength(0);
        }
        regex.append(c == '%' ? ".*" : ".");
      } else {
        literal.appendCodePoint(c);
      }
    }
    if (literal.length() > 0) {
      regex.append(Pattern.quote(literal.toString()));
    }
    return Pattern.compile(
        regex.toString(),
        Pattern.DOTALL | (ignoreCase ? Pattern.CASE_INSENSITIVE | Pattern.UNICODE_CASE : 0));
  }

  public static boolean like(String s, Pattern pattern) {
    return pattern.matcher(s).matches();
  }

  // ---- numbers

  public static long divide(long a, long b) {
    if (b == 0) {
      throw fail("division by zero");
    }
    if (a == Long.MIN_VALUE && b == -1) {
      throw fail("BIGINT out of range");
    }
    return a / b;
  }

  public static double divide(double a, double b) {
    if (b == 0) {
      throw fail("division by zero");
    }
    return a / b;
  }

  public static BigDecimal divide(BigDecimal a, BigDecimal b, int scale) {
    if (b.signum() == 0) {
      throw fail("division by zero");
    }
    return a.divide(b, scale, RoundingMode.HALF_UP);
  }

  public static long mod(long a, long b) {
    if (b == 0) {
      throw fail("division by zero");
    }
    return b == -1 ? 0 : a % b;
  }

  public static BigDecimal mod(BigDecimal a, BigDecimal b) {
    if (b.signum() == 0) {
      throw fail("division by zero");
    }
    return a.remainder(b);
  }

  public static double finite(double value) {
    if (Double.isInfinite(value)) {
      throw fail("DOUBLE out of range");
    }
    return value;
  }

  public static long abs(long v) {
    return Math.absExact(v);
  }

  public static double abs(double v) {
    return Math.abs(v);
  }

  public static BigDecimal abs(BigDecimal v) {
    return v.abs();
  }

  public static long sign(long v) {
    return Long.signum(v);
  }

  public static double sign(double v) {
    return Math.signum(v);
  }

  public static BigDecimal sign(BigDecimal v) {
    return BigDecimal.valueOf(v.signum());
  }

  public static long floor(long v) {
    return v;
  }

  public static double floor(double v) {
    return Math.floor(v);
  }

  public static BigDecimal floor(BigDecimal v) {
    return v.setScale(0, RoundingMode.FLOOR);
  }

  public static long ceil(long v) {
    return v;
  }

  public static double ceil(double v) {
    return Math.ceil(v);
  }

  public static BigDecimal ceil(BigDecimal v) {
    return v.setScale(0, RoundingMode.CEILING);
  }

  public static long round(long v) {
    return v;
  }

  public static double round(double v) {
    return Math.rint(v);
  }

  public static BigDecimal round(BigDecimal v) {
    return v.setScale(0, RoundingMode.HALF_UP);
  }

  public static long round(long v, long digits) {
    return round(BigDecimal.valueOf(v), digits).longValueExact();
  }

  public static double round(double v, long digits) {
    return Double.isFinite(v) ? round(new BigDecimal(Double.toString(v)), digits).doubleValue() : v;
  }

  public static BigDecimal round(BigDecimal v, long digits) {
    return v.setScale(digits(digits), RoundingMode.HALF_UP);
  }

  public static long truncate(long v) {
    return v;
  }

  public static double truncate(double v) {
    return v < 0 ? Math.ceil(v) : Math.floor(v);
  }

  public static BigDecimal truncate(BigDecimal v) {
    return v.setScale(0, RoundingMode.DOWN);
  }

  public static BigDecimal truncate(BigDecimal v, long digits) {
    return v.setScale(digits(digits), RoundingMode.DOWN);
  }

  private static int digits(long digits) {
    return (int) Math.max(-38, Math.min(38, digits));
  }

  public static double sqrt(double v) {
    if (v < 0) {
      throw fail("square root of a negative number");
    }
    return Math.sqrt(v);
  }

  public static double exp(double v) {
    return finite(Math.exp(v));
  }

  public static double ln(double v) {
    if (v <= 0) {
      throw fail("logarithm of a number that is not positive");
    }
    return Math.log(v);
  }

  public static double log10(double v) {
    if (v <= 0) {
      throw fail("logarithm of a number that is not positive");
    }
    return Math.log10(v);
  }

  public static double power(double base, double exponent) {
    if (base == 0 && exponent < 0 || base < 0 && exponent != Math.rint(exponent)) {
      throw fail("POWER has no real result here");
    }
    return finite(Math.pow(base, exponent));
  }

  public static double pi() {
    return Math.PI;
  }

  public static double sin(double v) {
    return Math.sin(v);
  }

  public static double cos(double v) {
    return Math.cos(v);
  }

  public static double tan(double v) {
    return Math.tan(v);
  }

  public static double atan(double v) {
    return Math.atan(v);
  }

  public static double atan2(double y, double x) {
    return Math.atan2(y, x);
  }

  public static double radians(double v) {
    return Math.toRadians(v);
  }

  public static double degrees(double v) {
    return Math.toDegrees(v);
  }

  public static double cbrt(double v) {
    return Math.cbrt(v);
  }

  // ---- time

  private static final long SECOND = 1_000_000L;
  private static final long DAY = Casts.DAY;

  /** Adds months to a date, keeping the day where the month has it. */
  public static long plusMonths(long days, long months) {
    return LocalDate.ofEpochDay(days).plusMonths(months).toEpochDay();
  }

  public static long timestampPlusMonths(long micros, long months) {
    long day = Math.floorDiv(micros, DAY);
    return plusMonths(day, months) * DAY + Math.floorMod(micros, DAY);
  }

  /** The start of the unit a timestamp is in; weeks start on Monday. */
  public static long floorTimestamp(long micros, String unit) {
    return switch (unit) {
      case "MICROSECOND" -> micros;
      case "MILLISECOND" -> micros - Math.floorMod(micros, 1000L);
      case "SECOND" -> micros - Math.floorMod(micros, SECOND);
      case "MINUTE" -> micros - Math.floorMod(micros, 60 * SECOND);
      case "HOUR" -> micros - Math.floorMod(micros, 3600 * SECOND);
      default -> floorDate(Math.floorDiv(micros, DAY), unit) * DAY;
    };
  }

  public static long floorDate(long days, String unit) {
    LocalDate d = LocalDate.ofEpochDay(days);
    return switch (unit) {
      case "DAY" -> days;
      case "WEEK" -> days - Math.floorMod(days + 3, 7L);
      case "MONTH" -> d.withDayOfMonth(1).toEpochDay();
      case "QUARTER" ->
          LocalDate.of(d.getYear(), (d.getMonthValue() - 1) / 3 * 3 + 1, 1).toEpochDay();
      case "YEAR" -> LocalDate.of(d.getYear(), 1, 1).toEpochDay();
      case "DECADE" -> LocalDate.of(Math.floorDiv(d.getYear(), 10) * 10, 1, 1).toEpochDay();
      case "CENTURY" ->
          LocalDate.of(Math.floorDiv(d.getYear() - 1, 100) * 100 + 1, 1, 1).toEpochDay();
      default -> throw fail("no such unit of time: " + unit);
    };
  }

  public static long ceilTimestamp(long micros, String unit) {
    long floor = floorTimestamp(micros, unit);
    if (floor == micros) {
      return micros;
    }
    return switch (unit) {
      case "MILLISECOND" -> floor + 1000;
      case "SECOND" -> floor + SECOND;
      case "MINUTE" -> floor + 60 * SECOND;
      case "HOUR" -> floor + 3600 * SECOND;
      case "DAY" -> floor + DAY;
      case "WEEK" -> floor + 7 * DAY;
      case "MONTH" -> timestampPlusMonths(floor, 1);
      case "QUARTER" -> timestampPlusMonths(floor, 3);
      case "YEAR" -> timestampPlusMonths(floor, 12);
      default -> throw fail("no such unit of time: " + unit);
    };
  }

  public static long ceilDate(long days, String unit) {
    return ceilTimestamp(days * DAY, unit) / DAY;
  }

  public static long extractFromTimestamp(long micros, String unit) {
    long ofDay = Math.floorMod(micros, DAY);
    return switch (unit) {
      case "MICROSECOND" -> ofDay % (60 * SECOND);
      case "MILLISECOND" -> ofDay % (60 * SECOND) / 1000;
      case "SECOND" -> ofDay / SECOND % 60;
      case "MINUTE" -> ofDay / (60 * SECOND) % 60;
      case "HOUR" -> ofDay / (3600 * SECOND);
      case "EPOCH" -> Math.floorDiv(micros, SECOND);
      default -> extractFromDate(Math.floorDiv(micros, DAY), unit);
    };
  }

  public static long extractFromDate(long days, String unit) {
    LocalDate d = LocalDate.ofEpochDay(days);
    return switch (unit) {
      case "DAY" -> d.getDayOfMonth();
      case "MONTH" -> d.getMonthValue();
      case "QUARTER" -> (d.getMonthValue() + 2) / 3;
      case "YEAR" -> d.getYear();
      case "ISOYEAR" -> d.get(IsoFields.WEEK_BASED_YEAR);
      case "WEEK" -> d.get(IsoFields.WEEK_OF_WEEK_BASED_YEAR);
      case "DOW" -> d.getDayOfWeek().getValue() % 7;
      case "ISODOW" -> d.getDayOfWeek().getValue();
      case "DOY" -> d.getDayOfYear();
      case "DECADE" -> Math.floorDiv(d.getYear(), 10);
      case "CENTURY" -> Math.floorDiv(d.getYear() - 1, 100) + 1;
      case "MILLENNIUM" -> Math.floorDiv(d.getYear() - 1, 1000) + 1;
      case "EPOCH" -> days * 86_400;
      default -> throw fail("no such field of a date: " + unit);
    };
  }

  /** EXTRACT(SECOND) and EXTRACT(EPOCH) with their fraction. */
  public static BigDecimal exact_seconds(long micros, String unit) {
    return BigDecimal.valueOf(
        unit.equals("EPOCH") ? micros : Math.floorMod(micros, 60 * SECOND), 6);
  }

  /** Whole units from {@code from} to {@code to}, rounded towards zero. */
  public static long timestamp_diff(String unit, long from, long to) {
    long micros = Math.subtractExact(to, from);
    return switch (unit) {
      case "MICROSECOND" -> micros;
      case "MILLISECOND" -> micros / 1000;
      case "SECOND" -> micros / SECOND;
      case "MINUTE" -> micros / (60 * SECOND);
      case "HOUR" -> micros / (3600 * SECOND);
      case "DAY" -> micros / DAY;
      case "WEEK" -> micros / (7 * DAY);
      default -> {
        long months =
            ChronoUnit.MONTHS.between(
                dripledger.engine.row.BoxedRows.timestamp(from),
                dripledger.engine.row.BoxedRows.timestamp(to));
        yield switch (unit) {
          case "MONTH" -> months;
          case "QUARTER" -> months / 3;
          case "YEAR" -> months / 12;
          default -> throw fail("no such unit of time: " + unit);
        };
      }
    };
  }
}
