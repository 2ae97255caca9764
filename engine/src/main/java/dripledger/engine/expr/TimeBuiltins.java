package dripledger.engine.expr;

import java.math.BigDecimal;
import java.time.LocalDate;
import java.time.temporal.ChronoUnit;
import java.time.temporal.IsoFields;

/**
 * Functions of dates and times, found by the compiler by name and number of arguments. All are
 * strict (NULL in, NULL out, handled by the caller), pure, and answer what PostgreSQL answers.
 */
public final class TimeBuiltins {
  private TimeBuiltins() {}

  private static RuntimeException fail(String message) {
    return new Casts.CastException(message);
  }

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
