package dripledger.engine.expr;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.ColumnType.Kind;
import java.math.BigDecimal;
import java.time.DateTimeException;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.format.TextStyle;
import java.time.temporal.IsoFields;
import java.util.Locale;

/**
 * Making dates and timestamps, reading them from text and writing them by a pattern, as PostgreSQL
 * does. All are strict and pure. Timestamps are microseconds since 1970, dates days.
 */
public final class CalendarBuiltins {
  private static final long SECOND = 1_000_000L;

  private CalendarBuiltins() {}

  private static Casts.CastException fail(String message) {
    return new Casts.CastException(message);
  }

  /** The start of the stride that a timestamp is in, counted from an origin. */
  @Kinds(
      value = {Kind.INTERVAL_DAY_TIME, Kind.TIMESTAMP, Kind.TIMESTAMP},
      result = Kind.TIMESTAMP)
  public static long date_bin(long stride, long at, long origin) {
    if (stride <= 0) {
      throw fail("the stride of date_bin must be greater than nothing");
    }
    long distance = Math.subtractExact(at, origin);
    return origin + Math.floorDiv(distance, stride) * stride;
  }

  @Kinds(
      value = {Kind.BIGINT, Kind.BIGINT, Kind.BIGINT},
      result = Kind.DATE)
  public static long make_date(long year, long month, long day) {
    try {
      return LocalDate.of(Math.toIntExact(year), Math.toIntExact(month), Math.toIntExact(day))
          .toEpochDay();
    } catch (DateTimeException | ArithmeticException e) {
      throw fail("there is no date " + year + "-" + month + "-" + day);
    }
  }

  @Kinds(
      value = {Kind.BIGINT, Kind.BIGINT, Kind.BIGINT, Kind.BIGINT, Kind.BIGINT, Kind.DOUBLE},
      result = Kind.TIMESTAMP)
  public static long make_timestamp(
      long year, long month, long day, long hour, long minute, double second) {
    long days = make_date(year, month, day);
    if (hour < 0 || hour > 24 || minute < 0 || minute > 59 || !(second >= 0 && second <= 60)) {
      throw fail("there is no time " + hour + ":" + minute + ":" + second);
    }
    return days * Casts.DAY + (hour * 3600 + minute * 60) * SECOND + Math.round(second * SECOND);
  }

  /** A date so many days later. */
  @Kinds(
      value = {Kind.DATE, Kind.BIGINT},
      result = Kind.DATE)
  public static long days_on(long date, long days) {
    long then = Math.addExact(date, days);
    if (Math.abs(then) > LocalDate.MAX.toEpochDay()) {
      throw fail("the date is out of range");
    }
    return then;
  }

  @Kinds(
      value = {Kind.DATE, Kind.DATE},
      result = Kind.INTEGER)
  public static long days_between(long later, long earlier) {
    return Math.subtractExact(later, earlier);
  }

  /**
   * The years, months, days and time between two timestamps, as PostgreSQL writes them: fields are
   * taken from each other, and what is missing is borrowed, days from the month of the earlier.
   */
  @Kinds(
      value = {Kind.TIMESTAMP, Kind.TIMESTAMP},
      result = Kind.VARCHAR)
  public static String age(long later, long earlier) {
    boolean back = later < earlier;
    LocalDateTime a = BoxedRows.timestamp(back ? earlier : later);
    LocalDateTime b = BoxedRows.timestamp(back ? later : earlier);
    long time = (a.toLocalTime().toNanoOfDay() - b.toLocalTime().toNanoOfDay()) / 1000;
    long days = (long) a.getDayOfMonth() - b.getDayOfMonth();
    long months = 12L * (a.getYear() - b.getYear()) + a.getMonthValue() - b.getMonthValue();
    if (time < 0) {
      time += Casts.DAY;
      days--;
    }
    if (days < 0) {
      days += b.toLocalDate().lengthOfMonth();
      months--;
    }
    int sign = back ? -1 : 1;
    StringBuilder out = new StringBuilder();
    append(out, sign * (months / 12), "year");
    append(out, sign * (months % 12), "mon");
    append(out, sign * days, "day");
    if (time != 0 || out.isEmpty()) {
      out.append(out.isEmpty() ? "" : " ").append(back && time != 0 ? "-" : "");
      long seconds = time / SECOND;
      out.append(
          String.format(
              Locale.ROOT, "%02d:%02d:%02d", seconds / 3600, seconds / 60 % 60, seconds % 60));
      if (time % SECOND != 0) {
        out.append(String.format(Locale.ROOT, ".%06d", time % SECOND).replaceAll("0+$", ""));
      }
    }
    return out.toString();
  }

  private static void append(StringBuilder out, long number, String unit) {
    if (number != 0) {
      out.append(out.isEmpty() ? "" : " ").append(number).append(' ').append(unit);
      out.append(number == 1 ? "" : "s");
    }
  }

  /** Of seconds since 1970. */
  @Kinds(value = Kind.DOUBLE, result = Kind.TIMESTAMP)
  public static long to_timestamp(double seconds) {
    if (!(Math.abs(seconds) < 9e12)) {
      throw fail("the timestamp is out of range");
    }
    return BigDecimal.valueOf(seconds)
        .movePointRight(6)
        .setScale(0, java.math.RoundingMode.HALF_EVEN)
        .longValueExact();
  }

  @Kinds(
      value = {Kind.VARCHAR, Kind.VARCHAR},
      result = Kind.TIMESTAMP)
  public static long to_timestamp(String text, String pattern) {
    return BoxedRows.micros(new CalendarPattern(pattern).parse(text));
  }

  @Kinds(
      value = {Kind.VARCHAR, Kind.VARCHAR},
      result = Kind.DATE)
  public static long to_date(String text, String pattern) {
    return new CalendarPattern(pattern).parse(text).toLocalDate().toEpochDay();
  }

  @Kinds(
      value = {Kind.TIMESTAMP, Kind.VARCHAR},
      result = Kind.VARCHAR)
  public static String to_char(long at, String pattern) {
    return new CalendarPattern(pattern).format(BoxedRows.timestamp(at));
  }

  /** EXTRACT by a unit that is text. */
  @Kinds(
      value = {Kind.VARCHAR, Kind.TIMESTAMP},
      result = Kind.DOUBLE)
  public static double date_part(String unit, long at) {
    LocalDateTime t = BoxedRows.timestamp(at);
    return switch (unit.toLowerCase(Locale.ROOT)) {
      case "epoch" -> at / 1e6;
      case "second" -> t.getSecond() + t.getNano() / 1e9;
      case "milliseconds" -> t.getSecond() * 1e3 + t.getNano() / 1e6;
      case "microseconds" -> t.getSecond() * 1e6 + t.getNano() / 1000;
      case "minute" -> t.getMinute();
      case "hour" -> t.getHour();
      case "day" -> t.getDayOfMonth();
      case "month" -> t.getMonthValue();
      case "quarter" -> t.get(IsoFields.QUARTER_OF_YEAR);
      case "year" -> t.getYear();
      case "week" -> t.get(IsoFields.WEEK_OF_WEEK_BASED_YEAR);
      case "isoyear" -> t.get(IsoFields.WEEK_BASED_YEAR);
      case "dow" -> t.getDayOfWeek().getValue() % 7;
      case "isodow" -> t.getDayOfWeek().getValue();
      case "doy" -> t.getDayOfYear();
      default -> throw fail("no such unit of time: " + unit);
    };
  }

  static String name(LocalDateTime t, boolean month, boolean shortened) {
    TextStyle style = shortened ? TextStyle.SHORT : TextStyle.FULL;
    return month
        ? t.getMonth().getDisplayName(style, Locale.ENGLISH)
        : t.getDayOfWeek().getDisplayName(style, Locale.ENGLISH);
  }
}
