package dripledger.engine.plan;

import java.util.Map;
import java.util.TreeSet;

/**
 * When the rows of a kept query are put out, and how long they stay. Pure.
 *
 * <p>Settled: what is grouped by a time of the watermark is put out once the group has ended, and
 * its state is gone then; if rows may change after that all the same, as those of an outer join
 * may, they wait at the end until they no longer can. Provisional, but kept for a while only: such
 * groups are taken out when that is over.
 */
public final class Publishing {
  private Publishing() {}

  /**
   * The plan that puts a row out only when it can no longer change; null if none of its columns
   * says when that is.
   *
   * @param keepMicros how long it stays from then on; −1 for ever
   */
  public static PlanNode settled(PlanNode plan, long keepMicros) {
    PlanNode ending = plan.accept(new Endings(true, true, 0));
    boolean isFinal = ending.appendOnly() && settles(ending);
    if (keepMicros < 0 && isFinal) {
      return ending;
    }
    int time = soonest(ending);
    if (time < 0) {
      return null;
    }
    if (isFinal) {
      long delay = EventTimes.of(ending).get(time).delayMicros();
      return new TimeNode.Settle(ending, time, delay, keepMicros, true);
    }
    PlanNode rows = InTime.rows(ending, time);
    return new TimeNode.Settle(
        rows, time, EventTimes.of(rows).get(time).delayMicros(), keepMicros, false);
  }

  /**
   * As {@link #settled}, and until a row is settled as it stands, every so often.
   *
   * @param everyMicros how often
   */
  public static PlanNode early(PlanNode plan, long keepMicros, long everyMicros) {
    PlanNode settled = settled(plan, keepMicros);
    PlanNode standing = plan.accept(new Endings(false, true, 0));
    int time = settled == null ? -1 : soonest(standing);
    if (time < 0) {
      return null;
    }
    PlanNode rows = InTime.rows(standing, time);
    long delay = EventTimes.of(rows).get(time).delayMicros();
    PlanNode open = new TimeNode.Settle(rows, time, delay, 0, true);
    return new Paced(settled, open, time, delay, everyMicros);
  }

  /**
   * The rows of a plan that come in time, if all of them up to a time of theirs are known and do
   * not change once the watermark has passed it; else null.
   */
  public static PlanNode settling(PlanNode plan, int time) {
    return EventTimes.of(plan).containsKey(time) && EventTimes.isClosed(plan)
        ? InTime.rows(plan, time)
        : null;
  }

  /** Whether every row has passed a step that puts it out when it ends. */
  private static boolean settles(PlanNode plan) {
    return plan instanceof PlanNode.Aggregate a && a.publishesEnds()
        || plan instanceof TimeNode.Settle
        || plan instanceof Matches m && m.isSettled()
        || !plan.inputs().isEmpty() && plan.inputs().stream().allMatch(Publishing::settles);
  }

  /** The time column by which a row ends first, or −1. */
  private static int soonest(PlanNode plan) {
    int best = -1;
    Map<Integer, EventTime> times = EventTimes.of(plan);
    for (int column : new TreeSet<>(times.keySet())) {
      boolean sooner = best < 0 || times.get(column).delayMicros() < times.get(best).delayMicros();
      best = sooner ? column : best;
    }
    return best;
  }

  /**
   * The plan that takes rows out when a time has passed behind their end; null if its rows are not
   * grouped by a time, nor matches of a pattern that say theirs.
   */
  public static PlanNode keptFor(PlanNode plan, long micros) {
    PlanNode below = plan;
    while (below instanceof PlanNode.Transform t) {
      below = t.input();
    }
    if (below instanceof Matches m && m.isSettled()) {
      return settled(plan, micros);
    }
    return below instanceof PlanNode.Aggregate a
            && (ending(a, false, false, 0) != null || SessionGroups.last(a) >= 0)
        ? plan.accept(new Endings(false, false, micros))
        : null;
  }

  /**
   * When the groups of an aggregate end, or null for never.
   *
   * @param judged whether rows without a time are left out
   */
  private static Ending ending(
      PlanNode.Aggregate a, boolean judged, boolean publishes, long keepMicros) {
    int time = -1;
    Map<Integer, EventTime> times = EventTimes.of(a);
    for (int column : new TreeSet<>(times.keySet())) {
      boolean known = judged || !a.schema().type(column).nullable();
      if (known && (time < 0 || times.get(column).delayMicros() < times.get(time).delayMicros())) {
        time = column;
      }
    }
    return time < 0
        ? null
        : new Ending(time, times.get(time).delayMicros() + keepMicros, publishes);
  }

  private static final class Endings extends PlanRewriter {
    private final boolean publishes;
    private final boolean judges;
    private final long keepMicros;

    /**
     * @param publishes whether groups are put out when they end
     * @param judges whether rows are left out that come too late for that
     */
    Endings(boolean publishes, boolean judges, long keepMicros) {
      this.publishes = publishes;
      this.judges = judges;
      this.keepMicros = keepMicros;
    }

    @Override
    public PlanNode aggregate(PlanNode.Aggregate a) {
      PlanNode input = a.input().accept(this);
      PlanNode.Aggregate sessions =
          new PlanNode.Aggregate(input, a.groupColumns(), a.calls(), a.schema());
      int last = SessionGroups.last(sessions);
      if (last >= 0 && SessionGroups.merged(sessions) != null) {
        long delay = SessionGroups.delayMicros(sessions);
        Ending ending = new Ending(last, delay + keepMicros, publishes);
        return new PlanNode.Aggregate(input, a.groupColumns(), a.calls(), a.schema(), ending);
      }
      if (last >= 0) {
        PlanNode ended = SessionGroups.withdrawn(sessions, publishes ? 0 : keepMicros);
        long delay = SessionGroups.delayMicros(sessions);
        return publishes ? new TimeNode.Settle(ended, last, delay, -1, false) : ended;
      }
      Ending ending = ending(a, judges, publishes, keepMicros);
      if (ending != null && judges) {
        input = InTime.rows(input, a.groupColumns().get(ending.column()));
        PlanNode.Aggregate judged =
            new PlanNode.Aggregate(input, a.groupColumns(), a.calls(), a.schema());
        ending = ending(judged, true, publishes, keepMicros);
      }
      if (ending != null && !publishes) { // what longer windows read of it has to stay as long
        ending =
            new Ending(ending.column(), ending.delayMicros() + reach(input), ending.publishes());
      }
      return new PlanNode.Aggregate(input, a.groupColumns(), a.calls(), a.schema(), ending);
    }

    private static long reach(PlanNode input) {
      PlanNode below = input instanceof PlanNode.Transform t ? t.input() : input;
      return below instanceof TimeNode.TimeWindows w ? w.reachMicros() : 0;
    }
  }
}
