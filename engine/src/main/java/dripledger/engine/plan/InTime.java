package dripledger.engine.plan;

import dripledger.engine.expr.Expr;
import dripledger.engine.plan.TimeNode.TimeWindows.Rows;
import dripledger.engine.row.Schema;

/**
 * Where rows that come late are left out. Whether a row is late is judged by what is known of it
 * when it comes from its stream; so windows that do not overlap are put below the joins that its
 * row goes through, next to the stream. Pure.
 */
public final class InTime {
  private InTime() {}

  /** The rows of a plan that come in time for windows of a size, each row being in one. */
  public static PlanNode windows(PlanNode plan, int time, long sizeMicros, long offsetMicros) {
    return windows(plan, time, sizeMicros, offsetMicros, 0);
  }

  /** The rows of a plan that come less than a gap behind their partition's watermark. */
  public static PlanNode sessions(PlanNode plan, int time, long gapMicros) {
    return windows(plan, time, 1, 0, gapMicros - 1);
  }

  private static PlanNode windows(
      PlanNode plan, int time, long sizeMicros, long offsetMicros, long moreMicros) {
    if (plan instanceof PlanNode.Transform t
        && hasJoin(t)
        && t.program().outputs().get(time) instanceof Expr.Column column) {
      PlanNode below = windows(t.input(), column.index(), sizeMicros, offsetMicros, moreMicros);
      return new PlanNode.Transform(below, t.program());
    }
    if (plan instanceof PlanNode.Join j) {
      int width = j.left().schema().size();
      boolean left = time < width;
      if (left ? j.kind().keepsLeft() : j.kind().keepsRight()) {
        return PlanRewriter.join(
            j,
            left ? windows(j.left(), time, sizeMicros, offsetMicros, moreMicros) : j.left(),
            left
                ? j.right()
                : windows(j.right(), time - width, sizeMicros, offsetMicros, moreMicros));
      }
    }
    long delay = delay(plan, time);
    return new TimeNode.TimeWindows(
        plan,
        time,
        sizeMicros,
        sizeMicros,
        false,
        offsetMicros,
        delay < 0 ? delay : delay + moreMicros,
        Rows.ALL,
        0,
        plan.schema());
  }

  /**
   * The rows of a plan that come in time for what is done with a time of theirs, if windows have
   * not left others out already.
   */
  public static PlanNode rows(PlanNode plan, int time) {
    if (!(plan instanceof PlanNode.Transform t)) {
      return EventTimes.isJudged(plan, time) ? plan : windows(plan, time, 1, 0);
    }
    EventTimes.Stride stride = EventTimes.stride(t.program().outputs().get(time));
    if (stride == null) {
      return plan;
    }
    if (stride.micros() == 1) {
      return new PlanNode.Transform(rows(t.input(), stride.column()), t.program());
    }
    if (EventTimes.isJudged(t.input(), stride.column())) {
      return plan;
    }
    PlanNode below = windows(t.input(), stride.column(), stride.micros(), stride.originMicros());
    return new PlanNode.Transform(below, t.program());
  }

  private static boolean hasJoin(PlanNode plan) {
    return plan instanceof PlanNode.Join
        || plan instanceof PlanNode.Transform t && hasJoin(t.input());
  }

  /**
   * The rows of a plan in windows that may overlap.
   *
   * @param rows which, and what they are
   */
  public static PlanNode over(
      PlanNode plan,
      int time,
      long sizeMicros,
      long slideMicros,
      boolean grows,
      long offsetMicros,
      Rows rows,
      Schema schema) {
    long delay = rows == Rows.OF_SLICES ? -1 : delay(plan, time);
    return new TimeNode.TimeWindows(
        plan, time, sizeMicros, slideMicros, grows, offsetMicros, delay, rows, 0, schema);
  }

  /**
   * The rows of a plan that come in time for slices, which are read in longer windows.
   *
   * @param reachMicros how much longer these are
   */
  public static PlanNode slices(
      PlanNode plan, int time, long sizeMicros, long offsetMicros, long reachMicros) {
    return new TimeNode.TimeWindows(
        plan,
        time,
        sizeMicros,
        sizeMicros,
        false,
        offsetMicros,
        delay(plan, time),
        Rows.FOR_SLICES,
        reachMicros,
        plan.schema());
  }

  /** How far the watermark follows behind a time; −1 if it says nothing of it. */
  public static long delay(PlanNode plan, int time) {
    EventTime known = EventTimes.of(plan).get(time);
    return known == null ? -1 : Math.max(0, known.delayMicros());
  }
}
