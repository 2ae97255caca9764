package dripledger.connectors.postgres;

/** The slot is gone or has moved past us: changes are lost, and only a new load helps. */
final class ChangesLost extends RuntimeException {
  private static final long serialVersionUID = 1L;

  ChangesLost(String message) {
    super(message);
  }
}
