package dripledger.engine.checkpoint;

import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.source.InputProgress;
import java.util.Map;
import java.util.function.Consumer;

/** Where checkpoints outlive the process. Thread-safe; may block. */
public interface CheckpointStore {
  /**
   * The last complete checkpoint.
   *
   * @param nodes by number
   */
  record Saved(
      long epoch, long sequence, Map<Long, SourcePosition> positions, Map<Long, SavedNode> nodes) {}

  /**
   * One stream, table or view of a checkpoint.
   *
   * @param plan what its state was made by
   * @param figures a form of the node's own
   * @param parts how many parts its state has
   */
  record SavedNode(long id, String plan, byte[] figures, int parts) {}

  /** Takes the content of one checkpoint while it is written. */
  interface Writer {
    /** A node that is part of it. */
    void node(SavedNode node);

    /** Chunks of a node from earlier checkpoints no longer count. */
    void forget(long nodeId);

    /**
     * The next chunk of one part of a node's state; earlier ones, also of earlier checkpoints,
     * count.
     */
    void chunk(long nodeId, int part, byte[] chunk);
  }

  /** What a checkpoint cost: bytes as stored, and of everything that is needed to recover. */
  record Written(long bytes, long totalBytes, long chunks) {}

  /** The last complete checkpoint, or null. */
  Saved latest();

  /** Gives the chunks of one part, oldest first, one at a time. */
  void read(long nodeId, int part, Consumer<byte[]> sink);

  /**
   * Writes a checkpoint as one transaction: it replaces the one before whole or not at all.
   *
   * @param settled where inputs stand, and what was rejected or replayed since the one before
   * @param content gives the rest, and may be asked again if writing failed midway
   */
  Written write(long epoch, long sequence, InputProgress settled, Consumer<Writer> content);

  /** Merges the chunks of one part that has many; answers whether there was one. */
  boolean tidy();
}
