package dripledger.connectors.message;

import dripledger.engine.catalog.SourceSpec;

/** Wrapped changes, for those who only look at a sample. */
public final class Envelopes {
  private Envelopes() {}

  /** The row a wrapped change leaves, as JSON; null if it leaves none. */
  public static byte[] after(SourceSpec source, byte[] message) {
    return Envelope.of(source).read(message, 0, message.length).after();
  }
}
