package dripledger.engine.view;

import java.util.Map;

/**
 * All relations at one epoch: what a reader gets with one pointer read. Immutable.
 *
 * @param epoch the epoch's number
 * @param sequence the last append of the ledger it holds: it stands for exactly that prefix
 * @param relations tables and materialized views by number; streams are not kept
 */
public record Snapshot(long epoch, long sequence, Map<Long, RelationVersion> relations) {
  public Snapshot {
    relations = Map.copyOf(relations);
  }

  /** The relation's version, or null for a stream or an unknown number. */
  public RelationVersion relation(long id) {
    return relations.get(id);
  }

  /** This snapshot with one relation in another version, for statements of an open transaction. */
  public Snapshot with(long id, RelationVersion version) {
    Map<Long, RelationVersion> copy = new java.util.HashMap<>(relations);
    copy.put(id, version);
    return new Snapshot(epoch, sequence, copy);
  }
}
