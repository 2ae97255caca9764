package dripledger.engine.plan;

import dripledger.engine.row.Schema;
import java.util.List;

/**
 * What the rows of a table have been: one row for each time one came or went.
 *
 * @param input the table
 * @param schema its columns, then since when, a number that tells those of one moment apart, and
 *     whether it is that the row went
 */
public record TableVersions(PlanNode.Source input, Schema schema) implements PlanNode.OfOne {
  /** The column that says since when a row has been so. */
  public int since() {
    return schema.size() - 3;
  }

  @Override
  public boolean appendOnly() {
    return true;
  }

  @Override
  public List<Integer> key() {
    return null;
  }

  @Override
  public <T> T accept(PlanVisitor<T> visitor) {
    return visitor.tableVersions(this);
  }
}
