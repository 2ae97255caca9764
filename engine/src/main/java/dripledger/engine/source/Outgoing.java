package dripledger.engine.source;

import java.util.List;

/**
 * What one epoch changed, as it is carried to a target.
 *
 * @param number of the batch, one more than that of the batch before
 * @param epoch that changed it; 0 for what was there when the delivery was made
 */
public record Outgoing(long number, long epoch, List<Change> changes) {
  /**
   * A row that came, went, or became another; values as in {@link dripledger.engine.row.BoxedRows}.
   *
   * @param before the row that was, or null
   * @param after the row that is, or null
   * @param expired whether the row went because it had been kept for as long as it was to be
   */
  public record Change(Object[] before, Object[] after, boolean expired) {
    /** One by which nothing has expired. */
    public Change(Object[] before, Object[] after) {
      this(before, after, false);
    }
  }
}
