package dripledger.engine.plan;

import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import java.util.ArrayList;
import java.util.List;

/**
 * Each row of a first kind with the one row of a second kind that has the same key and is nearest
 * to it in an order: the last before it, or the first behind it.
 *
 * @param input the rows of both kinds, told apart by a column
 * @param keys of both kinds; a row that is NULL in one is near to none
 * @param kind the column that says of which kind a row is
 * @param order a number or time, then the kind, then what decides between rows of the second kind
 * @param before whether it is the last before it
 * @param behindEqual whether rows of the second kind stand behind those of the first that are equal
 *     to them in the order
 * @param outer whether rows of the first kind that are near to none are put out too, with NULLs
 * @param outputs columns of the input: those of a row of the first kind, then of the second
 * @param firstOutputs how many are of the first
 */
public record Nearest(
    PlanNode input,
    List<Integer> keys,
    int kind,
    List<SortKey> order,
    boolean before,
    boolean behindEqual,
    boolean outer,
    List<Integer> outputs,
    int firstOutputs,
    Schema schema)
    implements PlanNode.OfOne {
  /** What rows of the first kind have in the column of the kind. */
  public static final int FIRST = 1;

  public Nearest {
    keys = List.copyOf(keys);
    order = List.copyOf(order);
    outputs = List.copyOf(outputs);
  }

  /** What rows of the second kind have in the column of the kind: so they stand in the order. */
  public int secondKind() {
    return behindEqual ? 2 : 0;
  }

  /** The column by which rows are near to each other. */
  public int time() {
    return order.get(0).column();
  }

  /** What rows are kept by: the keys and the kind. */
  public List<Integer> partition() {
    List<Integer> columns = new ArrayList<>(keys);
    columns.add(kind);
    return columns;
  }

  /** When a row of the first kind has its second for good, or null for never. */
  public Ending ending() {
    return before ? EventTimes.ending(input, List.of(time())) : null;
  }

  @Override
  public boolean appendOnly() {
    return false;
  }

  @Override
  public List<Integer> key() {
    return null;
  }

  @Override
  public <T> T accept(PlanVisitor<T> visitor) {
    return visitor.nearest(this);
  }
}
