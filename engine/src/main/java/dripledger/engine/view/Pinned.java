package dripledger.engine.view;

import dripledger.engine.store.Versions;

/** A snapshot whose relations stay readable until this is closed, by any thread. */
public record Pinned(Snapshot snapshot, Versions.Pin pin) implements AutoCloseable {
  @Override
  public void close() {
    pin.close();
  }
}
