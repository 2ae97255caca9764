package dripledger.engine.expr;

import java.time.DateTimeException;
import java.time.LocalDateTime;
import java.time.temporal.IsoFields;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;

/**
 * A pattern of to_char, to_date and to_timestamp: fields such as YYYY, MM, Mon, DD, HH24, MI, SS,
 * MS and US, text in quotes, and everything else as it stands. FM before a field leaves its padding
 * out. Immutable.
 */
final class CalendarPattern {
  private static final List<String> FIELDS =
      List.of(
          "YYYY", "IYYY", "YY", "Month", "MONTH", "month", "Mon", "MON", "mon", "MM", "MI", "MS",
          "DDD", "DD", "Day", "DAY", "day", "Dy", "DY", "dy", "D", "ID", "HH24", "HH12", "HH", "SS",
          "US", "AM", "PM", "am", "pm", "Q", "WW", "IW");

  private final List<Part> parts = new ArrayList<>();

  /**
   * A piece of a pattern.
   *
   * @param field or null
   * @param text what stands for itself, if it is no field
   */
  private record Part(String field, boolean padded, String text) {}

  CalendarPattern(String pattern) {
    boolean padded = true;
    for (int i = 0; i < pattern.length(); ) {
      if (pattern.startsWith("FM", i)) {
        padded = false;
        i += 2;
        continue;
      }
      if (pattern.charAt(i) == '"') {
        int end = pattern.indexOf('"', i + 1);
        int to = end < 0 ? pattern.length() : end;
        parts.add(new Part(null, true, pattern.substring(i + 1, to)));
        i = to + 1;
        continue;
      }
      int at = i;
      String field =
          FIELDS.stream().filter(f -> pattern.startsWith(f, at)).findFirst().orElse(null);
      if (field == null) {
        parts.add(new Part(null, true, pattern.substring(i, i + 1)));
        i++;
      } else {
        parts.add(new Part(field, padded, null));
        padded = true;
        i += field.length();
      }
    }
  }

  String format(LocalDateTime t) {
    StringBuilder out = new StringBuilder();
    for (Part part : parts) {
      out.append(part.field == null ? part.text : field(part, t));
    }
    return out.toString();
  }

  private static String field(Part part, LocalDateTime t) {
    boolean pad = part.padded;
    int hour = t.getHour() % 12 == 0 ? 12 : t.getHour() % 12;
    return switch (part.field) {
      case "YYYY" -> number(t.getYear(), pad ? 4 : 1);
      case "IYYY" -> number(t.get(IsoFields.WEEK_BASED_YEAR), pad ? 4 : 1);
      case "YY" -> number(t.getYear() % 100, pad ? 2 : 1);
      case "MM" -> number(t.getMonthValue(), pad ? 2 : 1);
      case "DD" -> number(t.getDayOfMonth(), pad ? 2 : 1);
      case "DDD" -> number(t.getDayOfYear(), pad ? 3 : 1);
      case "D" -> String.valueOf(t.getDayOfWeek().getValue() % 7 + 1);
      case "ID" -> String.valueOf(t.getDayOfWeek().getValue());
      case "HH24" -> number(t.getHour(), pad ? 2 : 1);
      case "HH12", "HH" -> number(hour, pad ? 2 : 1);
      case "MI" -> number(t.getMinute(), pad ? 2 : 1);
      case "SS" -> number(t.getSecond(), pad ? 2 : 1);
      case "MS" -> number(t.getNano() / 1_000_000, 3);
      case "US" -> number(t.getNano() / 1_000, 6);
      case "Q" -> String.valueOf(t.get(IsoFields.QUARTER_OF_YEAR));
      case "WW" -> number((t.getDayOfYear() - 1) / 7 + 1, pad ? 2 : 1);
      case "IW" -> number(t.get(IsoFields.WEEK_OF_WEEK_BASED_YEAR), pad ? 2 : 1);
      case "AM", "PM" -> t.getHour() < 12 ? "AM" : "PM";
      case "am", "pm" -> t.getHour() < 12 ? "am" : "pm";
      default -> name(part.field, pad, t);
    };
  }

  private static String name(String field, boolean pad, LocalDateTime t) {
    String kind = field.toLowerCase(Locale.ROOT);
    boolean shortened = kind.equals("mon") || kind.equals("dy");
    String name = CalendarBuiltins.name(t, kind.startsWith("mon"), shortened);
    String cased =
        field.equals(kind)
            ? name.toLowerCase(Locale.ROOT)
            : Character.isUpperCase(field.charAt(1)) ? name.toUpperCase(Locale.ROOT) : name;
    return pad && !shortened ? String.format("%-9s", cased) : cased;
  }

  private static String number(int value, int digits) {
    return String.format("%0" + digits + "d", value);
  }

  LocalDateTime parse(String text) {
    int year = 1;
    int month = 1;
    int day = 1;
    int hour = 0;
    int minute = 0;
    int second = 0;
    int nanos = 0;
    int half = -1;
    int at = 0;
    for (Part part : parts) {
      if (part.field == null) {
        at += at < text.length() && !Character.isLetterOrDigit(text.charAt(at)) ? 1 : 0;
        if (!part.text.isBlank() && Character.isLetterOrDigit(part.text.charAt(0))) {
          at += part.text.length();
        }
        continue;
      }
      while (at < text.length() && text.charAt(at) == ' ') {
        at++;
      }
      String kind = part.field.toLowerCase(Locale.ROOT);
      if (kind.equals("mon") || kind.equals("month")) {
        int found = monthNamed(text, at, kind.equals("mon"));
        month = found;
        at += kind.equals("mon") ? 3 : java.time.Month.of(found).name().length();
        continue;
      }
      if (kind.equals("am") || kind.equals("pm")) {
        half = text.regionMatches(true, at, "pm", 0, 2) ? 12 : 0;
        at += 2;
        continue;
      }
      int most =
          part.field.equals("YYYY") ? 4 : part.field.equals("MS") ? 3 : kind.equals("us") ? 6 : 2;
      int end = at;
      while (end < text.length() && end - at < most && Character.isDigit(text.charAt(end))) {
        end++;
      }
      if (end == at) {
        throw new Casts.CastException("\"" + text + "\" has no " + part.field + " where it should");
      }
      int number = Integer.parseInt(text.substring(at, end));
      switch (part.field) {
        case "YYYY" -> year = number;
        case "YY" -> year = number < 70 ? 2000 + number : 1900 + number;
        case "MM" -> month = number;
        case "DD" -> day = number;
        case "HH24", "HH12", "HH" -> hour = number;
        case "MI" -> minute = number;
        case "SS" -> second = number;
        case "MS" -> nanos = number * (int) Math.pow(10, 9 - (double) (end - at));
        case "US" -> nanos = number * (int) Math.pow(10, 9 - (double) (end - at));
        default -> throw new Casts.CastException("cannot read " + part.field + " from text");
      }
      at = end;
    }
    try {
      int clock = half < 0 ? hour : hour % 12 + half;
      return LocalDateTime.of(year, month, day, clock, minute, second, nanos);
    } catch (DateTimeException e) {
      throw new Casts.CastException("\"" + text + "\": " + e.getMessage());
    }
  }

  private static int monthNamed(String text, int at, boolean shortened) {
    for (java.time.Month month : java.time.Month.values()) {
      int length = shortened ? 3 : month.name().length();
      if (text.regionMatches(true, at, month.name(), 0, length)) {
        return month.getValue();
      }
    }
    throw new Casts.CastException("\"" + text + "\" has no month where it should");
  }
}
