package dripledger.connectors.format;

/** Reads the columns of a row off one message. Not thread-safe: each reader has its own. */
public interface MessageDecoder {
  /**
   * Sets the columns the message has; those of the transport are left alone.
   *
   * @throws FormatException if the message or a value cannot be read; the builder is then of no use
   */
  void decode(byte[] message, int from, int length, RowBuilder into);
}
