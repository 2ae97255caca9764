package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import java.util.function.Consumer;

/** A step of a circuit. Called by one thread at a time, never concurrently. */
interface Operator {
  /** Called once before any push: emits what is there without any input. */
  default void start() {}

  /** Takes in a delta from the input numbered {@code port}; must not keep the page. */
  void push(int port, Page delta);

  /** Ends the epoch, fed or not: everything still held back for it goes downstream. */
  default void flush(Epoch epoch) {}

  /** Gives the parts of the state that a checkpoint saves, always in the same order. */
  default void durable(Consumer<Durable> into) {}

  /** Goes over to the clock of a graph, once it is filled. */
  default void join(Versions versions) {}

  /** Leaves its clock. */
  default void close() {}

  /**
   * Says that the state was restored.
   *
   * @param watermark that of the last {@link #flush} before it was saved
   */
  default void restored(long watermark) {}

  /** Heap held as state, in bytes. */
  default long stateBytes() {
    return 0;
  }

  /** Keys held as state. */
  default long stateKeys() {
    return 0;
  }
}
