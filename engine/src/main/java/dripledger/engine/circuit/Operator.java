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

  /** Says what the current time is, before the first push; see {@link Epoch#currentMicros}. */
  default void current(long micros) {}

  /**
   * Says that the state was restored.
   *
   * @param watermark that of the last {@link #flush} before it was saved
   * @param currentMicros the current time of that
   */
  default void restored(long watermark, long currentMicros) {
    restored(watermark);
  }

  /** As above, for operators that ask nothing of the current time. */
  default void restored(long watermark) {}

  /** When it has to be told the current time next; {@link Long#MAX_VALUE} for not at all. */
  default long dueMicros() {
    return Long.MAX_VALUE;
  }

  /** Heap held as state, in bytes. */
  default long stateBytes() {
    return 0;
  }

  /** Keys held as state. */
  default long stateKeys() {
    return 0;
  }
}
