package dripledger.engine.plan;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import java.util.HashSet;
import java.util.List;
import java.util.Set;

/** Groups that are sessions, each whole: the last time of one says when it ends. Pure. */
final class SessionGroups {
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
