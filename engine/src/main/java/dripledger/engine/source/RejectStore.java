package dripledger.engine.source;

import java.util.List;
import java.util.function.Consumer;

/**
 * Rejects that are in a checkpoint. They get there with {@link
 * dripledger.engine.checkpoint.CheckpointStore#write} and go with {@link
 * dripledger.engine.source.InputProgress}. Thread-safe; may block.
 */
public interface RejectStore {
  /** A reject and its number. */
  record Stored(long id, Reject reject) {}

  /** Gives all, oldest first. */
  void scan(Consumer<Stored> sink);

  /**
   * Those of one object, oldest first.
   *
   * @param ids which, or empty for all
   * @param limit how many at most
   */
  List<Stored> find(long objectId, List<Long> ids, int limit);
}
