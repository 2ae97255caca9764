package dripledger.connectors.postgres;

import dripledger.engine.source.SourceSink;
import java.util.Map;

/**
 * Takes what the decoder finds into the tables that are followed, a transaction at a time. By the
 * feed's thread, under the feed's lock.
 */
final class TransactionReader implements PgOutput.Handler {
  private final PostgresAccess access;
  private final SourceSink sink;
  private final Map<Long, FollowedTable> tables;
  private final Map<Integer, FollowedTable> byRelation;

  /** What is gathered in memory, in bytes of rows; more waits on disk. */
  private static final long MEMORY_BYTES = 32L << 20;

  private final long maxTransactionBytes;
  private long commitLsn; // of the transaction being read
  private long commitMicros;
  boolean inTransaction;
  long ended; // the end of the last transaction read
  long seen; // no transaction before this place is still to come
  int gathered; // rows, since the last time they were handed over

  /**
   * @param tables by number, and by what the source calls them: those of the feed
   */
  TransactionReader(
      PostgresAccess access,
      SourceSink sink,
      Map<Long, FollowedTable> tables,
      Map<Integer, FollowedTable> byRelation) {
    this.access = access;
    this.sink = sink;
    this.tables = tables;
    this.byRelation = byRelation;
    maxTransactionBytes = access.maxTransactionBytes();
  }

  @Override
  public void begin(long lsn, long micros) {
    inTransaction = true;
    commitLsn = lsn;
    commitMicros = micros;
  }

  @Override
  public void commit(long endLsn) {
    inTransaction = false;
    ended = endLsn;
    seen = Math.max(seen, endLsn);
    for (FollowedTable t : tables.values()) {
      t.committed(commitMicros);
      if (!t.live && t.pending()) {
        t.keepBack(commitLsn);
      }
    }
    gathered = Math.max(gathered, 1); // also a transaction of no rows for us moves us on
  }

  @Override
  public void relation(
      int id,
      String schema,
      String name,
      char identity,
      String[] columns,
      int[] types,
      int[] modifiers,
      boolean[] keys) {
    for (FollowedTable t : tables.values()) {
      if (t.schemaName.equals(schema) && t.tableName.equals(name)) {
        boolean another = byRelation.containsValue(t) && byRelation.get(id) != t;
        byRelation.put(id, t);
        String why =
            another
                ? schema + "." + name + " was made anew at the source"
                : t.describe(columns, types, modifiers);
        if (why != null && !t.stopped) {
          t.stopped = true;
          sink.stop(
              t.table.id(),
              another
                  ? why + "; REFRESH TABLE " + t.table.name() + " loads it again"
                  : why + "; DROP TABLE … CASCADE and create it again");
        }
      }
    }
  }

  private FollowedTable of(int relation) {
    FollowedTable t = byRelation.get(relation);
    if (t != null) {
      gathered++;
      if (gathered % 1024 == 0) {
        bound();
      }
    }
    return t;
  }

  private void bound() {
    long held = 0;
    long spooled = 0;
    for (FollowedTable t : tables.values()) {
      held += t.pendingBytes();
    }
    if (held > MEMORY_BYTES) {
      for (FollowedTable t : tables.values()) {
        t.spool(access.waiting());
        spooled += t.spooledBytes();
      }
    }
    if (held + spooled > maxTransactionBytes) {
      throw new ChangesLost(
          "a transaction at the source is larger than "
              + (maxTransactionBytes >> 20)
              + " MB, and half of it is never shown; raise option max_transaction_mb of \""
              + access.name()
              + "\" with ALTER CONNECTION");
    }
  }

  @Override
  public void insert(int relation, PgOutput.Tuple row) {
    FollowedTable t = of(relation);
    if (t != null) {
      t.insert(row, commitLsn);
    }
  }

  @Override
  public void update(int relation, char oldKind, PgOutput.Tuple old, PgOutput.Tuple row) {
    FollowedTable t = of(relation);
    if (t != null) {
      t.update(oldKind, old, row, commitLsn);
    }
  }

  @Override
  public void delete(int relation, PgOutput.Tuple old) {
    FollowedTable t = of(relation);
    if (t != null) {
      t.delete(old);
    }
  }

  @Override
  public void truncate(int[] relations) {
    for (int relation : relations) {
      FollowedTable t = of(relation);
      if (t != null) {
        t.clear();
      }
    }
  }

  @Override
  public void message(long lsn, String prefix) {
    seen = Math.max(seen, lsn);
  }
}
