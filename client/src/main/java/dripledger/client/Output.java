package dripledger.client;

import java.io.IOException;
import java.io.PrintStream;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.stream.Collectors;
import tools.jackson.jr.ob.JSON;

/** Prints results in the form asked for. */
final class Output {
  /** For people (TABLE) and for programs: one JSON object a row, or CSV with a header. */
  enum Format {
    table,
    json,
    csv
  }

  private final Format format;
  private final PrintStream out;

  Output(Format format, PrintStream out) {
    this.format = format;
    this.out = out;
  }

  @SuppressWarnings("unchecked")
  void result(Map<String, Object> result) throws IOException {
    if ("done".equals(result.get("kind"))) {
      (format == Format.table ? out : System.err)
          .println(result.get("message") + "  (epoch " + result.get("epoch") + ")");
      return;
    }
    List<List<Object>> rows = (List<List<Object>>) (List<?>) result.get("rows");
    TextTable table = new TextTable((List<?>) result.get("columns"));
    switch (format) {
      case table -> {
        Object only = rows.size() == 1 && table.names().size() == 1 ? rows.get(0).get(0) : null;
        if (only instanceof String text && text.contains("\n")) {
          out.println(text); // the one value there is, whole, such as a definition
        } else {
          table.print(out, rows);
        }
        if (result.get("note") != null) {
          out.printf("%n%s%n", result.get("note"));
        }
        out.printf(
            "%n%s · epoch %s · %s ms%s%n",
            rows.size() == 1 ? "1 row" : rows.size() + " rows",
            result.get("epoch"),
            result.get("elapsed_ms"),
            table.hasTimes() ? " · times in UTC" : "");
      }
      case json -> {
        for (List<Object> row : rows) {
          out.println(json(object(table.names(), row)));
        }
      }
      case csv -> {
        out.println(csv(table.names()));
        rows.forEach(r -> out.println(csv(r)));
      }
    }
    out.flush();
  }

  static Map<String, Object> object(List<String> names, List<Object> row) {
    Map<String, Object> object = new LinkedHashMap<>();
    for (int i = 0; i < names.size(); i++) {
      object.put(names.get(i), row.get(i));
    }
    return object;
  }

  /** An object as one line of JSON, NULLs included. */
  static String json(Map<String, Object> object) throws IOException {
    return JSON.std.with(JSON.Feature.WRITE_NULL_PROPERTIES).asString(object);
  }

  /** One line of RFC 4180; NULL is an empty field. */
  static String csv(List<?> cells) {
    return cells.stream().map(Output::csvCell).collect(Collectors.joining(","));
  }

  private static String csvCell(Object value) {
    String text = value == null ? "" : value.toString();
    return text.matches("(?s).*[\",\\r\\n].*") ? '"' + text.replace("\"", "\"\"") + '"' : text;
  }
}
