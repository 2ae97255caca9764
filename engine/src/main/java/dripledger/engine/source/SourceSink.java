package dripledger.engine.source;

import dripledger.engine.catalog.SourcePosition;
import java.util.List;

/** Where a feed hands what it has read. Called by the feed's own thread. */
public interface SourceSink {
  /**
   * Takes in batches as one unit: one epoch shows all of them, with the position after them. Blocks
   * while the engine has enough.
   *
   * @param join run between two epochs before the batches are applied, in the same step; or null
   */
  void submit(List<SourceBatch> batches, SourcePosition after, Runnable join)
      throws InterruptedException;

  /** Whether {@link #submit} would block. */
  boolean full();

  /** Stops one table at the current point, with a reason; the rest of the feed goes on. */
  void stop(long objectId, String reason);
}
