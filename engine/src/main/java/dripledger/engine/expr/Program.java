package dripledger.engine.expr;

import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;

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

  /** The columns of the input that the filter holds to one integer or text, with that value. */
  public Map<Integer, Object> equalities() {
    Map<Integer, Object> found = new HashMap<>();
    if (filter != null) {
      equalities(filter, found);
    }
    return found;
  }

  private void equalities(Expr condition, Map<Integer, Object> into) {
    if (condition instanceof Expr.Call call && call.operation() == Operation.AND) {
      call.operands().forEach(each -> equalities(each, into));
    } else if (condition instanceof Expr.Call call && call.operation() == Operation.EQUAL) {
      equality(call.operand(0), call.operand(1), into);
      equality(call.operand(1), call.operand(0), into);
    }
  }

  private void equality(Expr column, Expr value, Map<Integer, Object> into) {
    if (column instanceof Expr.Column c
        && value instanceof Expr.Constant constant
        && (constant.value() instanceof Long
                && constant.type().kind().isInteger()
                && c.type().kind().isInteger()
            || constant.value() instanceof String
                && c.type().kind() == dripledger.engine.row.ColumnType.Kind.VARCHAR)) {
      into.put(c.index(), constant.value());
    }
  }
}
