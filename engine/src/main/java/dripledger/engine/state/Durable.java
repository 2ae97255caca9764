package dripledger.engine.state;

import java.util.function.Consumer;

/**
 * State that can be saved piece by piece. What is saved of one state is a list of chunks, oldest
 * first; {@link StateChunks} knows their forms and can merge them without the state itself.
 */
public interface Durable {
  /**
   * Notes what changed since the last capture. Called by the writer of the state between two
   * epochs; must be quick, and answers something that no longer changes.
   *
   * @param whole whether to save everything, as if nothing had been saved before
   * @return null if nothing has changed
   */
  Capture capture(boolean whole);

  /**
   * Becomes what was saved. Called once, before anything else.
   *
   * @throws StateFormatException if it is not of a form this release reads
   */
  void restore(Chunks chunks);

  /** What a capture noted. Encoding may happen later, on another thread, and again. */
  interface Capture {
    /** Gives the chunks, each at most {@link StateChunks#MAX_BYTES} plus one entry long. */
    void encode(ChunkSink sink);

    /** Says that the checkpoint that it was encoded for is committed. */
    default void committed() {}

    /** Says that it will not be encoded again. */
    default void close() {}
  }

  /** Takes chunks in order. */
  @FunctionalInterface
  interface ChunkSink {
    /** The array is the sink's to keep. */
    void chunk(byte[] bytes);
  }

  /** Chunks as {@link Capture#encode} gave them, oldest first, or merged; read one at a time. */
  @FunctionalInterface
  interface Chunks {
    void forEach(Consumer<byte[]> sink);
  }
}
