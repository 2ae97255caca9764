package dripledger.engine.sql;

import dripledger.engine.expr.Expr;
import dripledger.engine.plan.BoundPlan;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;

/**
 * A query that is planned once for all values of its parameters. Immutable.
 *
 * @param plan with {@link Expr.Parameter}s
 * @param parameters their names, by their numbers; the numbers behind them are those of the clock
 */
public record PreparedQuery(Command.QueryPlan plan, List<String> parameters) {
  public PreparedQuery {
    parameters = List.copyOf(parameters);
  }

  /**
   * The plan for some values.
   *
   * @param arguments of the {@link ArgumentKinds} that it was planned for
   * @param nowMicros the time it is asked at, in microseconds since 1970
   */
  public Command.QueryPlan bind(Map<String, Object> arguments, long nowMicros) {
    List<Expr.Constant> values = new ArrayList<>(parameters.size() + QueryClock.VALUES);
    for (String name : parameters) {
      Object given = arguments.get(name);
      values.add(
          Expr.Constant.of(Argument.plain(given), given instanceof Argument a ? a.type() : null));
    }
    values.add(QueryClock.value(nowMicros, ColumnType.of(Kind.TIMESTAMP)));
    values.add(QueryClock.value(nowMicros, ColumnType.of(Kind.DATE)));
    return new Command.QueryPlan(
        BoundPlan.of(plan.plan(), values),
        plan.outputs(),
        plan.columns(),
        plan.order(),
        count(plan.offsetParameter(), plan.offset(), values),
        count(plan.limitParameter(), plan.limit(), values));
  }

  private static long count(int parameter, long known, List<Expr.Constant> values) {
    return parameter < 0 ? known : RowCounts.checked((Long) values.get(parameter).value());
  }
}
