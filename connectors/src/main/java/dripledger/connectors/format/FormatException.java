package dripledger.connectors.format;

/** A value or record that cannot be read; the message is the reason shown to the user. */
final class FormatException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  FormatException(String message) {
    super(message);
  }
}
