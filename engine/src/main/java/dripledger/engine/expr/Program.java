package dripledger.engine.expr;

import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.List;

/**
 * A filter and a projection, as data.
 *
 * @param filter the condition a row must meet, or null for none
 * @param outputs the columns that are made of a row
 */
public record Program(Schema input, Expr filter, List<Expr> outputs, Schema output) {
  public Program {
    outputs = List.copyOf(outputs);
  }

  /** Whether it passes every row on as it is. */
  public boolean isIdentity() {
    return filter == null && passesColumns();
  }

  /** Whether the rows it passes on are as they were. */
  public boolean passesColumns() {
    if (outputs.size() != input.size()) {
      return false;
    }
    for (int i = 0; i < outputs.size(); i++) {
      if (!Expr.isColumn(outputs.get(i), i)) {
        return false;
      }
    }
    return true;
  }

  /** Whether it passes every row on and can fail on none: it only picks columns. */
  public boolean onlyPicks() {
    if (filter != null) {
      return false;
    }
    for (int i = 0; i < outputs.size(); i++) {
      if (!(outputs.get(i) instanceof Expr.Column c)
          || !c.type().notNull().equals(output.type(i).notNull())
          || c.type().nullable() && !output.type(i).nullable()) {
        return false;
      }
    }
    return true;
  }

  /**
   * Where columns of the input are in the output.
   *
   * @param columns of the input, or null
   * @return null if they are not all there as they are
   */
  public List<Integer> whereIs(List<Integer> columns) {
    if (columns == null) {
      return null;
    }
    List<Integer> places = new ArrayList<>();
    for (int column : columns) {
      int place = 0;
      while (place < outputs.size() && !Expr.isColumn(outputs.get(place), column)) {
        place++;
      }
      if (place == outputs.size()) {
        return null;
      }
      places.add(place);
    }
    return places;
  }
}
