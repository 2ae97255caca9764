package dripledger.engine.catalog;

import java.util.Locale;
import java.util.Map;
import java.util.regex.Matcher;
import java.util.regex.Pattern;

/** The values of options that say a time, {@code retain} first. */
public final class Retention {
  /** What to write. */
  public static final String HINT = "write 'forever', or a time such as '30 days' or '12 hours'";

  /** As long as the stream is there. */
  public static final long FOREVER = Long.MAX_VALUE;

  private static final Pattern TIME = Pattern.compile("(\\d{1,6}) +([a-z]+?)s?");
  private static final Map<String, Long> UNITS =
      Map.of(
          "second",
          1L,
          "minute",
          60L,
          "hour",
          3600L,
          "day",
          86_400L,
          "week",
          604_800L,
          "year",
          31_557_600L);

  private Retention() {}

  /**
   * How long events are kept, in microseconds.
   *
   * @throws IllegalArgumentException if the text is not understood
   */
  public static long micros(String text) {
    String value = text.strip().toLowerCase(Locale.ROOT);
    long micros = value.equals("forever") ? FOREVER : span(value);
    if (micros <= 0) {
      throw new IllegalArgumentException("retain '" + text + "' is not a time");
    }
    return micros;
  }

  /** A time such as "20 seconds", in microseconds; 0 if the text is none. */
  public static long span(String text) {
    Matcher m = TIME.matcher(text.strip().toLowerCase(Locale.ROOT));
    if (!m.matches() || !UNITS.containsKey(m.group(2))) {
      return 0;
    }
    return Long.parseLong(m.group(1)) * UNITS.get(m.group(2)) * 1_000_000L;
  }
}
