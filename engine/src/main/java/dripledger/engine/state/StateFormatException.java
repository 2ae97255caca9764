package dripledger.engine.state;

/** Saved state is of a form this release does not read; it must be built again from its inputs. */
public final class StateFormatException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  public StateFormatException(String message) {
    super(message);
  }
}
