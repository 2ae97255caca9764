package dripledger.engine.circuit;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Frame.Exclusion;
import dripledger.engine.expr.WindowCall;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.SortKey;
import java.util.List;

/** Makes the function of a call. */
final class WindowFunctions {
  private WindowFunctions() {}

  static WindowFunction of(WindowCall call, OrderedRows rows, List<SortKey> order) {
    FrameCursor frame = new FrameCursor(rows, call.frame(), order);
    return switch (call.function()) {
      case ROW_NUMBER -> new RowNumber();
      case RANK -> new Rank(frame);
      case DENSE_RANK -> new DenseRank(rows);
      case PERCENT_RANK, CUME_DIST ->
          new Share(frame, call.function() == WindowCall.Function.CUME_DIST);
      case NTILE -> new Parts(call.number());
      case LAG -> new Neighbour(call, rows, -call.number());
      case LEAD -> new Neighbour(call, rows, call.number());
      case FIRST_VALUE, LAST_VALUE, NTH_VALUE -> new FramedValue(call, rows, frame);
      case AGGREGATE -> {
        AggregateCall aggregate = call.aggregate();
        boolean extreme =
            aggregate.function() == AggregateCall.Function.MIN
                || aggregate.function() == AggregateCall.Function.MAX;
        if (aggregate.function().isCollected()) {
          yield new CollectedFrame(call, rows, frame);
        }
        yield extreme
            ? new SlidingExtreme(call, rows, frame)
            : new SlidingAggregate(call, rows, frame);
      }
    };
  }

  /** ROW_NUMBER. */
  private static final class RowNumber extends WindowFunction {
    @Override
    long place(int rank) {
      return rank + 1L;
    }

    @Override
    void write(int rank, RowWriter out, int column) {
      out.setLong(column, rank + 1L);
    }

    @Override
    boolean agrees(WindowFunction other, int rank) {
      return true;
    }
  }

  /** RANK: one more than the rows before the first peer. */
  private static final class Rank extends WindowFunction {
    private final FrameCursor frame;

    Rank(FrameCursor frame) {
      this.frame = frame;
    }

    @Override
    void begin(PartitionViews.View of, Object saved) {
      super.begin(of, saved);
      frame.begin(of, 0);
    }

    @Override
    long place(int rank) {
      frame.goTo(rank);
      return frame.peersFrom() + 1L;
    }

    @Override
    void write(int rank, RowWriter out, int column) {
      out.setLong(column, place(rank));
    }

    @Override
    boolean agrees(WindowFunction other, int rank) {
      return ((Rank) other).place(rank) == place(rank);
    }
  }

  /** DENSE_RANK: how many groups of peers there are up to a row's. Saved: that of a row. */
  private static final class DenseRank extends WindowFunction {
    private final OrderedRows rows;
    private int at;
    private long place;

    private record Saved(int at, long place) {}

    DenseRank(OrderedRows rows) {
      this.rows = rows;
    }

    @Override
    void begin(PartitionViews.View of, Object saved) {
      super.begin(of, saved);
      at = saved instanceof Saved known ? known.at : of.first();
      place = saved instanceof Saved known ? known.place : 1;
    }

    @Override
    long place(int rank) {
      while (at < rank) {
        at++;
        place += rows.arePeers(view.block(at - 1), view.block(at)) ? 0 : 1;
      }
      return place;
    }

    @Override
    void write(int rank, RowWriter out, int column) {
      out.setLong(column, place(rank));
    }

    @Override
    boolean agrees(WindowFunction other, int rank) {
      return ((DenseRank) other).place(rank) == place(rank);
    }

    @Override
    Object save() {
      return new Saved(at, place);
    }
  }

  /** PERCENT_RANK and CUME_DIST. */
  private static final class Share extends WindowFunction {
    private final FrameCursor frame;
    private final boolean cumulative;

    Share(FrameCursor frame, boolean cumulative) {
      this.frame = frame;
      this.cumulative = cumulative;
    }

    @Override
    void begin(PartitionViews.View of, Object saved) {
      super.begin(of, saved);
      frame.begin(of, 0);
    }

    @Override
    void write(int rank, RowWriter out, int column) {
      frame.goTo(rank);
      int total = view.total();
      out.setDouble(
          column,
          cumulative
              ? (double) frame.peersTo() / total
              : total == 1 ? 0 : (double) frame.peersFrom() / (total - 1));
    }

    @Override
    boolean agrees(WindowFunction other, int rank) {
      return false;
    }
  }

  /** NTILE: the first parts are one larger if it does not come out even. */
  private static final class Parts extends WindowFunction {
    private final long parts;

    Parts(long parts) {
      this.parts = parts;
    }

    @Override
    void write(int rank, RowWriter out, int column) {
      long size = view.total() / parts;
      long larger = view.total() % parts;
      long inLarger = larger * (size + 1);
      out.setLong(
          column, rank < inLarger ? rank / (size + 1) + 1 : larger + (rank - inLarger) / size + 1);
    }

    @Override
    boolean agrees(WindowFunction other, int rank) {
      return false;
    }
  }

  /** LAG and LEAD. */
  private static final class Neighbour extends WindowFunction {
    private final OrderedRows rows;
    private final List<Integer> arguments;
    private final long distance;

    Neighbour(WindowCall call, OrderedRows rows, long distance) {
      this.rows = rows;
      arguments = call.arguments();
      this.distance = distance;
    }

    @Override
    void write(int rank, RowWriter out, int column) {
      long from = rank + distance;
      if (from >= 0 && from < view.total()) {
        rows.copy(view.block((int) from), arguments.get(0), out, column);
      } else if (arguments.size() > 1) {
        rows.copy(view.block(rank), arguments.get(1), out, column);
      } else {
        out.setNull(column);
      }
    }

    @Override
    boolean agrees(WindowFunction other, int rank) {
      return true; // what it says of a row is about rows nearby
    }
  }

  /** FIRST_VALUE, LAST_VALUE and NTH_VALUE; also LAG and LEAD that pass over NULL. */
  private static final class FramedValue extends WindowFunction {
    private final OrderedRows rows;
    private final WindowCall call;
    private final FrameCursor frame;
    private final long wanted; // which of the frame's rows, from 1 on

    FramedValue(WindowCall call, OrderedRows rows, FrameCursor frame) {
      this.rows = rows;
      this.call = call;
      this.frame = frame;
      wanted = Math.max(1, call.number());
    }

    @Override
    void begin(PartitionViews.View of, Object saved) {
      super.begin(of, saved);
      frame.begin(of, 0);
    }

    /** The block whose value it is, or −1. */
    private int chosen(int rank) {
      frame.at(rank);
      return chosenOf(wanted);
    }

    private int chosenOf(long number) {
      boolean last = call.function() == WindowCall.Function.LAST_VALUE;
      if (call.frame().exclusion() == Exclusion.NONE && !call.ignoreNulls()) {
        long at = last ? frame.to - number : frame.from + number - 1;
        return at >= frame.from && at < frame.to ? view.block((int) at) : -1;
      }
      int step = last ? -1 : 1;
      long left = number;
      for (int i = last ? frame.to - 1 : frame.from; i >= frame.from && i < frame.to; i += step) {
        if (!frame.isExcluded(i) && counts(view.block(i)) && --left == 0) {
          return view.block(i);
        }
      }
      return -1;
    }

    private boolean counts(int block) {
      return !call.ignoreNulls() || !rows.isNull(block, call.arguments().get(0));
    }

    @Override
    void write(int rank, RowWriter out, int column) {
      int block = chosen(rank);
      if (block >= 0) {
        rows.copy(block, call.arguments().get(0), out, column);
      } else if (call.arguments().size() > 1) {
        rows.copy(view.block(rank), call.arguments().get(1), out, column);
      } else {
        out.setNull(column);
      }
    }

    @Override
    boolean agrees(WindowFunction other, int rank) {
      FramedValue before = (FramedValue) other;
      if (!call.ignoreNulls()) {
        return before.chosen(rank) == chosen(rank);
      }
      frame.at(rank);
      before.frame.at(rank);
      boolean same = true; // which one it is depends on all that come before it
      for (long number = 1; number <= wanted && same; number++) {
        same = before.chosenOf(number) == chosenOf(number);
      }
      return same;
    }
  }
}
