package dripledger.engine.expr;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import java.math.BigDecimal;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
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
  record Constant(Object value, ColumnType type) implements Expr {
    /** Of a boxed value as {@link BoxedRows} has them, or null. */
    public static Constant of(Object boxed, ColumnType type) {
      if (boxed instanceof LocalDateTime time) {
        return new Constant(BoxedRows.micros(time), type);
      }
      if (boxed instanceof LocalDate date) {
        return new Constant(date.toEpochDay(), type);
      }
      if (boxed instanceof LocalTime time) {
        return new Constant(time.toNanoOfDay() / 1000, type);
      }
      if (boxed instanceof Float || boxed instanceof Double) {
        boolean single = type != null && type.kind() == ColumnType.Kind.REAL;
        Number number = (Number) boxed;
        return new Constant(single ? (double) number.floatValue() : number.doubleValue(), type);
      }
      boolean integer = boxed instanceof Number && !(boxed instanceof BigDecimal);
      return new Constant(integer ? (Object) ((Number) boxed).longValue() : boxed, type);
    }
  }

  /**
   * A value that is not known yet: what has one is no program until a constant is in its place.
   *
   * @param index which of the values it is
   */
  record Parameter(int index, ColumnType type) implements Expr {}

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

  /** Whether the expression has a parameter whose value is not known yet. */
  static boolean isOpen(Expr expr) {
    return expr instanceof Parameter
        || expr instanceof Call call && call.operands().stream().anyMatch(Expr::isOpen);
  }

  /**
   * The expression with constants in the place of its parameters, and of what can be computed of
   * them.
   */
  static Expr bound(Expr expr, List<Constant> values) {
    if (expr instanceof Parameter p) {
      return new Constant(values.get(p.index()).value(), p.type());
    }
    if (!(expr instanceof Call call)) {
      return expr;
    }
    List<Expr> operands = call.operands().stream().map(o -> bound(o, values)).toList();
    return operands.equals(call.operands())
        ? call
        : ConstantFolding.of(new Call(call.operation(), operands, call.options(), call.type()));
  }

  /** The integer of which an expression only makes one of more bits; else the expression. */
  static Expr narrow(Expr expr) {
    return expr instanceof Call call
            && call.operation() == Operation.CAST
            && call.type().kind().isInteger()
            && call.operand(0).type().kind().isInteger()
            && call.operand(0).type().kind().compareTo(call.type().kind()) <= 0
        ? narrow(call.operand(0))
        : expr;
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
