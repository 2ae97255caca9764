package dripledger.engine.view;

import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.error.EngineException;
import java.util.Map;

/**
 * All relations at one epoch: what a reader gets with one pointer read. It stands for an exact
 * prefix of every input: of the ledger up to a sequence, of each source up to a position.
 * Immutable; its relations' rows can be read while it is {@link Pinned}.
 *
 * @param epoch the epoch's number
 * @param version the stores' version that it shows
 * @param sequence the last append of the ledger it holds
 * @param positions how far each input was read, by the number of the stream, table or shared
 *     connection
 * @param relations tables and materialized views by number; streams are not kept
 * @param unreadable why a relation's rows are not what they should be, by number: it has stopped or
 *     is still being loaded
 */
public record Snapshot(
    long epoch,
    long version,
    long sequence,
    Map<Long, SourcePosition> positions,
    Map<Long, RelationVersion> relations,
    Map<Long, String> unreadable) {
  public Snapshot {
    positions = Map.copyOf(positions);
    relations = Map.copyOf(relations);
    unreadable = Map.copyOf(unreadable);
  }

  /** The relation's version, or null for a stream or an unknown number. */
  public RelationVersion relation(long id) {
    return relations.get(id);
  }

  /**
   * The relation's version, to be answered from; null for a stream or an unknown number.
   *
   * @throws EngineException if its rows are not what they should be
   */
  public RelationVersion readable(long id) {
    if (unreadable.containsKey(id)) {
      throw new EngineException(
          EngineException.Code.FAILED, unreadable.get(id), "SHOW VIEWS and drip status tell more");
    }
    return relations.get(id);
  }

  /** This snapshot with other positions. */
  public Snapshot withPositions(Map<Long, SourcePosition> others) {
    return new Snapshot(epoch, version, sequence, others, relations, unreadable);
  }

  /** This snapshot with one relation in another version, for statements of an open transaction. */
  public Snapshot with(long id, RelationVersion changed) {
    Map<Long, RelationVersion> copy = new java.util.HashMap<>(relations);
    copy.put(id, changed);
    return new Snapshot(epoch, version, sequence, positions, copy, unreadable);
  }
}
