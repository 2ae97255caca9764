package dripledger.client;

import java.io.PrintStream;
import java.util.Map;

/** An error to show: what went wrong, where in the statement, and the way out. */
final class Problem extends RuntimeException {
  private static final long serialVersionUID = 1L;

  /** The exit code when no service answers. */
  static final int UNREACHABLE = 4;

  private final int line;
  private final int column;
  private final String hint;
  private final int exitCode;
  private final boolean passing;

  Problem(String message, String hint, int exitCode) {
    this(message, 0, 0, hint, exitCode, exitCode == UNREACHABLE);
  }

  private Problem(
      String message, int line, int column, String hint, int exitCode, boolean passing) {
    super(message);
    this.line = line;
    this.column = column;
    this.hint = hint;
    this.exitCode = exitCode;
    this.passing = passing;
  }

  /** From an RFC 9457 answer. */
  static Problem of(Map<String, Object> details) {
    Object detail = details.get("detail");
    return new Problem(
        String.valueOf(detail == null ? details.get("title") : detail),
        number(details.get("line")),
        number(details.get("column")),
        details.get("hint") == null ? null : details.get("hint").toString(),
        1,
        number(details.get("status")) == 503);
  }

  private static int number(Object value) {
    return value instanceof Number n ? n.intValue() : 0;
  }

  /** Whether the same may go well in a moment. */
  boolean passing() {
    return passing;
  }

  int exitCode() {
    return exitCode;
  }

  /**
   * Prints the error, with a caret under its place if the statement is given.
   *
   * @param statement the text the place counts in, or null
   */
  void print(PrintStream out, String statement) {
    String[] lines = statement == null ? new String[0] : statement.split("\n", -1);
    if (line > 0 && line <= lines.length) {
      String text = lines[line - 1].replace('\t', ' ');
      int at = Math.min(column, text.length() + 1);
      int from = Math.max(0, at - 60);
      out.println("  " + text.substring(from, Math.min(text.length(), from + 100)));
      out.println("  " + " ".repeat(at - 1 - from) + "^");
      out.println("line " + line + ", column " + column + ": " + getMessage());
    } else {
      out.println(getMessage());
    }
    if (hint != null) {
      out.println("hint: " + hint);
    }
  }
}
