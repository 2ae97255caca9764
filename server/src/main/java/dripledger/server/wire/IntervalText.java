package dripledger.server.wire;

import dripledger.engine.expr.Casts;
import java.math.BigDecimal;
import java.math.RoundingMode;
import java.time.Duration;
import java.time.temporal.ChronoUnit;
import java.util.Locale;
import java.util.regex.Matcher;
import java.util.regex.Pattern;

/**
 * Lengths of time as clients write them: ISO 8601 ({@code P1DT2H}), numbers with units ({@code 1
 * day 30 secs}), and times ({@code 02:00:30.5}), one after the other. Stateless.
 */
final class IntervalText {
  private static final int MOST_CHARS = 200;
  private static final Pattern PART =
      Pattern.compile(
          "\\s*(?:([+-]?)(\\d{1,12}):(\\d{1,2})(?::(\\d{1,2}(?:\\.\\d{1,9})?))?"
              + "|([+-]?\\d{1,18}(?:\\.\\d{1,9})?)\\s*([a-z]+))");

  private IntervalText() {}

  /**
   * Reads one.
   *
   * @throws WireError if it has months, which are of no fixed length
   * @throws IllegalArgumentException if it is none
   */
  static Duration parse(String name, String text) {
    String all = text.strip().toLowerCase(Locale.ROOT);
    if (all.length() > MOST_CHARS) {
      throw new IllegalArgumentException("too long");
    }
    if (all.startsWith("p") || all.startsWith("-p") || all.startsWith("+p")) {
      return Duration.parse(all); // of days and less
    }
    boolean ago = all.endsWith(" ago");
    all = all.replaceFirst("^@\\s*", "").replaceFirst("\\s+ago$", "");
    BigDecimal micros = BigDecimal.ZERO;
    Matcher part = PART.matcher(all);
    int at = 0;
    while (at < all.length()) {
      if (!part.find(at) || part.start() != at) {
        throw new IllegalArgumentException(text);
      }
      micros = micros.add(part.group(2) != null ? time(part) : amount(name, part));
      at = part.end();
    }
    if (all.isEmpty()) {
      throw new IllegalArgumentException("empty");
    }
    long rounded = micros.setScale(0, RoundingMode.HALF_EVEN).longValueExact();
    return Duration.of(ago ? -rounded : rounded, ChronoUnit.MICROS);
  }

  private static BigDecimal time(Matcher part) {
    BigDecimal seconds =
        new BigDecimal(part.group(2))
            .multiply(BigDecimal.valueOf(60))
            .add(new BigDecimal(part.group(3)))
            .multiply(BigDecimal.valueOf(60))
            .add(new BigDecimal(part.group(4) == null ? "0" : part.group(4)));
    BigDecimal micros = seconds.movePointRight(6);
    return part.group(1).equals("-") ? micros.negate() : micros;
  }

  private static BigDecimal amount(String name, Matcher part) {
    BigDecimal number = new BigDecimal(part.group(5));
    String unit = part.group(6);
    long micros =
        switch (unit) {
          case "us", "usec", "usecs", "microsecond", "microseconds" -> 1;
          case "ms", "msec", "msecs", "millisecond", "milliseconds" -> 1000;
          case "s", "sec", "secs", "second", "seconds" -> 1_000_000;
          case "m", "min", "mins", "minute", "minutes" -> 60_000_000;
          case "h", "hr", "hrs", "hour", "hours" -> 3_600_000_000L;
          case "d", "day", "days" -> Casts.DAY;
          case "w", "week", "weeks" -> 7 * Casts.DAY;
          case "mon", "mons", "month", "months", "y", "yr", "yrs", "year", "years" -> 0;
          default -> throw new IllegalArgumentException(unit);
        };
    if (micros == 0 && number.signum() != 0) {
      throw new WireError(
          "0A000",
          "the value of " + name + " has " + unit + ", which are of no fixed length",
          "send days, or write INTERVAL '1' MONTH");
    }
    return number.multiply(BigDecimal.valueOf(micros));
  }
}
