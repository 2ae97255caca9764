package dripledger.engine.circuit;

import java.util.function.IntConsumer;

/**
 * Rows kept in order that end with the watermark, by a time of theirs; one whose time is NULL does
 * not. Written by one thread.
 */
final class RowEnds {
  private final OrderedRows rows;
  private final int column;
  private final EndTimes times = new EndTimes();

  RowEnds(OrderedRows rows, int column) {
    this.rows = rows;
    this.column = column;
  }

  /** Notes a row that has come. */
  void note(int block) {
    if (!rows.isNull(block, column)) {
      times.add(rows.slot(block, column), block);
    }
  }

  /** Whether a row that was not there is of what has ended; it is dropped then. */
  boolean drops(int block) {
    if (rows.isNull(block, column) || !times.isOver(rows.slot(block, column))) {
      return false;
    }
    rows.drop(block);
    return true;
  }

  /** Gives the rows that end up to a time; each may be given more than once. */
  void endUpTo(long time, IntConsumer sink) {
    times.endUpTo(
        time,
        block -> {
          boolean own = rows.store.isLive(block) && !rows.isNull(block, column);
          if (own && times.isOver(rows.slot(block, column))) {
            sink.accept(block);
          }
        });
  }

  /** Goes on with the rows that were restored, from where everything up to a time was over. */
  void restored(long time) {
    times.restored(time);
    for (int block = 0; block < rows.store.ownLimit(); block++) {
      if (rows.store.isLive(block)) {
        note(block);
      }
    }
  }

  long heapBytes() {
    return times.heapBytes();
  }
}
