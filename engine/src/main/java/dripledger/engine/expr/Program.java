package dripledger.engine.expr;

import dripledger.engine.row.ColumnType.Kind;
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

  /** Whether it has parameters whose values are not known yet. */
  public boolean isOpen() {
    return filter != null && Expr.isOpen(filter) || outputs.stream().anyMatch(Expr::isOpen);
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

  /** What this does with what another makes of a row, in one; null if that is not to be had. */
  public Program after(Program first) {
    if (!first.neverFails()) {
      return null;
    }
    Expr condition = filter == null ? null : Expr.over(filter, first.outputs);
    List<Expr> all = new ArrayList<>();
    for (Expr each : outputs) {
      all.add(Expr.over(each, first.outputs));
    }
    return all.contains(null) || filter != null && condition == null
        ? null
        : new Program(first.input, condition, all, output);
  }

  /** Whether it passes every row on and can fail on none that is of windows of time. */
  public boolean neverFails() {
    if (filter != null) {
      return false;
    }
    List<Expr> picked = new ArrayList<>(outputs);
    picked.replaceAll(output -> shifted(output) == null ? output : shifted(output));
    return new Program(input, null, picked, output).onlyPicks();
  }

  /** The time that an output is, but for a constant span; null if it is something else. */
  private static Expr.Column shifted(Expr output) {
    return output instanceof Expr.Call call
            && call.operation() == Operation.PLUS
            && call.type().kind() == Kind.TIMESTAMP
            && call.operand(0) instanceof Expr.Column time
            && time.type().kind() == Kind.TIMESTAMP
            && call.operand(1) instanceof Expr.Constant span
            && span.value() != null
        ? time
        : null;
  }

  /**
   * Where what a row is known by is in the output.
   *
   * @param columns of the input, or null
   * @return null if it is not all there, each as it is or as a time a constant span away
   */
  public List<Integer> whereIsKnown(List<Integer> columns) {
    if (columns == null) {
      return null;
    }
    List<Integer> places = new ArrayList<>();
    for (int column : columns) {
      int place = -1;
      for (int i = outputs.size() - 1; i >= 0; i--) {
        boolean same = Expr.isColumn(outputs.get(i), column);
        Expr.Column time = shifted(outputs.get(i));
        place = same || place < 0 && time != null && time.index() == column ? i : place;
      }
      if (place < 0) {
        return null;
      }
      places.add(place);
    }
    return places;
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
