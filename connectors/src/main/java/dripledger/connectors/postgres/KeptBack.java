package dripledger.connectors.postgres;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.Reject;
import dripledger.engine.source.SourceBatch;
import dripledger.engine.source.SpooledRows;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.Iterator;
import java.util.List;

/**
 * The operations on a table that come while it is being loaded, a transaction each as long as it
 * may be sent again, then all together: in memory while they are few, else on disk. Guarded by its
 * user.
 */
final class KeptBack {
  private final RowLayout layout;
  private final long mostBytes;
  private final List<Transaction> transactions = new ArrayList<>();
  private final List<Reject> rejects = new ArrayList<>();
  private Page page; // of the transactions that are together
  private SpooledRows spooled; // those before, or null

  /** The operations of one transaction; those that are spooled come first. */
  record Transaction(long commitLsn, Page page, List<Reject> rejects, SpooledRows spooled) {}

  /**
   * @param layout of the operations
   * @param mostBytes of rows in memory
   */
  KeptBack(RowLayout layout, long mostBytes) {
    this.layout = layout;
    this.mostBytes = mostBytes;
    page = new Page(layout);
  }

  void add(Transaction transaction) {
    transactions.add(transaction);
  }

  /** Forgets the transactions from a place on: they will be sent again. */
  void forgetFrom(long position) {
    transactions.removeIf(
        t -> {
          boolean again = t.commitLsn >= position;
          if (again) {
            release(t.spooled);
          }
          return again;
        });
  }

  /**
   * Puts transactions together that will not be sent again.
   *
   * @param position what is before it will not be
   * @param loadedAt transactions before it are in the loaded rows
   * @param directory for what is too much for memory
   */
  void settle(long position, long loadedAt, Path directory) {
    Iterator<Transaction> all = transactions.iterator();
    while (all.hasNext()) {
      Transaction t = all.next();
      if (t.commitLsn >= position) {
        return;
      }
      all.remove();
      if (t.commitLsn < loadedAt) {
        release(t.spooled);
        continue;
      }
      if (t.spooled != null) {
        spool(directory);
        t.spooled.read(spooled::add);
        t.spooled.release();
      }
      page.appendAll(t.page);
      rejects.addAll(t.rejects);
      if (page.byteSize() > mostBytes) {
        spool(directory);
      }
    }
  }

  private void spool(Path directory) {
    if (spooled == null) {
      spooled = new SpooledRows(layout, directory);
    }
    spooled.add(page);
    page = new Page(layout);
  }

  /** All that is not in the loaded rows, in order. */
  List<SourceBatch> batches(long tableId, long loadedAt) {
    List<SourceBatch> batches = new ArrayList<>();
    batches.add(new SourceBatch(tableId, page, 0, List.copyOf(rejects), spooled));
    for (Transaction t : transactions) {
      if (t.commitLsn >= loadedAt) {
        batches.add(new SourceBatch(tableId, t.page, 0, t.rejects, t.spooled));
      }
    }
    return batches;
  }

  /** Keeps nothing any more: somebody else has it. */
  void clear() {
    transactions.clear();
    rejects.clear();
    page = new Page(layout);
    spooled = null;
  }

  /** Keeps nothing any more: nobody wants it. */
  void discard() {
    transactions.forEach(t -> release(t.spooled));
    release(spooled);
    clear();
  }

  private static void release(SpooledRows rows) {
    if (rows != null) {
      rows.release();
    }
  }
}
