package dripledger.engine.epoch;

import dripledger.engine.row.Page;
import dripledger.engine.source.InputProgress;
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

  /** Changes to one relation, from one partition of its input. */
  public record Change(long relationId, Page page, int partition) {
    public Change(long relationId, Page page) {
      this(relationId, page, 0);
    }
  }

  int rows() {
    return changes.stream().mapToInt(c -> c.page.size()).sum() + settled.rejects().size();
  }

  long bytes() {
    return changes.stream().mapToLong(c -> c.page.byteSize()).sum()
        + InputQueue.rejectBytes(settled.rejects());
  }
}
