package dripledger.client;

import java.io.PrintStream;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;

/** Rows as an aligned table: numbers to the right, everything else to the left, no frames. */
final class TextTable {
  private static final int MAX_WIDTH = 90;

  private final List<String> names = new ArrayList<>();
  private final List<Boolean> right = new ArrayList<>();
  private int[] widths;

  @SuppressWarnings("unchecked")
  TextTable(List<?> columns) {
    for (Object column : columns) {
      Map<String, Object> c = (Map<String, Object>) column;
      names.add(String.valueOf(c.get("name")));
      right.add(
          String.valueOf(c.get("type")).matches("(SMALLINT|INTEGER|BIGINT|REAL|DOUBLE|DECIMAL).*"));
    }
    widths = names.stream().mapToInt(String::length).toArray();
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
    if (text.matches("\\d{4}-\\d\\d-\\d\\dT\\d\\d:\\d\\d:\\d\\d(\\.\\d+)?Z")) {
      return text.substring(0, 10) + " " + text.substring(11, text.length() - 1);
    }
    return text.length() > MAX_WIDTH ? text.substring(0, MAX_WIDTH - 1) + "…" : text;
  }

  /** Makes the columns wide enough for the rows. */
  void fit(List<List<Object>> rows) {
    for (List<Object> row : rows) {
      for (int i = 0; i < widths.length; i++) {
        widths[i] = Math.max(widths[i], cell(row.get(i)).length());
      }
    }
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
    return line(row.stream().map(TextTable::cell).toList(), ' ').stripTrailing();
  }

  void print(PrintStream out, List<List<Object>> rows) {
    fit(rows);
    out.println(header());
    out.println(rule());
    rows.forEach(r -> out.println(row(r)));
  }
}
