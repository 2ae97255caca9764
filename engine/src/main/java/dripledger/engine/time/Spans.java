package dripledger.engine.time;

import java.util.ArrayList;
import java.util.List;
import java.util.concurrent.TimeUnit;

/** Lengths of time in words, such as {@code 1 hour 30 minutes}. Stateless. */
public final class Spans {
  private Spans() {}

  /**
   * @param micros microseconds, not below zero
   */
  public static String text(long micros) {
    List<String> parts = new ArrayList<>();
    long rest = add(micros, TimeUnit.DAYS.toMicros(1), "day", parts);
    rest = add(rest, TimeUnit.HOURS.toMicros(1), "hour", parts);
    rest = add(rest, TimeUnit.MINUTES.toMicros(1), "minute", parts);
    rest = add(rest, TimeUnit.SECONDS.toMicros(1), "second", parts);
    rest = add(rest, 1000, "millisecond", parts);
    add(rest, 1, "microsecond", parts);
    return parts.isEmpty() ? "0 seconds" : String.join(" ", parts);
  }

  private static long add(long micros, long unit, String name, List<String> parts) {
    long count = micros / unit;
    if (count > 0) {
      parts.add(count + " " + name + (count == 1 ? "" : "s"));
    }
    return micros % unit;
  }
}
