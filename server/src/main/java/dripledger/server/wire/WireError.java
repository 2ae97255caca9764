package dripledger.server.wire;

import dripledger.engine.error.EngineException;

/** An error as clients know it: by its SQLSTATE. */
final class WireError extends RuntimeException {
  private static final long serialVersionUID = 1L;

  private final String state;
  private final String hint;
  private final int position;

  /**
   * @param hint or null
   */
  WireError(String state, String message, String hint) {
    this(state, message, hint, 0);
  }

  /**
   * @param position in what the client sent, in characters from 1 on; 0 for none
   */
  WireError(String state, String message, String hint, int position) {
    super(message);
    this.state = state;
    this.hint = hint;
    this.position = position;
  }

  String state() {
    return state;
  }

  String hint() {
    return hint;
  }

  int position() {
    return position;
  }

  /** An error of the engine, of a statement that stands where it does. */
  static WireError of(EngineException e, StatementText statement) {
    int position =
        e.line() > 0 && statement != null
            ? statement.offset() + place(statement.text(), e.line(), e.column())
            : 0;
    return new WireError(state(e), String.valueOf(e.getMessage()), e.hint(), position);
  }

  private static int place(String text, int line, int column) {
    int at = 0;
    for (int i = 1; i < line; i++) {
      at = text.indexOf('\n', at) + 1;
    }
    return text.codePointCount(0, Math.min(text.length(), at + column - 1)) + 1;
  }

  private static String state(EngineException e) {
    if (e.sqlState() != null) {
      return e.sqlState();
    }
    boolean noColumn = String.valueOf(e.getMessage()).startsWith("no column");
    return switch (e.code()) {
      case SYNTAX -> "42601";
      case INVALID -> noColumn ? "42703" : "42000";
      case NOT_SUPPORTED -> "0A000";
      case FORBIDDEN -> "42501";
      case NOT_FOUND -> noColumn ? "42703" : "42P01";
      case ALREADY_EXISTS -> "42P07";
      case IN_USE -> "2BP01";
      case CONSTRAINT -> "23000";
      case LIMIT -> "54000";
      case CANCELLED -> "57014";
      case FAILED -> "22000";
      case UNAVAILABLE -> "55000";
    };
  }
}
