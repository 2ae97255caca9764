package dripledger.engine.circuit;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Frame.Exclusion;
import dripledger.engine.expr.WindowCall;
import dripledger.engine.row.RowWriter;

/**
 * MIN and MAX of a frame: of the rows in it only those are kept that no later one beats; the first
 * of them is the extreme. Where rows are left out of the frame, all of it is looked through. Saved:
 * the extreme of a frame that begins with the partition.
 */
final class SlidingExtreme extends WindowFunction {
  private final OrderedRows rows;
  private final FrameCursor frame;
  private final int argument;
  private final boolean excludes;
  private final boolean growing;
  private final ValueOrder order;
  private final boolean greatest;
  private int[] candidates = new int[16]; // ranks, a ring
  private int head;
  private int size;
  private int to;

  private record Saved(int to, int extreme) {}

  SlidingExtreme(WindowCall call, OrderedRows rows, FrameCursor frame) {
    this.rows = rows;
    this.frame = frame;
    argument = call.aggregate().arguments().get(0);
    greatest = call.aggregate().function() == AggregateCall.Function.MAX;
    excludes = call.frame().exclusion() != Exclusion.NONE;
    growing = call.frame().startsFirst() && !excludes;
    order = new ValueOrder(rows, argument);
  }

  @Override
  void begin(PartitionViews.View of, Object saved) {
    super.begin(of, saved);
    head = 0;
    size = 0;
    to = growing ? 0 : of.first();
    frame.begin(of, 0);
    if (saved instanceof Saved known) {
      to = known.to;
      if (known.extreme >= 0) {
        candidates[0] = known.extreme;
        size = 1;
      }
      frame.begin(of, to);
    }
  }

  private int candidate(int i) {
    return candidates[head + i & candidates.length - 1];
  }

  private void goTo(int rank) {
    frame.at(rank);
    if (frame.from >= to || excludes) {
      size = 0;
      to = frame.from;
    }
    for (; to < frame.to; to++) {
      int block = view.block(to);
      if (rows.isNull(block, argument) || excludes && frame.isExcluded(to)) {
        continue;
      }
      while (size > 0 && beats(block, view.block(candidate(size - 1)))) {
        size--;
      }
      if (growing && size > 0) {
        continue; // nothing leaves such a frame
      }
      if (size == candidates.length) {
        int[] larger = new int[size * 2];
        for (int i = 0; i < size; i++) {
          larger[i] = candidate(i);
        }
        candidates = larger;
        head = 0;
      }
      candidates[head + size++ & candidates.length - 1] = to;
    }
    while (size > 0 && candidate(0) < frame.from) {
      head = head + 1 & candidates.length - 1;
      size--;
    }
  }

  private boolean beats(int block, int other) {
    int c = order.compare(block, other);
    return greatest ? c > 0 : c < 0;
  }

  @Override
  void write(int rank, RowWriter out, int column) {
    goTo(rank);
    if (size == 0) {
      out.setNull(column);
    } else {
      rows.copy(view.block(candidate(0)), argument, out, column);
    }
  }

  @Override
  boolean agrees(WindowFunction other, int rank) {
    SlidingExtreme that = (SlidingExtreme) other;
    goTo(rank);
    that.goTo(rank);
    if (to != that.to || size != that.size) {
      return false;
    }
    for (int i = 0; i < size; i++) {
      if (view.block(candidate(i)) != that.view.block(that.candidate(i))) {
        return false;
      }
    }
    return true;
  }

  @Override
  Object save() {
    return growing ? new Saved(to, size == 0 ? -1 : candidate(0)) : null;
  }

  @Override
  int savedRows(Object saved) {
    return ((Saved) saved).to;
  }
}
