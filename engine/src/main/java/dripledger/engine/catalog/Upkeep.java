package dripledger.engine.catalog;

import com.cronutils.model.CronType;
import com.cronutils.model.definition.CronDefinitionBuilder;
import com.cronutils.model.time.ExecutionTime;
import com.cronutils.parser.CronParser;
import java.time.Instant;
import java.time.ZoneOffset;
import java.time.temporal.ChronoUnit;
import java.util.Locale;

/**
 * When a materialized view takes in what its inputs change: option {@code upkeep}. Immutable.
 *
 * @param text as it was written, in lower case
 * @param everyMicros the time between two refreshes, in microseconds; 0 for none that is fixed
 * @param cron the fields of a schedule, five of them, in UTC; or null
 * @param freshMicros how old what is shown may get, in microseconds; 0 if nothing is said
 */
public record Upkeep(String text, long everyMicros, String cron, long freshMicros) {
  /** Changes are taken in as they come. */
  public static final Upkeep CONTINUOUS = new Upkeep("continuous", 0, null, 0);

  /** What to write. */
  public static final String HINT =
      "write 'continuous', 'every 20 seconds', 'cron 0 6 * * *' (in UTC) or 'on demand'";

  /** {@link #next} of what is due at no time. */
  public static final long NEVER = Long.MAX_VALUE;

  private static final String EVERY = "every ";
  private static final String CRON = "cron ";
  private static final CronParser CRON_FIELDS =
      new CronParser(CronDefinitionBuilder.instanceDefinitionFor(CronType.UNIX));

  /**
   * Reads the value of the option.
   *
   * @param freshMicros see there
   * @throws IllegalArgumentException if it is not understood
   */
  public static Upkeep of(String value, long freshMicros) {
    String text = value.strip().toLowerCase(Locale.ROOT).replaceAll("\\s+", " ");
    if (text.equals("continuous") || text.equals("on demand")) {
      return new Upkeep(text, 0, null, freshMicros);
    }
    if (text.startsWith(EVERY)) {
      long micros = Retention.span(text.substring(EVERY.length()));
      if (micros > 0) {
        return new Upkeep(text, micros, null, freshMicros);
      }
    } else if (text.startsWith(CRON)) {
      String fields = text.substring(CRON.length()).strip();
      try {
        CRON_FIELDS.parse(fields);
      } catch (IllegalArgumentException e) {
        throw new IllegalArgumentException(
            "upkeep '" + value + "' is no schedule: " + e.getMessage(), e);
      }
      return new Upkeep(text, 0, fields, freshMicros);
    }
    throw new IllegalArgumentException("upkeep '" + value + "' is not known");
  }

  /** Whether changes are taken in as they come. */
  public boolean isContinuous() {
    return text.equals(CONTINUOUS.text);
  }

  /**
   * When it is due next, in microseconds since 1970, or {@link #NEVER}.
   *
   * @param last when it was refreshed last
   */
  public long next(long last) {
    if (everyMicros > 0) {
      return last - Math.floorMod(last, everyMicros) + everyMicros;
    }
    if (cron == null) {
      return NEVER;
    }
    Instant from = Instant.EPOCH.plus(last, ChronoUnit.MICROS);
    return ExecutionTime.forCron(CRON_FIELDS.parse(cron))
        .nextExecution(from.atZone(ZoneOffset.UTC))
        .map(at -> ChronoUnit.MICROS.between(Instant.EPOCH, at.toInstant()))
        .orElse(NEVER);
  }
}
