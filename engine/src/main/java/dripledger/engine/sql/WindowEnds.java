package dripledger.engine.sql;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.TimeNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import java.util.ArrayList;
import java.util.List;
import java.util.stream.Stream;

/**
 * Groups by the beginning and the end of windows: the end follows from the beginning, so it is no
 * part of a group's key and is put in again above. Pure.
 */
final class WindowEnds {
  private WindowEnds() {}

  /** The same rows as an aggregate's, by a shorter key if there is one. */
  static PlanNode outOfKey(PlanNode.Aggregate a) {
    for (int end : a.groupColumns()) {
      Expr.Call computed = end(a.input(), end);
      for (int begin : a.groupColumns()) {
        if (computed != null
            && isSame(a.input(), begin, computed.operand(0))
            && reads(a).noneMatch(column -> column == end)) {
          return without(a, begin, end, computed);
        }
      }
    }
    return a;
  }

  /** How a column is computed from the beginning of a window, or null. */
  private static Expr.Call end(PlanNode input, int column) {
    if (input instanceof TimeNode.TimeWindows w && !w.tumbles() && !w.grows()) {
      int begin = w.input().schema().size();
      List<Expr> operands =
          List.of(
              new Expr.Column(begin, w.schema().type(begin)),
              new Expr.Constant(w.sizeMicros(), ColumnType.of(Kind.INTERVAL_DAY_TIME).notNull()));
      return column == begin + 1
          ? new Expr.Call(Operation.PLUS, operands, List.of(), w.schema().type(column))
          : null;
    }
    return input instanceof PlanNode.Transform t
            && t.program().outputs().get(column) instanceof Expr.Call call
            && call.operation() == Operation.PLUS
            && call.operand(1) instanceof Expr.Constant
        ? call
        : null;
  }

  private static boolean isSame(PlanNode input, int column, Expr expr) {
    return input instanceof PlanNode.Transform t
        ? t.program().outputs().get(column).equals(expr)
        : Expr.isColumn(expr, column);
  }

  /** The columns that the calls read. */
  private static Stream<Integer> reads(PlanNode.Aggregate a) {
    return a.calls().stream()
        .flatMap(
            c ->
                Stream.concat(
                    Stream.concat(c.arguments().stream(), Stream.of(c.filterColumn())),
                    c.order().stream().map(SortKey::column)));
  }

  private static PlanNode without(PlanNode.Aggregate a, int begin, int end, Expr.Call computed) {
    List<Expr> outputs = Expr.columns(a.input().schema());
    List<Column> columns = new ArrayList<>(a.input().schema().columns());
    PlanNode input = a.input();
    Expr filter = null;
    if (input instanceof PlanNode.Transform t) {
      outputs = new ArrayList<>(t.program().outputs());
      filter = t.program().filter();
      input = t.input();
    }
    outputs.remove(end);
    columns.remove(end);
    PlanNode below = PlanBuilder.transform(input, filter, outputs, new Schema(columns));

    int place = a.groupColumns().indexOf(end);
    List<Integer> groups = new ArrayList<>(a.groupColumns());
    groups.remove(place);
    groups.replaceAll(column -> now(column, end));
    List<Column> kept = new ArrayList<>(a.schema().columns());
    kept.remove(place);
    List<AggregateCall> calls = a.calls().stream().map(call -> now(call, end)).toList();
    PlanNode grouped = new PlanNode.Aggregate(below, groups, calls, new Schema(kept));

    List<Expr> all = Expr.columns(grouped.schema());
    int from = groups.indexOf(now(begin, end));
    List<Expr> again =
        List.of(new Expr.Column(from, grouped.schema().type(from)), computed.operand(1));
    all.add(place, new Expr.Call(Operation.PLUS, again, computed.options(), computed.type()));
    return PlanBuilder.transform(grouped, null, all, a.schema());
  }

  private static int now(int column, int end) {
    return column > end ? column - 1 : column;
  }

  private static AggregateCall now(AggregateCall c, int end) {
    return new AggregateCall(
        c.function(),
        c.arguments().stream().map(column -> now(column, end)).toList(),
        c.distinct(),
        now(c.filterColumn(), end),
        c.order().stream()
            .map(k -> new SortKey(now(k.column(), end), k.descending(), k.nullsFirst()))
            .toList(),
        c.output());
  }
}
