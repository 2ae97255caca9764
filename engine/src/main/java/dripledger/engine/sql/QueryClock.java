package dripledger.engine.sql;

import dripledger.engine.expr.Casts;
import dripledger.engine.expr.Expr;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;

/** What CURRENT_TIMESTAMP and its kin stand for in a query that is asked once. Stateless. */
interface QueryClock {
  /** How many values {@link #open} stands for. */
  int VALUES = 2;

  /** The time, or the day, of a type. */
  Expr now(ColumnType type);

  /**
   * A time that is known.
   *
   * @param micros since 1970
   */
  static QueryClock at(long micros) {
    return type -> value(micros, type);
  }

  /**
   * A time that is told when the query is asked.
   *
   * @param index of the value that is the time; the next one is the day
   */
  static QueryClock open(int index) {
    return type -> new Expr.Parameter(type.kind() == Kind.DATE ? index + 1 : index, type);
  }

  /** The time or the day as a constant. */
  static Expr.Constant value(long micros, ColumnType type) {
    return new Expr.Constant(
        type.kind() == Kind.DATE ? Math.floorDiv(micros, Casts.DAY) : micros, type);
  }
}
