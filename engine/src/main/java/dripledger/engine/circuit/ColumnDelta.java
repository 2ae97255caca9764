package dripledger.engine.circuit;

import java.util.Arrays;

/**
 * A piece of a delta by columns of fixed size, of which only those are there that somebody reads:
 * how one step's state hands its changes to another's without making rows. A column is its slots; a
 * slot that is NULL has its column's bit in the row's word of nulls. One thread; used again and
 * again.
 */
public final class ColumnDelta {
  /** Rows of a piece. */
  static final int ROWS = 512;

  /** Columns a word of nulls has bits for. */
  static final int MAX_COLUMNS = 64;

  final long[][] columns;
  final long[] nulls = new long[ROWS];
  final long[] weights = new long[ROWS];
  private final long[][] there;
  int size;

  /**
   * @param wanted which columns to keep
   */
  ColumnDelta(boolean[] wanted) {
    columns = new long[wanted.length][];
    int count = 0;
    for (int c = 0; c < wanted.length; c++) {
      if (wanted[c]) {
        columns[c] = new long[ROWS];
        count++;
      }
    }
    there = new long[count][];
    for (int c = 0, n = 0; c < wanted.length; c++) {
      if (wanted[c]) {
        there[n++] = columns[c];
      }
    }
  }

  /**
   * All columns.
   *
   * @param count how many
   */
  ColumnDelta(int count) {
    this(all(count));
  }

  private static boolean[] all(int count) {
    boolean[] all = new boolean[count];
    Arrays.fill(all, true);
    return all;
  }

  /** An empty one of the same columns. */
  ColumnDelta sameColumns() {
    boolean[] wanted = new boolean[columns.length];
    for (int c = 0; c < wanted.length; c++) {
      wanted[c] = columns[c] != null;
    }
    return new ColumnDelta(wanted);
  }

  /** Adds a row of one of the same columns. */
  void add(ColumnDelta other, int row) {
    for (int c = 0; c < columns.length; c++) {
      if (columns[c] != null) {
        columns[c][size] = other.columns[c][row];
      }
    }
    nulls[size] = other.nulls[row];
    weights[size++] = other.weights[row];
  }

  /** If the last two rows are the same for who reads them, neither is a change. */
  void dropIfSame() {
    int last = size - 1;
    if (nulls[last] != nulls[last - 1]) {
      return;
    }
    for (long[] column : there) {
      if (column[last] != column[last - 1]) {
        return;
      }
    }
    size -= 2;
  }
}
