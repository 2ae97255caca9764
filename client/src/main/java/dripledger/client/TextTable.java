package dripledger.client;

import java.io.PrintStream;
import java.time.Duration;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.regex.Matcher;
import java.util.regex.Pattern;

/** Rows as an aligned table: numbers to the right, everything else to the left, no frames. */
final class TextTable {
  private static final int MAX_WIDTH = 90;
  private static final Pattern TIME =
      Pattern.compile("\\d{4}-\\d\\d-\\d\\dT\\d\\d:\\d\\d:\\d\\d(\\.\\d+)?Z");

  private final List<String> names = new ArrayList<>();
  private final List<Boolean> right = new ArrayList<>();
  private int[] widths;
  private final boolean[] interval;
  private final int[] fraction; // digits after the second of a column's times, or -1 if it has none

  @SuppressWarnings("unchecked")
  TextTable(List<?> columns) {
    for (Object column : columns) {
      Map<String, Object> c = (Map<String, Object>) column;
      names.add(String.valueOf(c.get("name")));
      right.add(
          String.valueOf(c.get("type"))
              .matches("(SMALLINT|INTEGER|BIGINT|REAL|DOUBLE|DECIMAL|INTERVAL).*"));
    }
    interval = new boolean[names.size()];
    for (int i = 0; i < interval.length; i++) {
      interval[i] =
          "INTERVAL DAY TO SECOND".equals(((Map<String, Object>) columns.get(i)).get("type"));
    }
    widths = names.stream().mapToInt(String::length).toArray();
    fraction = new int[widths.length];
    Arrays.fill(fraction, -1);
  }

  /**
   * Prints things of the service.
   *
   * @param things each by the names of its columns
   */
  static void print(PrintStream out, List<String> names, List<?> things) {
    List<List<Object>> rows = new ArrayList<>();
    for (Object thing : things) {
      List<Object> row = new ArrayList<>();
      names.forEach(name -> row.add(((Map<?, ?>) thing).get(name)));
      rows.add(row);
    }
    new TextTable(
            names.stream()
                .map(n -> Map.of("name", n, "type", n.equals("id") ? "BIGINT" : "VARCHAR"))
                .toList())
        .print(out, rows);
  }

  List<String> names() {
    return names;
  }

  /** A cell as people read it: no T and Z in times, NULL as a dot. */
  static String cell(Object value) {
    if (value == null) {
      return "·";
    }
    String text = String.valueOf(value).replace("\n", "⏎").replace("\t", " ");
    if (TIME.matcher(text).matches()) {
      return text.substring(0, 10) + " " + text.substring(11, text.length() - 1);
    }
    return text.length() > MAX_WIDTH ? text.substring(0, MAX_WIDTH - 1) + "…" : text;
  }

  /** Makes the columns wide enough for the rows; times of one column get as many digits. */
  void fit(List<List<Object>> rows) {
    for (List<Object> row : rows) {
      for (int i = 0; i < widths.length; i++) {
        Matcher time = TIME.matcher(String.valueOf(row.get(i)));
        if (time.matches()) {
          int digits = time.group(1) == null ? 0 : time.group(1).length() - 1;
          fraction[i] = Math.max(fraction[i], digits == 0 ? 0 : digits <= 3 ? 3 : 6);
        }
      }
    }
    for (List<Object> row : rows) {
      for (int i = 0; i < widths.length; i++) {
        widths[i] = Math.max(widths[i], cell(row, i).length());
      }
    }
  }

  /** Whether any column has times, which are shown without a zone and are UTC. */
  boolean hasTimes() {
    return Arrays.stream(fraction).anyMatch(f -> f >= 0);
  }

  /** Days, hours, minutes and seconds of an ISO 8601 duration. */
  static String duration(String iso) {
    Duration all = Duration.parse(iso);
    Duration size = all.abs();
    String fraction =
        size.getNano() == 0
            ? ""
            : String.format(Locale.ROOT, ".%06d", size.getNano() / 1000).replaceAll("0+$", "");
    return (all.isNegative() ? "-" : "")
        + (size.toDays() == 0 ? "" : size.toDays() + (size.toDays() == 1 ? " day " : " days "))
        + String.format(
            Locale.ROOT,
            "%02d:%02d:%02d",
            size.toHoursPart(),
            size.toMinutesPart(),
            size.toSecondsPart())
        + fraction;
  }

  private String cell(List<Object> row, int column) {
    if (interval[column] && row.get(column) instanceof String iso) {
      return duration(iso);
    }
    String text = cell(row.get(column));
    if (fraction[column] <= 0 || !TIME.matcher(String.valueOf(row.get(column))).matches()) {
      return text;
    }
    int point = text.indexOf('.');
    int digits = point < 0 ? 0 : text.length() - point - 1;
    return text + (point < 0 ? "." : "") + "0".repeat(Math.max(0, fraction[column] - digits));
  }

  private String line(List<String> cells, char fill) {
    StringBuilder out = new StringBuilder();
    for (int i = 0; i < cells.size(); i++) {
      String text = cells.get(i);
      String pad = String.valueOf(fill).repeat(Math.max(0, widths[i] - text.length()));
      out.append(right.get(i) ? pad + text : text + pad);
      if (i + 1 < cells.size()) {
        out.append(fill == ' ' ? "  " : String.valueOf(fill).repeat(2));
      }
    }
    return out.toString();
  }

  String header() {
    return line(names, ' ').stripTrailing();
  }

  String rule() {
    return "─".repeat(line(names, ' ').length());
  }

  String row(List<Object> row) {
    List<String> cells = new ArrayList<>();
    for (int i = 0; i < row.size(); i++) {
      cells.add(cell(row, i));
    }
    return line(cells, ' ').stripTrailing();
  }

  void print(PrintStream out, List<List<Object>> rows) {
    fit(rows);
    out.println(header());
    out.println(rule());
    rows.forEach(r -> out.println(row(r)));
  }
}
