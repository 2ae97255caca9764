package dripledger.engine.introspection;

import dripledger.engine.advice.Trial;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.query.Result;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.time.Spans;
import java.util.ArrayList;
import java.util.List;
import java.util.concurrent.TimeUnit;

/** The plan of a view that is not there, and what it would keep. Stateless. */
final class ForecastRows {
  private static final long SECOND = TimeUnit.SECONDS.toMicros(1);
  private static final long HOUR = TimeUnit.HOURS.toMicros(1);
  private static final long DAY = TimeUnit.DAYS.toMicros(1);

  private ForecastRows() {}

  /**
   * @param cut the plan as it would be run
   * @param missing what the view would be without, or null
   */
  static Result.Rows of(Trial trial, PlanNode plan, PlanCut cut, String missing, long epoch) {
    List<Object[]> rows = new ArrayList<>();
    if (missing != null) {
      rows.add(forecast("what is gone", "", missing, null, null, null));
    }
    for (PlanPrinter.Line line : PlanPrinter.print(plan, cut::run)) {
      Trial.Amount hour = trial.why() != null ? null : trial.after(line.node(), HOUR);
      Trial.Amount day = trial.why() != null ? null : trial.after(line.node(), DAY);
      Trial.Amount last = trial.why() != null ? null : trial.atLast(line.node());
      rows.add(forecast(line.step(), line.state(), line.bound(), hour, day, last));
    }
    if (trial.why() != null) {
      rows.add(forecast("how much is not foretold", "", trial.why(), null, null, null));
    } else {
      String seen =
          trial.events() + " events of " + Spans.text(trial.spanMicros() / SECOND * SECOND);
      rows.add(
          forecast(
              "what is put out",
              "the view's rows",
              "as seen of " + seen,
              trial.rowsAfter(HOUR),
              trial.rowsAfter(DAY),
              trial.rowsAtLast()));
    }
    List<Column> columns = new ArrayList<>(List.of(text("step"), text("keeps"), text("bound")));
    for (String when : List.of("hour", "day", "last")) {
      columns.add(number("rows_" + when));
      columns.add(number("bytes_" + when));
    }
    return new Result.Rows(columns, rows, epoch);
  }

  private static Object[] forecast(
      String step, String keeps, String bound, Trial.Amount... amounts) {
    List<Object> row = new ArrayList<>(List.of(step, keeps, bound));
    for (Trial.Amount each : amounts) {
      row.add(each == null ? null : each.rows());
      row.add(each == null ? null : each.bytes());
    }
    return row.toArray();
  }

  private static Column text(String name) {
    return new Column(name, ColumnType.varchar(-1));
  }

  private static Column number(String name) {
    return new Column(name, ColumnType.of(Kind.BIGINT));
  }
}
