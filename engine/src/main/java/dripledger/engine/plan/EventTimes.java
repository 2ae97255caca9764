package dripledger.engine.plan;

import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.row.ColumnType.Kind;
import java.util.HashMap;
import java.util.List;
import java.util.Map;

/**
 * Which columns of a plan's rows are times that the watermark speaks of, each with a delay in
 * microseconds: rows whose time is at or before the watermark less the delay are no longer to come,
 * but for those that come late. A time passes through a step as it is, or at the beginning or end
 * of the window it is in. Pure.
 */
public final class EventTimes {
  private EventTimes() {}

  /** The times of a plan's rows, by column. */
  public static Map<Integer, Long> of(PlanNode plan) {
    Map<Integer, Long> delays = new HashMap<>();
    times(plan).forEach((column, time) -> delays.put(column, time.delay));
    return delays;
  }

  /**
   * A time.
   *
   * @param windowMicros the size of the windows that its rows came in time for, or 0: where its
   *     window begins has the same delay
   * @param offsetMicros where those windows begin
   */
  private record Time(long delay, long windowMicros, long offsetMicros) {
    Time later(long micros) {
      return new Time(delay + micros, 0, 0);
    }

    /** The beginning of the stride that it is in. */
    Time begin(long span, long origin) {
      boolean within = windowMicros % span == 0 && (offsetMicros - origin) % span == 0;
      return within && windowMicros > 0 ? later(0) : later(span);
    }
  }

  private static Map<Integer, Time> times(PlanNode plan) {
    return plan.accept(new Finder());
  }

  private static final class Finder implements PlanVisitor<Map<Integer, Time>> {
    @Override
    public Map<Integer, Time> source(PlanNode.Source s) {
      Map<Integer, Time> times = new HashMap<>();
      s.times().forEach((column, delay) -> times.put(column, new Time(delay, 0, 0)));
      return times;
    }

    @Override
    public Map<Integer, Time> values(PlanNode.Values v) {
      return Map.of();
    }

    @Override
    public Map<Integer, Time> transform(PlanNode.Transform t) {
      Map<Integer, Time> below = times(t.input());
      Map<Integer, Time> times = new HashMap<>();
      for (int i = 0; i < t.program().outputs().size(); i++) {
        Time time = time(t.program().outputs().get(i), below);
        if (time != null) {
          times.put(i, time);
        }
      }
      return times;
    }

    /** What is known of an expression over columns that are times, or null. */
    private static Time time(Expr expr, Map<Integer, Time> columns) {
      if (expr instanceof Expr.Column c) {
        return columns.get(c.index());
      }
      if (!(expr instanceof Expr.Call call)) {
        return null;
      }
      List<Expr> operands = call.operands();
      switch (call.operation()) {
        case CAST -> {
          boolean same =
              call.type().kind() == Kind.TIMESTAMP
                  && operands.get(0).type().kind() == Kind.TIMESTAMP;
          return same ? time(operands.get(0), columns) : null;
        }
        case PLUS, MINUS -> {
          Time time = time(operands.get(0), columns);
          Long span = constant(operands.get(1), Kind.INTERVAL_DAY_TIME);
          return time == null || span == null
              ? null
              : time.later(call.operation() == Operation.PLUS ? -span : span);
        }
        case FUNCTION -> {
          if (!call.options().get(0).equalsIgnoreCase("date_bin")) {
            return null;
          }
          Time time = time(operands.get(1), columns);
          Long span = constant(operands.get(0), Kind.INTERVAL_DAY_TIME);
          Long origin = constant(operands.get(2), Kind.TIMESTAMP);
          return time == null || span == null || span <= 0 || origin == null
              ? null
              : time.begin(span, origin);
        }
        default -> {
          return null;
        }
      }
    }

    private static Long constant(Expr expr, Kind kind) {
      return expr instanceof Expr.Constant c
              && c.type().kind() == kind
              && c.value() instanceof Long micros
          ? micros
          : null;
    }

    @Override
    public Map<Integer, Time> aggregate(PlanNode.Aggregate a) {
      Map<Integer, Time> below = times(a.input());
      Map<Integer, Time> times = new HashMap<>();
      for (int i = 0; i < a.groupColumns().size(); i++) {
        Time time = below.get(a.groupColumns().get(i));
        if (time != null) {
          times.put(i, time);
        }
      }
      return times;
    }

    @Override
    public Map<Integer, Time> unionAll(PlanNode.UnionAll u) {
      Map<Integer, Time> times = null;
      for (PlanNode input : u.inputs()) {
        Map<Integer, Time> own = times(input);
        if (times == null) {
          times = new HashMap<>(own);
        } else {
          times.keySet().retainAll(own.keySet());
          times.replaceAll(
              (column, time) -> new Time(Math.max(time.delay, own.get(column).delay), 0, 0));
        }
      }
      return times == null ? Map.of() : times;
    }

    @Override
    public Map<Integer, Time> join(PlanNode.Join j) {
      Map<Integer, Time> times = new HashMap<>(times(j.left()));
      int width = j.left().schema().size();
      times(j.right()).forEach((column, time) -> times.put(width + column, time));
      return times;
    }

    @Override
    public Map<Integer, Time> repeat(PlanNode.Repeat r) {
      Map<Integer, Time> times = new HashMap<>(times(r.input()));
      times.keySet().removeIf(column -> column >= r.schema().size());
      return times;
    }

    @Override
    public Map<Integer, Time> unnest(PlanNode.Unnest u) {
      Map<Integer, Time> times = new HashMap<>(times(u.input()));
      times.keySet().removeIf(column -> column >= u.kept());
      return times;
    }

    @Override
    public Map<Integer, Time> window(PlanNode.Window w) {
      return times(w.input());
    }

    @Override
    public Map<Integer, Time> timeWindows(PlanNode.TimeWindows w) {
      Map<Integer, Time> below = times(w.input());
      Map<Integer, Time> times = new HashMap<>(below);
      if (below.containsKey(w.time())) {
        // A row comes for as long as a window that it is in has not ended.
        Time time = below.get(w.time());
        Time begin = time.later(w.sizeMicros());
        long size = w.tumbles() ? w.sizeMicros() : 0;
        times.put(w.time(), new Time(begin.delay, size, w.offsetMicros()));
        if (!w.tumbles()) {
          times.put(w.input().schema().size(), begin);
          times.put(w.input().schema().size() + 1, time.later(0));
        }
      }
      return times;
    }

    @Override
    public Map<Integer, Time> settle(PlanNode.Settle s) {
      return times(s.input());
    }
  }
}
