package dripledger.engine.circuit;

import dripledger.engine.plan.Ending;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.store.KeyedStore;
import java.util.function.IntConsumer;

/**
 * The groups of an aggregate that end by a time in their key: which are due, and what comes for
 * those that have ended, which is left out and counted. Written by one thread.
 */
final class TimedGroups implements GroupEnds {
  private final Ending ending;
  private final RowLayout input;
  private final int column; // of the input
  private final GroupKeys keys;
  private final KeyedStore groups;
  private final LateRows late;
  private final EndTimes times = new EndTimes();
  private final Page open;
  private ColumnDelta openColumns;
  private long over = Long.MIN_VALUE;

  TimedGroups(
      Ending ending,
      RowLayout input,
      int[] groupColumns,
      GroupKeys keys,
      KeyedStore groups,
      LateRows late) {
    this.ending = ending;
    this.input = input;
    column = groupColumns[ending.column()];
    this.keys = keys;
    this.groups = groups;
    this.late = late;
    open = new Page(input);
  }

  @Override
  public boolean publish() {
    return ending.publishes();
  }

  @Override
  public long over() {
    return over;
  }

  /** Notes a group that has come. */
  void note(int block) {
    times.add(time(block), block);
  }

  private long time(int block) {
    return keys.slot(groups.page(block), groups.header(block) + 1, ending.column());
  }

  @Override
  public void endUpTo(long watermark, IntConsumer sink) {
    long upTo = EndTimes.upTo(watermark, ending.delayMicros());
    if (upTo != Long.MAX_VALUE) {
      over = Math.max(over, upTo);
    }
    times.endUpTo(
        upTo,
        block -> {
          if (groups.isLive(block) && times.isOver(time(block))) {
            sink.accept(block);
          }
        });
  }

  /** The changes to groups that have not ended: the page itself, if that is all of them. */
  Page open(Page delta) {
    if (!times.anyOver()) {
      return delta;
    }
    int first = 0;
    while (first < delta.size() && isOpen(delta, first)) {
      first++;
    }
    if (first == delta.size()) {
      return delta;
    }
    open.clear();
    for (int i = 0; i < delta.size(); i++) {
      if (i < first || isOpen(delta, i)) {
        open.append(delta.bytes(), delta.start(i), delta.end(i) - delta.start(i), delta.weight(i));
      } else {
        leaveOut(delta, i);
      }
    }
    return open;
  }

  private boolean isOpen(Page delta, int i) {
    return !times.isOver(input.slot(delta.bytes(), delta.start(i), column));
  }

  /** As above, of a delta by columns. */
  ColumnDelta open(ColumnDelta delta) {
    if (!times.anyOver()) {
      return delta;
    }
    long[] at = delta.columns[column];
    int first = 0;
    while (first < delta.size && !times.isOver(at[first])) {
      first++;
    }
    if (first == delta.size) {
      return delta;
    }
    if (openColumns == null) {
      openColumns = delta.sameColumns();
    }
    openColumns.size = 0;
    for (int i = 0; i < delta.size; i++) {
      if (!times.isOver(at[i])) {
        openColumns.add(delta, i);
      } else {
        if (delta.weights[i] > 0) {
          late.add(over - at[i], delta, i);
        }
      }
    }
    return openColumns;
  }

  private void leaveOut(Page delta, int i) {
    if (delta.weight(i) > 0) {
      long time = input.slot(delta.bytes(), delta.start(i), column);
      late.add(over - time, delta.weight(i), delta.bytes(), delta.start(i));
    }
  }

  @Override
  public void restored(long watermark) {
    over = EndTimes.upTo(watermark, ending.delayMicros());
    over = over == Long.MAX_VALUE ? Long.MIN_VALUE : over;
    times.restored(over);
    for (int block = 0; block < groups.blockLimit(); block++) {
      if (groups.isLive(block)) {
        note(block);
      }
    }
  }

  @Override
  public long heapBytes() {
    return times.heapBytes() + open.heapBytes();
  }
}
