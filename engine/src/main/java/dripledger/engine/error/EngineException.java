package dripledger.engine.error;

/**
 * An error a user can act on: a stable code, a sentence, an optional place in the statement and a
 * hint. Thrown on the calling thread only; the epoch loop never dies of one.
 */
public final class EngineException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  /** The stable codes, also used as the last part of the problem type on the network. */
  public enum Code {
    SYNTAX,
    INVALID,
    NOT_SUPPORTED,
    NOT_FOUND,
    /** Whoever asks may not do that. */
    FORBIDDEN,
    ALREADY_EXISTS,
    IN_USE,
    CONSTRAINT,
    LIMIT,
    /** It was ended before it was done: by whoever asked, or because its time was over. */
    CANCELLED,
    FAILED,
    /** Not now; the same may go well later. */
    UNAVAILABLE
  }

  private final Code code;
  private final String hint;
  private final int line;
  private final int column;
  private String sqlState; // or null

  /**
   * @param line one-based, 0 if the error has no place
   * @param column one-based, 0 if the error has no place
   * @param hint the way out, or null
   */
  public EngineException(Code code, String message, int line, int column, String hint) {
    super(message);
    this.code = code;
    this.line = line;
    this.column = column;
    this.hint = hint;
  }

  public EngineException(Code code, String message, String hint) {
    this(code, message, 0, 0, hint);
  }

  public EngineException(Code code, String message) {
    this(code, message, 0, 0, null);
  }

  /**
   * Says more exactly than the code what it is, in the codes of the SQL standard.
   *
   * @return this
   */
  public EngineException state(String fiveCharacters) {
    sqlState = fiveCharacters;
    return this;
  }

  /** The SQLSTATE if it says more than the code, or null. */
  public String sqlState() {
    return sqlState;
  }

  public Code code() {
    return code;
  }

  /** The way out, or null. */
  public String hint() {
    return hint;
  }

  /** One-based line in the text given, or 0. */
  public int line() {
    return line;
  }

  /** One-based column in the text given, or 0. */
  public int column() {
    return column;
  }
}
