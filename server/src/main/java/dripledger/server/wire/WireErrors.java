package dripledger.server.wire;

import dripledger.engine.error.EngineException;
import java.io.IOException;

/** Errors and notices as messages. Stateless. */
final class WireErrors {
  private WireErrors() {}

  /**
   * Sends an error.
   *
   * @param severity ERROR, or FATAL if the connection ends
   * @param statement that it is about, or null
   */
  static void send(WireOutput out, String severity, RuntimeException e, StatementText statement)
      throws IOException {
    WireError error =
        e instanceof WireError w
            ? w
            : e instanceof EngineException known
                ? WireError.of(known, statement)
                : new WireError("58000", String.valueOf(e.getMessage()), "try again in a moment");
    out.begin('E');
    fields(out, severity, error.state(), error.getMessage());
    if (error.hint() != null) {
      out.int8('H').text(error.hint());
    }
    if (error.position() > 0) {
      out.int8('P').text(String.valueOf(error.position()));
    }
    out.int8(0).end();
  }

  static void notice(WireOutput out, String message) throws IOException {
    out.begin('N');
    fields(out, "NOTICE", "00000", message);
    out.int8(0).end();
  }

  private static void fields(WireOutput out, String severity, String state, String message) {
    out.int8('S').text(severity).int8('V').text(severity).int8('C').text(state);
    out.int8('M').text(message);
  }
}
