package dripledger.engine.circuit;

import dripledger.engine.expr.Frame;
import dripledger.engine.expr.Frame.Place;
import dripledger.engine.expr.Frame.Unit;
import dripledger.engine.row.SortKey;
import java.util.List;

/**
 * The frame of one row after the other: ranks {@link #from} to before {@link #to}. Both only grow
 * as rows are asked for in order, so each is a place that moves on. NULLs are peers of each other
 * and in reach of nothing else.
 */
final class FrameCursor {
  private final OrderedRows rows;
  private final Frame frame;
  private final int column; // the offsets of RANGE are about, or −1
  private final boolean descending;
  private final boolean floating;
  private PartitionViews.View view;
  private int peersFrom; // the peers of the row at hand
  private int peersTo;
  private int at;
  int from;
  int to;

  FrameCursor(OrderedRows rows, Frame frame, List<SortKey> order) {
    this.rows = rows;
    this.frame = frame;
    boolean offsets = frame.unit() == Unit.RANGE && order.size() == 1;
    column = offsets ? order.get(0).column() : -1;
    descending = offsets && order.get(0).descending();
    floating = offsets && rows.layout.schema().type(column).kind().isFloating();
  }

  /**
   * Begins anew.
   *
   * @param end the first rank that may be behind the frame of the first row asked for
   */
  void begin(PartitionViews.View of, int end) {
    view = of;
    from = of.first();
    to = Math.max(end, from);
    at = -1;
    peersFrom = from;
    peersTo = from;
  }

  /** Goes to a row, without finding its frame. */
  void goTo(int rank) {
    at = rank;
  }

  /** Goes to a row, the same, the next or a later one. */
  void at(int rank) {
    at = rank;
    if (frame.unit() == Unit.ROWS) {
      from = (int) Math.max(0, Math.min(view.total(), rows(frame.from(), rank)));
      to = (int) Math.max(0, Math.min(view.total(), rows(frame.to(), rank) + 1));
      return;
    }
    switch (frame.from().place()) {
      case UNBOUNDED_PRECEDING -> from = 0;
      case UNBOUNDED_FOLLOWING -> from = view.total();
      case CURRENT -> from = peersFrom();
      default -> from = frame.unit() == Unit.GROUPS ? groupsFrom(frame.from()) : rangeFrom(rank);
    }
    switch (frame.to().place()) {
      case UNBOUNDED_FOLLOWING -> to = view.total();
      case UNBOUNDED_PRECEDING -> to = 0;
      case CURRENT -> to = peersTo();
      default -> to = frame.unit() == Unit.GROUPS ? groupsTo(frame.to()) : rangeTo(rank);
    }
  }

  /** Whether a row is left out of the frame of the row at hand. */
  boolean isExcluded(int rank) {
    return switch (frame.exclusion()) {
      case NONE -> false;
      case CURRENT_ROW -> rank == at;
      case GROUP -> rank >= peersFrom() && rank < peersTo();
      case TIES -> rank != at && rank >= peersFrom() && rank < peersTo();
    };
  }

  /** The first row that may be left out. */
  int excludedFrom() {
    return frame.exclusion() == Frame.Exclusion.CURRENT_ROW ? at : peersFrom();
  }

  /** One past the last row that may be left out. */
  int excludedTo() {
    return frame.exclusion() == Frame.Exclusion.CURRENT_ROW ? at + 1 : peersTo();
  }

  private long rows(Frame.Bound bound, int rank) {
    return switch (bound.place()) {
      case UNBOUNDED_PRECEDING -> Integer.MIN_VALUE;
      case PRECEDING -> rank - bound.offset();
      case CURRENT -> rank;
      case FOLLOWING -> rank + Math.min(bound.offset(), Integer.MAX_VALUE);
      case UNBOUNDED_FOLLOWING -> Integer.MAX_VALUE;
    };
  }

  /** The rank of the first peer of the row at hand. */
  int peersFrom() {
    if (at >= peersFrom && at < peersTo) {
      return peersFrom;
    }
    int block = view.block(at);
    if (at > peersTo || at == view.first() || !rows.arePeers(view.block(peersTo - 1), block)) {
      peersFrom = at;
      while (peersFrom > view.first() && rows.arePeers(view.block(peersFrom - 1), block)) {
        peersFrom--;
      }
    }
    peersTo = at + 1;
    return peersFrom;
  }

  /** One past the rank of the last peer of the row at hand. */
  int peersTo() {
    peersFrom();
    int block = view.block(at);
    while (peersTo < view.total() && rows.arePeers(block, view.block(peersTo))) {
      peersTo++;
    }
    return peersTo;
  }

  /** Where the peers begin that are so many groups away. */
  private int groupsFrom(Frame.Bound bound) {
    if (bound.place() == Place.FOLLOWING) {
      int start = peersFrom();
      for (long n = bound.offset(); n > 0 && start < view.total(); n--) {
        start = groupEnd(start);
      }
      return start;
    }
    int start = peersFrom();
    for (long n = bound.offset(); n > 0 && start > view.first(); n--) {
      start = groupStart(start - 1);
    }
    return start;
  }

  /** One past the peers that are so many groups away. */
  private int groupsTo(Frame.Bound bound) {
    if (bound.place() == Place.FOLLOWING) {
      int end = peersTo();
      for (long n = bound.offset(); n > 0 && end < view.total(); n--) {
        end = groupEnd(end);
      }
      return end;
    }
    int end = peersTo();
    int start = peersFrom();
    for (long n = bound.offset(); n > 0; n--) {
      if (start == view.first()) {
        return start;
      }
      end = start;
      start = groupStart(start - 1);
    }
    return end;
  }

  private int groupStart(int rank) {
    int start = rank;
    while (start > view.first() && rows.arePeers(view.block(start - 1), view.block(rank))) {
      start--;
    }
    return start;
  }

  private int groupEnd(int rank) {
    int end = rank + 1;
    while (end < view.total() && rows.arePeers(view.block(rank), view.block(end))) {
      end++;
    }
    return end;
  }

  private int rangeFrom(int rank) {
    int block = view.block(rank);
    if (rows.isNull(block, column)) {
      return peersFrom();
    }
    boolean before = frame.from().place() == Place.PRECEDING;
    int start = from;
    while (start < view.total() && isShort(view.block(start), block, frame.from(), before, true)) {
      start++;
    }
    return start;
  }

  private int rangeTo(int rank) {
    int block = view.block(rank);
    if (rows.isNull(block, column)) {
      return peersTo();
    }
    boolean before = frame.to().place() == Place.PRECEDING;
    int end = to;
    while (end < view.total() && isShort(view.block(end), block, frame.to(), before, false)) {
      end++;
    }
    return end;
  }

  /** Whether a row lies before the bound of another's frame, or on it if that counts. */
  private boolean isShort(int row, int of, Frame.Bound bound, boolean before, boolean mustBeBelow) {
    if (rows.isNull(row, column)) {
      return row != of && rows.compare(row, of) < 0;
    }
    int c = compare(row, of, before, bound);
    return mustBeBelow ? c < 0 : c <= 0;
  }

  /** Compares a row's value with another's, moved by an offset along the order. */
  private int compare(int row, int of, boolean back, Frame.Bound bound) {
    boolean down = back != descending;
    int c;
    if (floating) {
      double edge = value(of) + (down ? -bound.floating() : bound.floating());
      c = Double.compare(value(row), edge);
    } else {
      long value = rows.slot(of, column);
      long edge = down ? value - bound.offset() : value + bound.offset();
      boolean overflows = down ? edge > value : edge < value;
      c = overflows ? (down ? 1 : -1) : Long.compare(rows.slot(row, column), edge);
    }
    return descending ? -c : c;
  }

  private double value(int block) {
    return Double.longBitsToDouble(rows.slot(block, column));
  }

  /** Whether a row's value is within the reach of an offset of another's; of the order's column. */
  static boolean reaches(
      OrderedRows rows, SortKey key, int row, int of, long offset, double floating) {
    int column = key.column();
    if (rows.isNull(row, column) || rows.isNull(of, column)) {
      return rows.isNull(row, column) == rows.isNull(of, column);
    }
    if (rows.layout.schema().type(column).kind().isFloating()) {
      double a = Double.longBitsToDouble(rows.slot(row, column));
      double b = Double.longBitsToDouble(rows.slot(of, column));
      return Double.compare(a, b) == 0 || Math.abs(a - b) <= floating;
    }
    long a = rows.slot(row, column);
    long b = rows.slot(of, column);
    long distance = a > b ? a - b : b - a;
    return distance < 0 ? offset == Long.MAX_VALUE : distance <= offset;
  }
}
