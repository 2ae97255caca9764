package dripledger.engine.sql;

import dripledger.engine.expr.Expr;
import dripledger.engine.plan.BoundPlan;
import dripledger.engine.row.BoxedRows;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;

/**
 * A query that is planned once for all values of its parameters. Immutable.
 *
 * @param plan with {@link Expr.Parameter}s
 * @param parameters their names, by their numbers
 */
public record PreparedQuery(Command.QueryPlan plan, List<String> parameters) {
  public PreparedQuery {
    parameters = List.copyOf(parameters);
  }

  /**
   * The plan for some values.
   *
   * @param arguments of the {@link ArgumentKinds} that it was planned for
   */
  public Command.QueryPlan bind(Map<String, Object> arguments) {
    if (parameters.isEmpty()) {
      return plan;
    }
    List<Expr.Constant> values = new ArrayList<>(parameters.size());
    for (String name : parameters) {
      values.add(new Expr.Constant(kept(Argument.plain(arguments.get(name))), null));
    }
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

  /** A value as a constant has it. */
  private static Object kept(Object value) {
    if (value instanceof LocalDateTime time) {
      return BoxedRows.micros(time);
    }
    if (value instanceof LocalDate date) {
      return date.toEpochDay();
    }
    if (value instanceof LocalTime time) {
      return time.toNanoOfDay() / 1000;
    }
    if (value instanceof Float || value instanceof Double) {
      return ((Number) value).doubleValue();
    }
    return value instanceof Number number ? (Object) number.longValue() : value;
  }
}
