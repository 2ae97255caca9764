package dripledger.engine.plan;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Program;
import java.util.ArrayList;
import java.util.HashSet;
import java.util.List;
import java.util.Set;

/** Groups that are sessions, each whole: the last time of one says when it ends. Pure. */
public final class SessionGroups {
  private SessionGroups() {}

  /** The sessions that are an aggregate's groups, or null. */
  private static TimeNode.Sessions of(PlanNode.Aggregate a) {
    PlanNode below = a.input();
    if (below instanceof PlanNode.Transform t && t.program().filter() == null) {
      below = t.input();
    }
    if (!(below instanceof TimeNode.Sessions s)) {
      return null;
    }
    Set<Integer> by = new HashSet<>(s.partition());
    by.add(s.input().schema().size());
    Set<Integer> groups = new HashSet<>();
    a.groupColumns().forEach(c -> groups.add(column(a.input(), c)));
    return groups.equals(by) ? s : null;
  }

  /** The column of the sessions that a column is, or −1. */
  private static int column(PlanNode input, int column) {
    if (!(input instanceof PlanNode.Transform t)) {
      return column;
    }
    Expr expr = t.program().outputs().get(column);
    return expr instanceof Expr.Column c ? c.index() : -1;
  }

  /** The column that is the last time of each session, or −1 if there is none. */
  static int last(PlanNode.Aggregate a) {
    TimeNode.Sessions s = of(a);
    List<AggregateCall> calls = a.calls();
    for (int i = 0; s != null && s.delayMicros() >= 0 && i < calls.size(); i++) {
      AggregateCall call = calls.get(i);
      if (call.function() == AggregateCall.Function.MAX
          && call.filterColumn() < 0
          && column(a.input(), call.arguments().get(0)) == s.time()) {
        return a.groupColumns().size() + i;
      }
    }
    return -1;
  }

  /** How far the watermark must be behind that time for the session to stay as it is. */
  static long delayMicros(PlanNode.Aggregate a) {
    TimeNode.Sessions s = of(a);
    return 2 * s.gapMicros() + s.delayMicros();
  }

  /**
   * Groups that are sessions and are made of rows as they come.
   *
   * @param start which of the group columns is the beginning
   * @param last which of the columns is the last time
   * @param delayMicros how far the watermark must be behind that for the session to stay as it is
   */
  public record Merged(int start, int last, long gapMicros, long delayMicros) {}

  /** What an aggregate that makes sessions has to know; null of any other. */
  public static Merged merged(PlanNode.Aggregate a) {
    TimeNode.Sessions s = of(a);
    if (s == null || !s.merged()) {
      return null;
    }
    int start = 0;
    while (column(a.input(), a.groupColumns().get(start)) != s.input().schema().size()) {
      start++;
    }
    return new Merged(start, last(a), s.gapMicros(), delayMicros(a));
  }

  /** The rows that such an aggregate makes sessions of: each begins at its own time. */
  public static PlanNode rows(PlanNode.Aggregate a) {
    TimeNode.Sessions s = of(a);
    Expr.Column time = new Expr.Column(s.time(), s.input().schema().type(s.time()));
    List<Expr> outputs = new ArrayList<>(Expr.columns(s.schema()));
    if (a.input() instanceof PlanNode.Transform t) {
      outputs = new ArrayList<>(t.program().outputs());
    }
    outputs.replaceAll(e -> Expr.isColumn(e, s.input().schema().size()) ? time : e);
    return new PlanNode.Transform(
        s.input(), new Program(s.input().schema(), null, outputs, a.input().schema()));
  }

  /**
   * The same aggregate, which makes the sessions itself if it can: if rows only come, and all that
   * it asks of them can be added up.
   */
  public static PlanNode.Aggregate merging(PlanNode.Aggregate a) {
    TimeNode.Sessions s = of(a);
    if (s == null
        || last(a) < 0
        || !s.input().appendOnly()
        || a.groupColumns().size() != s.partition().size() + 1
        || a.input() instanceof PlanNode.Transform t && !t.program().neverFails()) {
      return a;
    }
    int start = s.input().schema().size();
    for (AggregateCall call : a.calls()) {
      boolean readsStart =
          call.arguments().stream().anyMatch(c -> column(a.input(), c) == start)
              || call.filterColumn() >= 0 && column(a.input(), call.filterColumn()) == start;
      if (readsStart || !call.isAddedUp(a.input().schema(), true)) {
        return a;
      }
    }
    PlanNode input = PlanRewriter.sessions(s, s.input(), s.withdrawMicros(), true);
    if (a.input() instanceof PlanNode.Transform t) {
      input = new PlanNode.Transform(input, t.program());
    }
    return new PlanNode.Aggregate(input, a.groupColumns(), a.calls(), a.schema(), a.ending());
  }

  /** Whether an aggregate's groups are sessions that are taken out when they have ended. */
  static boolean withdraws(PlanNode.Aggregate a) {
    TimeNode.Sessions s = of(a);
    return s != null && s.withdrawMicros() >= 0;
  }

  /** The same groups of sessions that are taken out some time after they have ended. */
  static PlanNode.Aggregate withdrawn(PlanNode.Aggregate a, long micros) {
    TimeNode.Sessions s = of(a);
    PlanNode input = PlanRewriter.sessions(s, s.input(), micros);
    if (a.input() instanceof PlanNode.Transform t) {
      input = new PlanNode.Transform(input, t.program());
    }
    return new PlanNode.Aggregate(input, a.groupColumns(), a.calls(), a.schema());
  }
}
