package dripledger.engine.sql;

import dripledger.engine.expr.Expr;
import dripledger.engine.plan.EventTimes;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Schema;
import java.util.Map;

/**
 * The plan of windows of event time. Whether a row is late is judged by what is known of it when it
 * comes from its stream; so windows that do not overlap are put below the joins that its row goes
 * through, next to the stream. Used once.
 */
final class TimeWindowPlans {
  private final TimeWindowed windows;
  private final PlanNode input;

  TimeWindowPlans(TimeWindowed windows, PlanNode input) {
    this.windows = windows;
    this.input = input;
  }

  PlanNode plan() {
    Schema schema = TypeMapping.schema(windows.getRowType());
    return windows.sizeMicros() == windows.slideMicros()
        ? inTime(input, windows.time())
        : over(input, windows.time(), schema);
  }

  private PlanNode inTime(PlanNode plan, int time) {
    if (plan instanceof PlanNode.Transform t
        && hasJoin(t)
        && t.program().outputs().get(time) instanceof Expr.Column column) {
      return new PlanNode.Transform(inTime(t.input(), column.index()), t.program());
    }
    if (plan instanceof PlanNode.Join j) {
      boolean left = time < j.left().schema().size();
      PlanNode.Join.Kind own = left ? PlanNode.Join.Kind.LEFT : PlanNode.Join.Kind.RIGHT;
      if (j.kind() == PlanNode.Join.Kind.INNER || j.kind() == own) {
        return new PlanNode.Join(
            left ? inTime(j.left(), time) : j.left(),
            left ? j.right() : inTime(j.right(), time - j.left().schema().size()),
            j.kind(),
            j.leftKeys(),
            j.rightKeys(),
            j.nullMatches(),
            j.condition(),
            j.schema());
      }
    }
    return over(plan, time, plan.schema());
  }

  private static boolean hasJoin(PlanNode plan) {
    return plan instanceof PlanNode.Join
        || plan instanceof PlanNode.Transform t && hasJoin(t.input());
  }

  private PlanNode over(PlanNode plan, int time, Schema schema) {
    Map<Integer, Long> times = EventTimes.of(plan);
    return new PlanNode.TimeWindows(
        plan,
        time,
        windows.sizeMicros(),
        windows.slideMicros(),
        windows.offsetMicros(),
        times.containsKey(time),
        schema);
  }
}
