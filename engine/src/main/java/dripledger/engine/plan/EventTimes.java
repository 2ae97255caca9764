package dripledger.engine.plan;

import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.pattern.PatternItem;
import dripledger.engine.row.ColumnType.Kind;
import java.util.HashMap;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.concurrent.TimeUnit;

/**
 * Which columns of a plan's rows are times that the watermark speaks of, each with a delay in
 * microseconds: rows whose time is at or before the watermark less the delay are no longer to come,
 * but for those that come late. A time passes through a step as it is, or at the beginning or end
 * of the window it is in. Pure.
 */
public final class EventTimes {
  private EventTimes() {}

  /**
   * The stride of a column that an expression is the beginning of, and perhaps something more: what
   * date_bin and date_trunc answer.
   *
   * @param micros how long a stride is; 1 if the expression is the column itself
   * @param originMicros where one of them begins
   */
  record Stride(int column, long micros, long originMicros) {}

  /** The stride that an expression is of, or null. */
  static Stride stride(Expr expr) {
    if (expr instanceof Expr.Column c) {
      return new Stride(c.index(), 1, 0);
    }
    if (!(expr instanceof Expr.Call call)) {
      return null;
    }
    Expr below = call.operand(call.operation() == Operation.FUNCTION ? 1 : 0);
    Stride stride = Finder.stride(call);
    if (stride == null) {
      boolean shifts = call.operation() == Operation.PLUS || call.operation() == Operation.MINUS;
      boolean same = shifts && constant(call.operand(1), Kind.INTERVAL_DAY_TIME) != null;
      return same || call.operation() == Operation.CAST ? stride(below) : null;
    }
    Stride of = stride(below);
    return of == null || of.micros != 1
        ? null
        : new Stride(of.column, stride.micros, stride.originMicros);
  }

  /** The value of a constant of a kind that is a number, or null. */
  static Long constant(Expr expr, Kind kind) {
    return expr instanceof Expr.Constant c
            && c.type().kind() == kind
            && c.value() instanceof Long value
        ? value
        : null;
  }

  /** Whether rows of a plan come in time for windows by a time already. */
  static boolean isJudged(PlanNode plan, int time) {
    EventTime known = of(plan).get(time);
    return known == null || known.judged();
  }

  /**
   * When rows that have some columns in common change no more, by a time that is one of these; null
   * if they may always.
   */
  static Ending ending(PlanNode plan, List<Integer> columns) {
    Map<Integer, EventTime> times = of(plan);
    Ending soonest = null;
    for (int column : columns) {
      EventTime time = times.get(column);
      boolean ends = time != null && time.judged();
      if (ends && (soonest == null || time.delayMicros() < soonest.delayMicros())) {
        soonest = new Ending(column, time.delayMicros(), false);
      }
    }
    return soonest != null && isClosed(plan) ? soonest : null;
  }

  /** Whether rows are not taken out any more once none of their time come. */
  static boolean isClosed(PlanNode plan) {
    if (plan.appendOnly() && !(plan instanceof TimeNode.Sessions)) {
      return true;
    }
    boolean goes =
        plan instanceof PlanNode.Source
            || plan instanceof TimeNode.Sessions
            || plan instanceof TimeNode.Settle
            || plan instanceof Paced
            || plan instanceof TimeNode.Reached
            || plan instanceof PlanNode.Aggregate a && a.ending() != null;
    return !goes && plan.inputs().stream().allMatch(EventTimes::isClosed);
  }

  /** The times of a plan's rows, by column. */
  public static Map<Integer, EventTime> of(PlanNode plan) {
    return plan.accept(new Finder());
  }

  private static final long WEEK = TimeUnit.DAYS.toMicros(7);
  private static final long MONDAY = TimeUnit.DAYS.toMicros(4); // 1970-01-05

  private static final Map<String, Long> UNITS =
      Map.of(
          "SECOND", TimeUnit.SECONDS.toMicros(1),
          "MINUTE", TimeUnit.MINUTES.toMicros(1),
          "HOUR", TimeUnit.HOURS.toMicros(1),
          "DAY", TimeUnit.DAYS.toMicros(1),
          "WEEK", WEEK);

  private static final class Finder implements PlanVisitor<Map<Integer, EventTime>> {
    @Override
    public Map<Integer, EventTime> source(PlanNode.Source s) {
      return s.times();
    }

    @Override
    public Map<Integer, EventTime> values(PlanNode.Values v) {
      return Map.of();
    }

    @Override
    public Map<Integer, EventTime> transform(PlanNode.Transform t) {
      Map<Integer, EventTime> below = of(t.input());
      Map<Integer, EventTime> times = new HashMap<>();
      for (int i = 0; i < t.program().outputs().size(); i++) {
        EventTime time = time(t.program().outputs().get(i), below);
        if (time != null) {
          times.put(i, time);
        }
      }
      return times;
    }

    /** What is known of an expression over columns that are times, or null. */
    private static EventTime time(Expr expr, Map<Integer, EventTime> columns) {
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
          EventTime time = time(operands.get(0), columns);
          Long span = constant(operands.get(1), Kind.INTERVAL_DAY_TIME);
          return time == null || span == null
              ? null
              : time.later(call.operation() == Operation.PLUS ? -span : span);
        }
        case FUNCTION, FLOOR_TO -> {
          Stride stride = stride(call);
          EventTime time =
              stride == null
                  ? null
                  : time(operands.get(call.operation() == Operation.FUNCTION ? 1 : 0), columns);
          return time == null ? null : time.begin(stride.micros, stride.originMicros);
        }
        default -> {
          return null;
        }
      }
    }

    /** What date_bin, date_trunc or FLOOR round down to, or null; of no column. */
    static Stride stride(Expr.Call call) {
      if (call.operation() == Operation.FLOOR_TO && call.type().kind() == Kind.TIMESTAMP) {
        Long unit = UNITS.get(call.options().get(0).toUpperCase(Locale.ROOT));
        return unit == null ? null : new Stride(-1, unit, unit == WEEK ? MONDAY : 0);
      }
      if (call.operation() != Operation.FUNCTION
          || !call.options().get(0).equalsIgnoreCase("date_bin")) {
        return null;
      }
      Long span = constant(call.operand(0), Kind.INTERVAL_DAY_TIME);
      Long origin = constant(call.operand(2), Kind.TIMESTAMP);
      return span == null || span <= 0 || origin == null ? null : new Stride(-1, span, origin);
    }

    @Override
    public Map<Integer, EventTime> aggregate(PlanNode.Aggregate a) {
      Map<Integer, EventTime> below = of(a.input());
      Map<Integer, EventTime> times = new HashMap<>();
      for (int i = 0; i < a.groupColumns().size(); i++) {
        EventTime time = below.get(a.groupColumns().get(i));
        if (time != null) {
          times.put(i, time);
        }
      }
      int end = SessionGroups.last(a);
      if (end >= 0) {
        times.put(end, new EventTime(SessionGroups.delayMicros(a), 0, 0, true));
      }
      return times;
    }

    @Override
    public Map<Integer, EventTime> sessions(TimeNode.Sessions s) {
      return Map.of(); // how long a row may change depends on those behind it
    }

    @Override
    public Map<Integer, EventTime> unionAll(PlanNode.UnionAll u) {
      Map<Integer, EventTime> times = null;
      for (PlanNode input : u.inputs()) {
        Map<Integer, EventTime> own = of(input);
        if (times == null) {
          times = new HashMap<>(own);
        } else {
          times.keySet().retainAll(own.keySet());
          times.replaceAll((column, time) -> time.with(own.get(column)));
        }
      }
      return times == null ? Map.of() : times;
    }

    @Override
    public Map<Integer, EventTime> join(PlanNode.Join j) {
      return JoinTimes.of(j);
    }

    @Override
    public Map<Integer, EventTime> repeat(PlanNode.Repeat r) {
      Map<Integer, EventTime> times = new HashMap<>(of(r.input()));
      times.keySet().removeIf(column -> column >= r.schema().size());
      return times;
    }

    @Override
    public Map<Integer, EventTime> unnest(PlanNode.Unnest u) {
      Map<Integer, EventTime> times = new HashMap<>(of(u.input()));
      times.keySet().removeIf(column -> column >= u.kept());
      return times;
    }

    @Override
    public Map<Integer, EventTime> window(PlanNode.Window w) {
      return of(w.input());
    }

    /** A match is put out at the latest when no row can be in it any more. */
    @Override
    public Map<Integer, EventTime> matches(Matches m) {
      Map<Integer, EventTime> times = new HashMap<>();
      if (!m.isSettled() || m.withinMicros() < 0 || m.rowsAhead() > 0) {
        return times;
      }
      int order = m.order().get(0).column();
      List<Expr> outputs = m.output().program().outputs();
      for (int i = 0; i < outputs.size(); i++) {
        PatternItem item =
            outputs.get(i) instanceof Expr.Column c ? m.output().items().get(c.index()) : null;
        boolean own = item instanceof PatternItem.Own o && o.column() == order;
        boolean value =
            item instanceof PatternItem.Value v && v.column() == order && v.shift() == 0;
        if (own || value) {
          times.put(i, new EventTime(m.delayMicros() + m.withinMicros(), 0, 0, true));
        }
      }
      return times;
    }

    /** A row has its nearest for good when no more of either kind come in front of it. */
    @Override
    public Map<Integer, EventTime> nearest(Nearest n) {
      Map<Integer, EventTime> times = new HashMap<>();
      EventTime time = of(n.input()).get(n.time());
      for (int i = 0; n.before() && time != null && i < n.firstOutputs(); i++) {
        if (n.outputs().get(i) == n.time()) {
          times.put(i, new EventTime(time.delayMicros(), 0, 0, time.judged()));
        }
      }
      return times;
    }

    @Override
    public Map<Integer, EventTime> timeWindows(TimeNode.TimeWindows w) {
      Map<Integer, EventTime> below = of(w.input());
      Map<Integer, EventTime> times = new HashMap<>(below);
      if (below.containsKey(w.time())) {
        // A row comes for as long as a window that it is in has not ended.
        EventTime time = below.get(w.time());
        times.put(w.time(), time.inWindows(w));
        if (!w.tumbles()) {
          int width = w.input().schema().size();
          boolean slices = w.rows() == TimeNode.TimeWindows.Rows.OF_SLICES;
          long delay =
              time.delayMicros() - (slices ? w.slideMicros() : 0); // the last has ended then
          times.put(width, new EventTime(delay + w.sizeMicros(), 0, 0, true));
          times.put(width + 1, new EventTime(delay, 0, 0, true));
        }
      }
      return times;
    }

    @Override
    public Map<Integer, EventTime> reached(TimeNode.Reached r) {
      Map<Integer, EventTime> times = new HashMap<>(of(r.input()));
      times.keySet().removeIf(column -> column >= r.schema().size() - r.times());
      return times;
    }

    @Override
    public Map<Integer, EventTime> paced(Paced p) {
      return Map.of();
    }

    @Override
    public Map<Integer, EventTime> tableVersions(TableVersions v) {
      return Map.of(v.since(), EventTime.OF_TABLE); // it goes by what it is beside
    }

    @Override
    public Map<Integer, EventTime> settle(TimeNode.Settle s) {
      return of(s.input());
    }
  }
}
