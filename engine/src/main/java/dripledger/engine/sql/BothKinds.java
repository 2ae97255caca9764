package dripledger.engine.sql;

import dripledger.engine.expr.Expr;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.List;

/** The columns of two kinds of rows side by side, for one relation of both. Single use. */
final class BothKinds {
  private final Schema first;
  private final Schema second;
  private final List<Column> columns = new ArrayList<>();
  private final List<Expr> firsts = new ArrayList<>();
  private final List<Expr> seconds = new ArrayList<>();

  BothKinds(Schema first, Schema second) {
    this.first = first;
    this.second = second;
  }

  private int add(String name, ColumnType type, Expr ofFirst, Expr ofSecond) {
    columns.add(new Column(name, type));
    firsts.add(ofFirst);
    seconds.add(ofSecond);
    return columns.size() - 1;
  }

  private static Expr column(Schema schema, int column) {
    return new Expr.Column(column, schema.type(column));
  }

  int shared(int ofFirst, int ofSecond) {
    boolean nullable = first.type(ofFirst).nullable() || second.type(ofSecond).nullable();
    return add(
        first.column(ofFirst).name(),
        first.type(ofFirst).withNullable(nullable),
        column(first, ofFirst),
        column(second, ofSecond));
  }

  int kind(long ofFirst, long ofSecond) {
    ColumnType type = ColumnType.of(Kind.INTEGER).notNull();
    return add("kind", type, new Expr.Constant(ofFirst, type), new Expr.Constant(ofSecond, type));
  }

  /** Where a column of the first kind is. */
  int first(int column) {
    return known(firsts, column(first, column), first.column(column), true);
  }

  int second(int column) {
    return known(seconds, column(second, column), second.column(column), false);
  }

  private int known(List<Expr> own, Expr column, Column named, boolean isFirst) {
    int at = own.indexOf(column);
    if (at >= 0) {
      return at;
    }
    ColumnType type = named.type().withNullable(true);
    Expr none = new Expr.Constant(null, type);
    return add(named.name(), type, isFirst ? column : none, isFirst ? none : column);
  }

  Schema schema() {
    return new Schema(columns);
  }

  List<Expr> firsts() {
    return firsts;
  }

  List<Expr> seconds() {
    return seconds;
  }
}
