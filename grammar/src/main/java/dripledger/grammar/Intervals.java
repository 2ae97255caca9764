package dripledger.grammar;

import java.math.BigDecimal;
import java.util.Locale;
import java.util.Map;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import org.apache.calcite.avatica.util.TimeUnit;
import org.apache.calcite.runtime.CalciteContextException;
import org.apache.calcite.sql.SqlIntervalQualifier;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.parser.SqlParserPos;

/** Intervals with their units inside of the text, {@code INTERVAL '1 day 2 hours'}. Stateless. */
public final class Intervals {
  private static final Pattern PART =
      Pattern.compile(
          "\\s*([+-]?\\d+(?:\\.\\d+)?)\\s*([a-z]+)\\s*|\\s*([+-]?)(\\d+):(\\d+)(?::(\\d+(?:\\.\\d+)?))?\\s*");
  private static final Map<String, Integer> MONTHS =
      Map.of("month", 1, "mon", 1, "year", 12, "yr", 12, "y", 12, "decade", 120, "century", 1200);
  private static final Map<String, String> SECONDS =
      Map.ofEntries(
          Map.entry("microsecond", "0.000001"),
          Map.entry("us", "0.000001"),
          Map.entry("millisecond", "0.001"),
          Map.entry("ms", "0.001"),
          Map.entry("second", "1"),
          Map.entry("sec", "1"),
          Map.entry("s", "1"),
          Map.entry("minute", "60"),
          Map.entry("min", "60"),
          Map.entry("m", "60"),
          Map.entry("hour", "3600"),
          Map.entry("hr", "3600"),
          Map.entry("h", "3600"),
          Map.entry("day", "86400"),
          Map.entry("d", "86400"),
          Map.entry("week", "604800"),
          Map.entry("w", "604800"));

  private Intervals() {}

  /**
   * The literal: in months, or in seconds.
   *
   * @throws CalciteContextException if it is none, or would be both
   */
  public static SqlLiteral of(String text, int sign, SqlParserPos pos) {
    Matcher parts = PART.matcher(text.toLowerCase(Locale.ROOT));
    BigDecimal months = BigDecimal.ZERO;
    BigDecimal seconds = BigDecimal.ZERO;
    int end = 0;
    while (end < text.length()) {
      if (!parts.find(end) || parts.start() != end) {
        throw error("\"" + text + "\" is no interval: write '5 minutes', or '5' MINUTE", pos);
      }
      end = parts.end();
      if (parts.group(2) == null) {
        BigDecimal clock =
            new BigDecimal(parts.group(4))
                .multiply(BigDecimal.valueOf(3600))
                .add(new BigDecimal(parts.group(5)).multiply(BigDecimal.valueOf(60)));
        if (parts.group(6) != null) {
          clock = clock.add(new BigDecimal(parts.group(6)));
        }
        seconds = parts.group(3).equals("-") ? seconds.subtract(clock) : seconds.add(clock);
        continue;
      }
      BigDecimal number = new BigDecimal(parts.group(1));
      String unit = singular(parts.group(2));
      if (MONTHS.containsKey(unit)) {
        months = months.add(number.multiply(BigDecimal.valueOf(MONTHS.get(unit))));
      } else if (SECONDS.containsKey(unit)) {
        seconds = seconds.add(number.multiply(new BigDecimal(SECONDS.get(unit))));
      } else {
        throw error("no unit of time \"" + parts.group(2) + "\"", pos);
      }
    }
    boolean ofMonths = months.signum() != 0;
    if (ofMonths && (seconds.signum() != 0 || months.stripTrailingZeros().scale() > 0)) {
      throw error("an interval is of months or of days and less: add two of them", pos);
    }
    if (ofMonths) {
      return literal(
          months.setScale(0),
          sign,
          new SqlIntervalQualifier(TimeUnit.MONTH, 9, null, -1, pos),
          pos);
    }
    return literal(
        seconds.stripTrailingZeros(),
        sign,
        new SqlIntervalQualifier(TimeUnit.SECOND, 10, null, 6, pos),
        pos);
  }

  private static SqlLiteral literal(
      BigDecimal value, int sign, SqlIntervalQualifier unit, SqlParserPos pos) {
    int own = value.signum() < 0 ? -sign : sign;
    return SqlLiteral.createInterval(own, value.abs().toPlainString(), unit, pos);
  }

  private static String singular(String unit) {
    return unit.equals("centuries")
        ? "century"
        : unit.length() > 2 && unit.endsWith("s") ? unit.substring(0, unit.length() - 1) : unit;
  }

  private static CalciteContextException error(String message, SqlParserPos pos) {
    return new CalciteContextException(
        message,
        new IllegalArgumentException(message),
        pos.getLineNum(),
        pos.getColumnNum(),
        pos.getEndLineNum(),
        pos.getEndColumnNum());
  }
}
