package dripledger.engine.circuit;

import dripledger.engine.row.RowWriter;

/**
 * What one function says of the rows of a partition, asked for row by row in order. Used by one
 * thread, for one view of a partition after the other.
 */
abstract class WindowFunction {
  PartitionViews.View view;

  /**
   * Begins with a partition.
   *
   * @param saved what {@link #save} answered of rows that are still the same, or null to begin with
   *     the first row that can be asked for
   */
  void begin(PartitionViews.View of, Object saved) {
    view = of;
  }

  /** Sets the column to what is said of a row. */
  abstract void write(int rank, RowWriter out, int column);

  /** The place of a row that a ranking function gives it. */
  long place(int rank) {
    throw new IllegalStateException("only rankings give places");
  }

  /**
   * Whether what another function of the same kind says will be the same from here on, if all that
   * follows is the same.
   */
  abstract boolean agrees(WindowFunction other, int rank);

  /** What is to be kept of the rows before, so that a later evaluation can begin here; or null. */
  Object save() {
    return null;
  }

  /** How many of the first rows {@link #save} stands for. */
  int savedRows(Object saved) {
    return 0;
  }
}
