package dripledger.engine;

import dripledger.engine.circuit.Refresher;
import dripledger.engine.delivery.Deliveries;
import dripledger.engine.epoch.EpochLimits;
import dripledger.engine.error.EngineException;
import dripledger.engine.query.QueryBounds;
import java.nio.file.Path;

/**
 * The engine's bounds.
 *
 * @param maxEpochRows an epoch stops taking more once it has this many rows
 * @param maxQueuedBytes inputs wait once this many bytes of changes are queued
 * @param maxResultRows a query that answers more rows than this is refused
 * @param maxFollowerRows a follower that is this many changes behind is cut off
 * @param maxHeldBytes sources wait and pushes are refused while operator state and published rows
 *     hold more
 * @param checkpointMillis how often state is saved
 * @param queryMillis how long a query that is asked once may take; 0 for any time
 * @param maxQueryBytes heap that a query that is asked once may hold, beside its answer
 * @param changeMillis how long a statement that changes a table waits for the ledger
 * @param workers how many threads step an epoch together
 * @param togetherRows an epoch of fewer rows is stepped by one thread
 * @param waiting what may wait, on disk, for a view that is refreshed from time to time, or for a
 *     delivery
 * @param deliveryMillis how long a change waits for a checkpoint before it is delivered
 */
public record EngineOptions(
    int maxEpochRows,
    long maxQueuedBytes,
    int maxResultRows,
    int maxFollowerRows,
    long maxHeldBytes,
    long checkpointMillis,
    long queryMillis,
    long maxQueryBytes,
    long changeMillis,
    int workers,
    int togetherRows,
    Refresher.Bounds waiting,
    long deliveryMillis) {
  /** Below it, calling the others takes longer than what they would do. */
  public static final int TOGETHER_ROWS = 1000;

  /** Bounds that say nothing of what may wait for views. */
  public EngineOptions(
      int maxEpochRows,
      long maxQueuedBytes,
      int maxResultRows,
      int maxFollowerRows,
      long maxHeldBytes,
      long checkpointMillis,
      long queryMillis,
      long maxQueryBytes,
      long changeMillis,
      int workers,
      int togetherRows) {
    this(
        maxEpochRows,
        maxQueuedBytes,
        maxResultRows,
        maxFollowerRows,
        maxHeldBytes,
        checkpointMillis,
        queryMillis,
        maxQueryBytes,
        changeMillis,
        workers,
        togetherRows,
        new Refresher.Bounds(Path.of(System.getProperty("java.io.tmpdir")), 1L << 30),
        1000);
  }

  public static EngineOptions defaults() {
    return new EngineOptions(
        65_536,
        128L << 20,
        200_000,
        200_000,
        heapShare(),
        5_000,
        60_000,
        queryShare(),
        30_000,
        cores(),
        TOGETHER_ROWS);
  }

  EpochLimits epochLimits() {
    return new EpochLimits(maxEpochRows, maxQueuedBytes, maxHeldBytes, workers, togetherRows);
  }

  Deliveries.Bounds deliveries() {
    return new Deliveries.Bounds(waiting.directory(), waiting.maxBytes(), deliveryMillis);
  }

  QueryBounds queryBounds() {
    return new QueryBounds(maxResultRows, queryMillis, maxQueryBytes);
  }

  /** More state than the bound would end the process; refusing what is new does not. */
  void refuseBeyond(long heldBytes) {
    if (heldBytes > maxHeldBytes) {
      throw new EngineException(
          EngineException.Code.LIMIT,
          "the views hold "
              + heldBytes / 1_000_000
              + " MB, which is all they may; nothing new is"
              + " taken in",
          "drop a view, or raise drip.max-held-bytes and the heap");
    }
  }

  /** The cores there are. */
  public static int cores() {
    return Runtime.getRuntime().availableProcessors();
  }

  /** A tenth of the heap, for one query. */
  public static long queryShare() {
    return Runtime.getRuntime().maxMemory() / 10;
  }

  /** Six tenths of the heap: what is left is for queries, queues and the collector. */
  public static long heapShare() {
    return Runtime.getRuntime().maxMemory() / 10 * 6;
  }
}
