package dripledger.engine.plan;

import dripledger.engine.row.Schema;
import java.util.List;

/**
 * The rows of both inputs, changed every so often: what changes in a row is put out when the
 * current time passes a multiple of a span, or the watermark a time of the row.
 *
 * @param settled rows that have ended, each once and for all
 * @param open rows that have not ended yet, as they stand; each goes when it ends
 * @param time the column of the time
 * @param delayMicros how far behind that time the watermark must be
 * @param everyMicros the span
 */
public record Paced(PlanNode settled, PlanNode open, int time, long delayMicros, long everyMicros)
    implements PlanNode {
  @Override
  public List<PlanNode> inputs() {
    return List.of(settled, open);
  }

  @Override
  public Schema schema() {
    return settled.schema();
  }

  @Override
  public boolean appendOnly() {
    return false;
  }

  /** Together they are the rows of one query, so what is a key of it is one of them. */
  @Override
  public List<Integer> key() {
    return open.key();
  }

  @Override
  public <T> T accept(PlanVisitor<T> visitor) {
    return visitor.paced(this);
  }
}
