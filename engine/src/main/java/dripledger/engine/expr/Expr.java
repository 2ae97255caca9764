package dripledger.engine.expr;

import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.List;

/**
 * A scalar expression over the columns of one input, as data: immutable, compared by value, without
 * code. Its columns are numbers, so that names make no difference.
 */
public sealed interface Expr {
  /** The type of its values. */
  ColumnType type();

  /** A column of the input. */
  record Column(int index, ColumnType type) implements Expr {}

  /**
   * A field inside a ROW column; NULL if any ROW on the way is.
   *
   * @param path the numbers of the fields, from the outside in
   */
  record Field(int column, List<Integer> path, ColumnType type) implements Expr {
    public Field {
      path = List.copyOf(path);
    }
  }

  /**
   * A constant.
   *
   * @param value Boolean, Long (integers, times in microseconds, dates in days, months), Double,
   *     BigDecimal or String; null for NULL
   */
  record Constant(Object value, ColumnType type) implements Expr {}

  /**
   * An operation on operands.
   *
   * @param options what is not a value: a unit of time, a flag, the name of a function
   */
  record Call(Operation operation, List<Expr> operands, List<String> options, ColumnType type)
      implements Expr {
    public Call {
      operands = List.copyOf(operands);
      options = List.copyOf(options);
    }

    public Expr operand(int index) {
      return operands.get(index);
    }
  }

  /** The expression with others in the place of its columns; null if it reads a field of one. */
  static Expr over(Expr expr, List<Expr> columns) {
    if (expr instanceof Column c) {
      return columns.get(c.index());
    }
    if (expr instanceof Field f) {
      return columns.get(f.column()) instanceof Column c
          ? new Field(c.index(), f.path(), f.type())
          : null;
    }
    if (!(expr instanceof Call call)) {
      return expr;
    }
    List<Expr> operands = new ArrayList<>();
    for (Expr operand : call.operands()) {
      Expr own = over(operand, columns);
      if (own == null) {
        return null;
      }
      operands.add(own);
    }
    return new Call(call.operation(), operands, call.options(), call.type());
  }

  /** Whether the expression is this column as it is. */
  static boolean isColumn(Expr expr, int index) {
    return expr instanceof Column c && c.index() == index;
  }

  /** All columns of a schema as they are. */
  static List<Expr> columns(Schema schema) {
    List<Expr> all = new ArrayList<>();
    for (int i = 0; i < schema.size(); i++) {
      all.add(new Column(i, schema.type(i)));
    }
    return all;
  }
}
