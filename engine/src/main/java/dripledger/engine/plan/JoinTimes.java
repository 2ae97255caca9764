package dripledger.engine.plan;

import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.row.ColumnType.Kind;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;

/**
 * Joins that say how far apart the times of two rows may be that meet: how long a row of either
 * input has to be kept, and until when what it is part of may change. Pure.
 */
public final class JoinTimes {
  private JoinTimes() {}

  /**
   * That rows of the other input which meet a row are no later than it is, and some time.
   *
   * @param side of the row
   * @param own its time
   * @param other a column of the other input
   */
  private record Bound(int side, int own, int other, long micros) {}

  /** Something that is a column and perhaps a constant more. */
  private record Term(int column, long micros) {}

  /**
   * The join with rows of its inputs left out that come late, so that nobody has to wait for them;
   * the join itself if it says nothing of their times. Only if nothing takes rows out later.
   */
  public static PlanNode.Join inTime(PlanNode.Join j) {
    PlanNode left = j.left();
    PlanNode right = j.right();
    if (!EventTimes.isClosed(j)) {
      return j;
    }
    for (Bound bound : bounds(j, inputs(j))) {
      left = InTime.rows(left, bound.side == 0 ? bound.own : bound.other);
      right = InTime.rows(right, bound.side == 0 ? bound.other : bound.own);
    }
    return left == j.left() && right == j.right() ? j : PlanRewriter.join(j, left, right);
  }

  /** Whether rows must be told by how they came from their streams. */
  public static boolean judges(PlanNode.Join j) {
    return EventTimes.isClosed(j) && !bounds(j, inputs(j)).isEmpty();
  }

  /** See {@link PlanNode.Join#ending}. */
  static Ending ending(PlanNode.Join j, int side) {
    if (!EventTimes.isClosed(j)) {
      return null;
    }
    List<Map<Integer, EventTime>> inputs = inputs(j);
    Ending soonest = null;
    for (Bound bound : bounds(j, inputs)) {
      EventTime other = inputs.get(1 - side).get(bound.other);
      if (bound.side == side && other.judged()) {
        long delay = bound.micros + other.delayMicros();
        if (soonest == null || delay < soonest.delayMicros()) {
          soonest = new Ending(bound.own, delay, false);
        }
      }
    }
    return soonest;
  }

  /** The times of a join's rows, see {@link EventTimes}. */
  static Map<Integer, EventTime> of(PlanNode.Join j) {
    List<Map<Integer, EventTime>> inputs = inputs(j);
    Map<Integer, EventTime> times = new HashMap<>();
    // Of an input whose rows may be missing there may be no time.
    if (j.kind().keepsLeft()) {
      add(j, 0, inputs, times);
    }
    if (j.kind().keepsRight()) {
      add(j, 1, inputs, times);
    }
    return times;
  }

  /** Those of an input that are still times when rows of the other may come after it. */
  private static void add(
      PlanNode.Join j,
      int side,
      List<Map<Integer, EventTime>> inputs,
      Map<Integer, EventTime> times) {
    Map<Integer, EventTime> others = inputs.get(1 - side);
    List<Bound> bounds = bounds(j, inputs);
    int first = side == 0 ? 0 : j.left().schema().size();
    inputs
        .get(side)
        .forEach(
            (column, time) -> {
              EventTime own =
                  others.isEmpty() ? time : null; // of what has no time none is waited for
              for (Bound b : bounds) {
                if (b.side == side && b.own == column) {
                  EventTime until = time.atLeast(b.micros + others.get(b.other).delayMicros());
                  boolean sooner = own == null || until.delayMicros() < own.delayMicros();
                  own = sooner ? until : own;
                }
              }
              if (own != null) {
                times.put(first + column, own);
              }
            });
  }

  private static List<Map<Integer, EventTime>> inputs(PlanNode.Join j) {
    return List.of(EventTimes.of(j.left()), EventTimes.of(j.right()));
  }

  private static List<Bound> bounds(PlanNode.Join j, List<Map<Integer, EventTime>> inputs) {
    Map<Integer, EventTime> left = inputs.get(0);
    Map<Integer, EventTime> right = inputs.get(1);
    List<Bound> bounds = new ArrayList<>();
    if (left.isEmpty() || right.isEmpty()) {
      return bounds;
    }
    int width = j.left().schema().size();
    for (int i = 0; i < j.leftKeys().size(); i++) {
      bounds.add(new Bound(0, j.leftKeys().get(i), j.rightKeys().get(i), 0));
      bounds.add(new Bound(1, j.rightKeys().get(i), j.leftKeys().get(i), 0));
    }
    if (j.condition() != null) {
      conjunct(j.condition(), width, bounds);
    }
    bounds.removeIf(
        b ->
            !(b.side == 0 ? left : right).containsKey(b.own)
                || !(b.side == 0 ? right : left).containsKey(b.other));
    return bounds;
  }

  private static void conjunct(Expr expr, int width, List<Bound> bounds) {
    if (!(expr instanceof Expr.Call call)) {
      return;
    }
    switch (call.operation()) {
      case AND -> call.operands().forEach(each -> conjunct(each, width, bounds));
      case LESS, LESS_OR_EQUAL -> atMost(call.operand(0), call.operand(1), width, bounds);
      case GREATER, GREATER_OR_EQUAL -> atMost(call.operand(1), call.operand(0), width, bounds);
      case EQUAL -> {
        atMost(call.operand(0), call.operand(1), width, bounds);
        atMost(call.operand(1), call.operand(0), width, bounds);
      }
      default -> {}
    }
  }

  /** Notes that one expression is no more than another. */
  private static void atMost(Expr less, Expr more, int width, List<Bound> bounds) {
    Long span = EventTimes.constant(more, Kind.INTERVAL_DAY_TIME);
    Term[] difference = difference(less);
    if (span != null && difference != null) {
      add(difference[0], difference[1], span, width, bounds);
      return;
    }
    span = EventTimes.constant(less, Kind.INTERVAL_DAY_TIME);
    difference = difference(more);
    if (span != null && difference != null) {
      add(difference[1], difference[0], -span, width, bounds);
      return;
    }
    Term a = term(less);
    Term b = term(more);
    if (a != null && b != null) {
      add(a, b, 0, width, bounds);
    }
  }

  /** Notes that one term is no more than another and some time. */
  private static void add(Term a, Term b, long micros, int width, List<Bound> bounds) {
    if (a.column < width == b.column < width) {
      return;
    }
    int side = b.column < width ? 0 : 1;
    int own = side == 0 ? b.column : b.column - width;
    int other = side == 0 ? a.column - width : a.column;
    bounds.add(new Bound(side, own, other, micros + b.micros - a.micros));
  }

  /** The two times of which an expression is the difference, or null. */
  private static Term[] difference(Expr expr) {
    if (expr instanceof Expr.Call call
        && call.operation() == Operation.MINUS
        && call.type().kind() == Kind.INTERVAL_DAY_TIME) {
      Term a = term(call.operand(0));
      Term b = term(call.operand(1));
      return a == null || b == null ? null : new Term[] {a, b};
    }
    return null;
  }

  private static Term term(Expr expr) {
    if (expr instanceof Expr.Column c) {
      return c.type().kind() == Kind.TIMESTAMP ? new Term(c.index(), 0) : null;
    }
    if (!(expr instanceof Expr.Call call) || call.type().kind() != Kind.TIMESTAMP) {
      return null;
    }
    return switch (call.operation()) {
      case CAST -> term(call.operand(0));
      case PLUS, MINUS -> {
        Term below = term(call.operand(0));
        Long span = EventTimes.constant(call.operand(1), Kind.INTERVAL_DAY_TIME);
        yield below == null || span == null
            ? null
            : new Term(
                below.column, below.micros + (call.operation() == Operation.PLUS ? span : -span));
      }
      default -> null;
    };
  }
}
