package dripledger.engine.source;

import dripledger.engine.row.Page;
import java.util.List;

/**
 * Rows of one stream or table from one partition.
 *
 * @param objectId whose rows
 * @param page events of a stream, or operations of a keyed table (see {@link KeyedRows}), which may
 *     be marked with when they were made, in microseconds since 1970; handed over and not touched
 *     again
 * @param partition whose watermark they advance; 0 where there are no partitions
 * @param rejects messages of the same range that were not taken
 * @param messages of a stream that retains its events: what the rows were read from, one for each,
 *     see {@link KeptMessages}; else null
 * @param spooled rows that come before those of the page, which were too many for memory; or null
 */
public record SourceBatch(
    long objectId,
    Page page,
    int partition,
    List<Reject> rejects,
    SpooledRows spooled,
    Page messages) {
  public SourceBatch(long objectId, Page page, int partition, List<Reject> rejects) {
    this(objectId, page, partition, rejects, null, null);
  }

  /** Rows of which some wait on disk. */
  public SourceBatch(
      long objectId, Page page, int partition, List<Reject> rejects, SpooledRows spooled) {
    this(objectId, page, partition, rejects, spooled, null);
  }
}
