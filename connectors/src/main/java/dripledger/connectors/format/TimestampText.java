package dripledger.connectors.format;

import dripledger.engine.expr.Casts;
import java.time.LocalDate;

/** ISO-8601 timestamps as producers write them, read from characters without making objects. */
final class TimestampText {
  private static final long MICROS_A_DAY = 86_400_000_000L;

  private TimestampText() {}

  /**
   * Microseconds since 1970 in UTC of {@code 2026-03-02T06:14:09.120Z} and its like; other forms
   * are left to {@link Casts#toTimestamp}.
   */
  static long parse(char[] text, int from, int length) {
    int end = from + length;
    if (length >= 19
        && text[from + 4] == '-'
        && text[from + 7] == '-'
        && (text[from + 10] == 'T' || text[from + 10] == ' ')
        && text[from + 13] == ':'
        && text[from + 16] == ':') {
      int year = digits(text, from, 4);
      int month = digits(text, from + 5, 2);
      int day = digits(text, from + 8, 2);
      int hour = digits(text, from + 11, 2);
      int minute = digits(text, from + 14, 2);
      int second = digits(text, from + 17, 2);
      int at = from + 19;
      long micros = 0;
      boolean plain =
          (year | month | day | hour | minute | second) >= 0
              && hour < 24
              && minute < 60
              && second < 60
              && month >= 1
              && month <= 12
              && day >= 1
              && day <= 28;
      if (at < end && text[at] == '.') {
        long unit = 100_000;
        for (at++; at < end && text[at] >= '0' && text[at] <= '9'; at++, unit /= 10) {
          micros += (text[at] - '0') * unit;
        }
        plain &= unit > 0 || at - from <= 26;
      }
      boolean utc = at == end || at == end - 1 && text[at] == 'Z';
      if (plain && utc) {
        return epochDay(year, month, day) * MICROS_A_DAY
            + ((hour * 60L + minute) * 60 + second) * 1_000_000
            + micros;
      }
    }
    return Casts.toTimestamp(new String(text, from, length));
  }

  private static int digits(char[] text, int from, int count) {
    int value = 0;
    for (int i = 0; i < count; i++) {
      int digit = text[from + i] - '0';
      if (digit < 0 || digit > 9) {
        return Integer.MIN_VALUE;
      }
      value = value * 10 + digit;
    }
    return value;
  }

  /** As {@link LocalDate#toEpochDay}, for a date that is known to be one. */
  private static long epochDay(int year, int month, int day) {
    long y = month <= 2 ? year - 1L : year;
    long era = Math.floorDiv(y, 400L);
    long yearOfEra = y - era * 400;
    long dayOfYear = (153L * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
    long dayOfEra = yearOfEra * 365 + yearOfEra / 4 - yearOfEra / 100 + dayOfYear;
    return era * 146_097 + dayOfEra - 719_468;
  }
}
