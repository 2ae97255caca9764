package dripledger.engine.plan;

import dripledger.engine.expr.Program;
import dripledger.engine.pattern.AfterMatch;
import dripledger.engine.pattern.PatternItem;
import dripledger.engine.pattern.RowPattern;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import java.util.List;

/**
 * The matches of a pattern among the rows of each partition, in an order; ties are decided by the
 * rows' own columns.
 *
 * @param variables of the pattern, by their numbers
 * @param anchors whether a match must begin with the first row of its partition, or end with the
 *     last
 * @param withinMicros how long after its first row the last of a match is at most, by the column
 *     that is first in the order; −1 for any time
 * @param allRows whether each row of a match is put out, and not one for the match
 * @param output makes what is put out of the items
 * @param delayMicros if the order begins with an event time of rows that are settled: how far
 *     behind the watermark all of them are known; −1 if rows may come and go anywhere
 */
public record Matches(
    PlanNode input,
    List<Integer> partition,
    List<SortKey> order,
    RowPattern pattern,
    List<Variable> variables,
    Anchors anchors,
    AfterMatch after,
    long withinMicros,
    boolean allRows,
    Made output,
    long delayMicros)
    implements PlanNode.OfOne {
  public Matches {
    partition = List.copyOf(partition);
    order = List.copyOf(order);
    variables = List.copyOf(variables);
  }

  /** What a match is tied to. */
  public record Anchors(boolean start, boolean end) {}

  /**
   * What is computed of items of a match.
   *
   * @param program over a row of the items
   */
  public record Made(List<PatternItem> items, Program program) {
    public Made {
      items = List.copyOf(items);
    }
  }

  /**
   * A variable of the pattern.
   *
   * @param condition what its rows must meet, or null if any row may be of it
   */
  public record Variable(String name, Made condition) {}

  /** Whether the rows are settled, so that a match is put out once and for all. */
  public boolean isSettled() {
    return delayMicros >= 0;
  }

  /** How many rows in front of a match are read. */
  public int rowsBefore() {
    return furthest(-1);
  }

  /** How many rows behind a row of a match are read. */
  public int rowsAhead() {
    return furthest(1);
  }

  private int furthest(int sign) {
    int most = 0;
    for (Variable each : variables) {
      most = each.condition == null ? most : furthest(each.condition.items, sign, most);
    }
    return furthest(output.items, sign, most);
  }

  private static int furthest(List<PatternItem> items, int sign, int least) {
    int most = least;
    for (PatternItem item : items) {
      most = item instanceof PatternItem.Value v ? Math.max(most, sign * v.shift()) : most;
    }
    return most;
  }

  /** Whether matches of a partition are counted. */
  public boolean isNumbered() {
    boolean asked =
        variables.stream().anyMatch(v -> v.condition != null && isNumbered(v.condition.items));
    return asked || isNumbered(output.items);
  }

  private static boolean isNumbered(List<PatternItem> items) {
    return items.stream().anyMatch(PatternItem.Number.class::isInstance);
  }

  /**
   * Whether conditions depend on a row and its neighbours alone, not on what is matched to what.
   */
  public boolean judgesRowsAlone() {
    for (int i = 0; i < variables.size(); i++) {
      Made condition = variables.get(i).condition;
      int own = i;
      if (condition != null && !condition.items.stream().allMatch(item -> isOfRow(item, own))) {
        return false;
      }
    }
    return true;
  }

  private static boolean isOfRow(PatternItem item, int own) {
    return item instanceof PatternItem.Label
        || item instanceof PatternItem.Number
        || item instanceof PatternItem.Value v
            && !v.first()
            && v.offset() == 0
            && (v.of().isEmpty() || v.of().contains(own));
  }

  @Override
  public Schema schema() {
    return output.program.output();
  }

  @Override
  public boolean appendOnly() {
    return isSettled();
  }

  @Override
  public List<Integer> key() {
    return null;
  }

  @Override
  public <T> T accept(PlanVisitor<T> visitor) {
    return visitor.matches(this);
  }
}
