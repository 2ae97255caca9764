package dripledger.engine.circuit;

import dripledger.engine.expr.Frame;
import dripledger.engine.expr.Frame.Place;
import dripledger.engine.expr.Frame.Unit;
import dripledger.engine.expr.WindowCall;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.SortKey;
import java.util.List;

/**
 * How far from a row that changes what window functions say can change: so many rows before and
 * after it, rows within so much of its value, its peers, or all. The other way round it is how far
 * from a row they must look.
 */
final class WindowReach {
  private final OrderedRows rows;
  private final List<SortKey> order;
  boolean allBefore;
  boolean allAfter;
  boolean fromFirst; // whether all rows before the change must be read, or what was saved of them
  boolean peers;
  private long rowsBefore;
  private long rowsAfter;
  private long groupsBefore;
  private long groupsAfter;
  private Offset valueBefore = new Offset(-1, -1);
  private Offset valueAfter = new Offset(-1, -1);

  private record Offset(long offset, double floating) {
    Offset max(Frame.Bound bound) {
      return new Offset(Math.max(offset, bound.offset()), Math.max(floating, bound.floating()));
    }

    boolean any() {
      return offset >= 0;
    }
  }

  WindowReach(PlanNode.Window plan, OrderedRows rows) {
    this.rows = rows;
    order = plan.order();
    plan.calls().forEach(this::add);
    if (plan.kept() != null) {
      addRanking(plan.kept().ranking());
    }
  }

  private void addRanking(WindowCall.Function ranking) {
    allAfter = true;
    peers |= ranking == WindowCall.Function.RANK;
    fromFirst |= ranking == WindowCall.Function.DENSE_RANK;
  }

  private void add(WindowCall call) {
    switch (call.function()) {
      case ROW_NUMBER, RANK, DENSE_RANK -> addRanking(call.function());
      case PERCENT_RANK, CUME_DIST, NTILE -> {
        allBefore = true;
        allAfter = true;
      }
      case LAG -> rowsAfter = Math.max(rowsAfter, call.number());
      case LEAD -> rowsBefore = Math.max(rowsBefore, call.number());
      case FIRST_VALUE, LAST_VALUE, NTH_VALUE, AGGREGATE -> {
        add(call.frame());
        boolean fromEnd = call.function() == WindowCall.Function.LAST_VALUE;
        fromFirst |= call.frame().startsFirst() && !(fromEnd && call.frame().unit() == Unit.ROWS);
      }
    }
  }

  private void add(Frame frame) {
    allAfter |= frame.startsFirst();
    allBefore |= frame.endsLast();
    peers |= frame.unit() != Unit.ROWS || frame.exclusion() != Frame.Exclusion.NONE;
    if (frame.from().place() == Place.PRECEDING) {
      if (frame.unit() == Unit.ROWS) {
        rowsAfter = Math.max(rowsAfter, frame.from().offset());
      } else if (frame.unit() == Unit.GROUPS) {
        groupsAfter = Math.max(groupsAfter, frame.from().offset());
      } else {
        valueAfter = valueAfter.max(frame.from());
      }
    }
    if (frame.to().place() == Place.FOLLOWING) {
      if (frame.unit() == Unit.ROWS) {
        rowsBefore = Math.max(rowsBefore, frame.to().offset());
      } else if (frame.unit() == Unit.GROUPS) {
        groupsBefore = Math.max(groupsBefore, frame.to().offset());
      } else {
        valueBefore = valueBefore.max(frame.to());
      }
    }
  }

  /**
   * The first place where something may change if the row at a place changes.
   *
   * @param limit no place before it is asked for
   */
  int firstTouched(PartitionViews views, int place, int limit) {
    return allBefore ? 0 : back(views, place, limit, rowsBefore, groupsBefore, valueBefore);
  }

  /**
   * The last place where something may change, those of functions that reach all left aside.
   *
   * @param known the answer for an earlier place, or −1
   */
  int lastTouched(PartitionViews views, int place, int known) {
    int to = views.forth(place, rowsAfter);
    int last = views.size() - 1;
    int row = views.at(place);
    int at = Math.max(place, known);
    while (at < last
        && (peers && rows.arePeers(views.at(at + 1), row)
            || valueAfter.any() && reaches(views.at(at + 1), row, valueAfter))) {
      at++;
    }
    return Math.max(Math.max(at, to), forthByGroups(views, place));
  }

  private int forthByGroups(PartitionViews views, int place) {
    int last = views.size() - 1;
    int at = place;
    for (long n = 0; groupsAfter > 0 && n <= groupsAfter && at < last; n++) {
      int row = views.at(n == 0 ? at : ++at); // of its own group, and then of the next ones
      while (at < last && rows.arePeers(views.at(at + 1), row)) {
        at++;
      }
    }
    return at;
  }

  private int backByGroups(PartitionViews views, int place, int limit, long groups) {
    int at = place;
    for (long n = 0; groups > 0 && n <= groups && at > limit; n++) {
      int row = views.at(n == 0 ? at : --at);
      while (at > limit && rows.arePeers(views.at(at - 1), row)) {
        at--;
      }
    }
    return at;
  }

  /**
   * Where reading must begin so that a place can be computed, sums from the first on left aside.
   */
  int firstRead(PartitionViews views, int place) {
    return allBefore ? 0 : back(views, place, 0, rowsAfter, groupsAfter, valueAfter);
  }

  private int firstPeer(PartitionViews views, int place, int limit) {
    int at = place;
    while (peers && at > limit && rows.arePeers(views.at(at - 1), views.at(place))) {
      at--;
    }
    return at;
  }

  private int back(
      PartitionViews views, int place, int limit, long steps, long groups, Offset value) {
    int at = Math.min(firstPeer(views, place, limit), views.back(place, steps));
    at = Math.min(at, backByGroups(views, place, limit, groups));
    if (value.any()) {
      int row = views.at(place);
      int within = place;
      while (within > limit && reaches(views.at(within - 1), row, value)) {
        within--;
      }
      at = Math.min(at, within);
    }
    return at;
  }

  private boolean reaches(int block, int row, Offset value) {
    return FrameCursor.reaches(rows, order.get(0), block, row, value.offset, value.floating);
  }
}
