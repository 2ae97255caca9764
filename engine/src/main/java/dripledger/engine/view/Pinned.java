package dripledger.engine.view;

import dripledger.engine.store.Versions;

/**
 * A snapshot whose relations stay readable until this is closed, by any thread.
 *
 * @param pin null if something else keeps it readable for longer
 */
public record Pinned(Snapshot snapshot, Versions.Pin pin) implements AutoCloseable {
  /** The same once more, readable until that is closed; while this is open. */
  public Pinned again() {
    return new Pinned(snapshot, pin.again());
  }

  @Override
  public void close() {
    if (pin != null) {
      pin.close();
    }
  }
}
