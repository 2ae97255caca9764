package dripledger.engine.source;

import dripledger.engine.row.Page;

/** Takes what is read again, in the order of each partition. */
@FunctionalInterface
public interface PartitionSink {
  /**
   * @param page may be kept
   * @param partition which partition of their source its rows are from; 0 where there are none
   */
  void page(Page page, int partition);
}
