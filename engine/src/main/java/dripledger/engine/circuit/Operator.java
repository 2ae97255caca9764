package dripledger.engine.circuit;

import dripledger.engine.row.Page;

/** A step of a circuit. Called by one thread at a time, never concurrently. */
interface Operator {
  /** Called once before any push: emits what is there without any input. */
  default void start() {}

  /** Takes in a delta from the input numbered {@code port}; must not keep the page. */
  void push(int port, Page delta);

  /** Ends the epoch: everything still held back for it goes downstream. */
  default void flush() {}

  /** Heap held as state, in bytes. */
  default long stateBytes() {
    return 0;
  }

  /** Keys held as state. */
  default long stateKeys() {
    return 0;
  }
}
