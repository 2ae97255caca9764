package dripledger.server.wire;

import java.util.HashMap;
import java.util.List;
import java.util.Locale;
import java.util.Map;

/**
 * What a COPY statement says, in the form with parentheses and in the older one without.
 *
 * @param query what is copied out; null if it is a relation
 * @param relation that is copied, or null
 * @param columns of the relation; empty for all
 * @param in whether rows come from the client
 */
record CopyOptions(
    StatementText query,
    String relation,
    List<String> columns,
    boolean in,
    Format format,
    boolean header,
    char delimiter,
    char quote,
    char escape,
    String nothing) {
  /** How rows are written. */
  enum Format {
    TEXT,
    CSV,
    BINARY
  }

  /**
   * Reads a statement.
   *
   * @throws WireError if it is not one that can be done
   */
  static CopyOptions of(StatementText s) {
    int at = 1;
    StatementText query = null;
    String relation = null;
    List<String> columns = new java.util.ArrayList<>();
    if (s.token(at).is("(")) {
      int close = close(s, at);
      StatementText rest = s.from(at + 1);
      query =
          new StatementText(
              rest.text().substring(0, s.token(close).from() - s.token(at + 1).from()).trim(),
              rest.offset(),
              rest.tokens().subList(0, close - at - 1));
      at = close + 1;
    } else {
      relation = s.token(at++).text();
      while (s.token(at).is(".")) {
        relation = s.token(at + 1).text();
        at += 2;
      }
      if (s.token(at).is("(")) {
        for (at++; !s.token(at).is(")") && at < s.tokens().size(); at++) {
          if (!s.token(at).is(",")) {
            columns.add(s.token(at).text());
          }
        }
        at++;
      }
    }
    boolean in = s.token(at).is("from");
    boolean client = s.token(at + 1).is(in ? "stdin" : "stdout");
    if (!in && !s.token(at).is("to") || !client || in && query != null) {
      throw new WireError(
          "0A000",
          "COPY goes to STDOUT and comes from STDIN here",
          "COPY (SELECT …) TO STDOUT, or COPY scan FROM STDIN");
    }
    return of(query, relation, columns, in, options(s, at + 2));
  }

  private static int close(StatementText s, int open) {
    int depth = 0;
    for (int i = open; i < s.tokens().size(); i++) {
      depth += s.token(i).is("(") ? 1 : s.token(i).is(")") ? -1 : 0;
      if (depth == 0) {
        return i;
      }
    }
    throw new WireError("42601", "a parenthesis is not closed", null);
  }

  /** By name; those without a value are on. */
  private static Map<String, String> options(StatementText s, int from) {
    Map<String, String> options = new HashMap<>();
    int at = s.token(from).is("with") ? from + 1 : from;
    boolean listed = s.token(at).is("(");
    if (listed) {
      at++;
    }
    while (at < s.tokens().size() && !s.token(at).is(")")) {
      String name = s.token(at++).text();
      if (!listed && (name.equals("csv") || name.equals("binary") || name.equals("text"))) {
        options.put("format", name);
        continue;
      }
      if (s.token(at).is("as")) {
        at++;
      }
      boolean valued =
          at < s.tokens().size()
              && !s.token(at).is(",")
              && !s.token(at).is(")")
              && (listed || s.token(at).kind() == Lexer.Kind.TEXT);
      options.put(name, valued ? s.token(at++).text() : "on");
      if (s.token(at).is(",")) {
        at++;
      }
    }
    return options;
  }

  private static CopyOptions of(
      StatementText query,
      String relation,
      List<String> columns,
      boolean in,
      Map<String, String> options) {
    Format format =
        switch (take(options, "format", "text").toLowerCase(Locale.ROOT)) {
          case "text" -> Format.TEXT;
          case "csv" -> Format.CSV;
          case "binary" -> Format.BINARY;
          default -> throw new WireError("22023", "the format is text, csv or binary", null);
        };
    boolean csv = format == Format.CSV;
    CopyOptions made =
        new CopyOptions(
            query,
            relation,
            columns,
            in,
            format,
            SessionVariables.isOn(take(options, "header", "off")),
            character(options, "delimiter", csv ? "," : "\t"),
            character(options, "quote", "\""),
            character(options, "escape", "\""),
            take(options, "null", csv ? "" : "\\N"));
    take(options, "encoding", "utf8");
    if (!options.isEmpty()) {
      throw new WireError(
          "0A000",
          "not supported in COPY: " + options.keySet().iterator().next(),
          "there are FORMAT, HEADER, DELIMITER, QUOTE, ESCAPE and NULL");
    }
    return made;
  }

  private static String take(Map<String, String> options, String name, String otherwise) {
    String value = options.remove(name);
    return value == null ? otherwise : value;
  }

  private static char character(Map<String, String> options, String name, String otherwise) {
    String value = take(options, name, otherwise);
    if (value.length() != 1 || value.charAt(0) >= 128) {
      throw new WireError("22023", "the " + name + " is one plain character", null);
    }
    return value.charAt(0);
  }
}
