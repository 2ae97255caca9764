package dripledger.engine.epoch;

import dripledger.engine.row.Page;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.SpooledRows;
import dripledger.engine.time.Arrival;
import java.util.List;

/**
 * What one input hands over: all of it is shown by one epoch.
 *
 * @param sequence the ledger's sequence after it, or −1 if it is not from the ledger
 * @param settled what becomes true with it
 * @param before run before the changes are applied; or null
 */
public record EpochInput(
    List<Change> changes, long sequence, InputProgress settled, Runnable before) {

  /**
   * Changes to one relation, from one partition of its input.
   *
   * @param arrivedMicros when they came to us, in microseconds since 1970, or {@link Arrival#NONE}
   * @param spooled rows that come before those of the page, and are read when they are taken; or
   *     null
   */
  public record Change(
      long relationId, Page page, int partition, long arrivedMicros, SpooledRows spooled) {
    public Change(long relationId, Page page, int partition, long arrivedMicros) {
      this(relationId, page, partition, arrivedMicros, null);
    }

    /** Changes that came before, nobody knows when. */
    public Change(long relationId, Page page, int partition) {
      this(relationId, page, partition, Arrival.NONE);
    }

    /** What is in the ledger. */
    public static Change of(Ledger.Entry e) {
      return new Change(e.relationId(), e.changes(), e.partition(), e.arrivedMicros());
    }

    public Change(long relationId, Page page) {
      this(relationId, page, 0);
    }

    /** Lets go of what waited on disk. */
    void done() {
      if (spooled != null) {
        spooled.release();
      }
    }

    int rows() {
      return page.size() + (spooled == null ? 0 : spooled.rows());
    }
  }

  /** What the ledger has just taken. */
  public static EpochInput of(long sequence, List<Ledger.Entry> entries, InputProgress settled) {
    List<Change> changes = entries.stream().map(Change::of).toList();
    return new EpochInput(changes, sequence, settled, null);
  }

  int rows() {
    return changes.stream().mapToInt(Change::rows).sum() + settled.rejects().size();
  }

  long bytes() {
    return changes.stream().mapToLong(c -> c.page.byteSize()).sum()
        + InputQueue.rejectBytes(settled.rejects());
  }
}
