package dripledger.connectors.format;

/** A value or message that cannot be read; the message is the reason shown to the user. */
public final class FormatException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  public FormatException(String message) {
    super(message);
  }
}
