package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import java.util.stream.IntStream;

/**
 * What a join puts out: pairs of rows, and rows alone with NULLs for the other side; as rows, or by
 * the columns that are read if an aggregate takes them so. One thread.
 */
final class JoinOutput {
  private final JoinSide[] sides;
  private final int leftColumns;
  private final Page rows;
  private final Operator next;
  private final int port;
  private final GroupAggregate groups; // who takes columns, or null
  private final ColumnDelta columns;
  private final int[][] read; // for each side, which of its columns
  private final boolean pairs; // whether a row has columns of the right side

  /**
   * @param pairs whether rows are of both sides; otherwise they are of the left
   * @param next who takes what is put out, or null if it stays in {@link #rows}
   */
  JoinOutput(RowLayout layout, boolean pairs, JoinSide[] sides, Operator next, int port) {
    this.pairs = pairs;
    this.sides = sides;
    this.next = next;
    this.port = port;
    leftColumns = sides[0].layout.columns();
    rows = new Page(layout);
    boolean columnar =
        next instanceof GroupAggregate taker
            && taker.takesColumns()
            && layout.columns() <= ColumnDelta.MAX_COLUMNS;
    groups = columnar ? (GroupAggregate) next : null;
    if (!columnar) {
      columns = null;
      read = null;
      return;
    }
    boolean[] wanted = new boolean[layout.columns()];
    groups.addColumnsRead(wanted);
    columns = new ColumnDelta(wanted);
    read =
        new int[][] {
          IntStream.range(0, leftColumns).filter(c -> wanted[c]).toArray(),
          IntStream.range(leftColumns, wanted.length)
              .filter(c -> wanted[c])
              .map(c -> c - leftColumns)
              .toArray()
        };
  }

  private int firstColumn(int side) {
    return side == 0 ? 0 : leftColumns;
  }

  /** Whether so much has been put out that it should be handed on. */
  boolean isFull() {
    return columns != null ? columns.size >= ColumnDelta.ROWS : rows.size() >= ColumnDelta.ROWS;
  }

  private int begin(long weight) {
    int at = columns.size++;
    columns.nulls[at] = 0;
    columns.weights[at] = weight;
    return at;
  }

  /**
   * A pair.
   *
   * @param side of the row that is given; the other's row is there
   * @throws RowWriter.RowTooLargeException if it is; nothing is put out then
   */
  void pair(int side, byte[] bytes, int row, int number, long weight) {
    if (columns != null) {
      int at = begin(weight);
      sides[side].columns(bytes, row, read[side], columns, at, firstColumn(side));
      sides[1 - side].columns(number, read[1 - side], columns, at, firstColumn(1 - side));
      return;
    }
    write(side, bytes, row, number, rows.begin());
    rows.commit(weight);
  }

  /** Writes a pair's columns into a row that was begun. */
  void write(int side, byte[] bytes, int row, int number, RowWriter writer) {
    if (side == 0) {
      writer.copyAll(0, sides[0].layout, bytes, row);
      sides[1].write(number, writer, leftColumns);
    } else {
      sides[0].write(number, writer, 0);
      writer.copyAll(leftColumns, sides[1].layout, bytes, row);
    }
  }

  /** A row by itself. */
  void alone(int side, byte[] bytes, int row, long weight) {
    if (columns != null) {
      int at = begin(weight);
      sides[side].columns(bytes, row, read[side], columns, at, firstColumn(side));
      nulls(1 - side, at);
      return;
    }
    RowWriter writer = rows.begin();
    if (side == 0) {
      writer.copyAll(0, sides[0].layout, bytes, row);
      nulls(1, writer);
    } else {
      nulls(0, writer);
      writer.copyAll(leftColumns, sides[1].layout, bytes, row);
    }
    rows.commit(weight);
  }

  /** A row that is there by itself. */
  void alone(int side, int number, long weight) {
    if (columns != null) {
      int at = begin(weight);
      sides[side].columns(number, read[side], columns, at, firstColumn(side));
      nulls(1 - side, at);
      return;
    }
    RowWriter writer = rows.begin();
    if (side == 0) {
      sides[0].write(number, writer, 0);
      nulls(1, writer);
    } else {
      nulls(0, writer);
      sides[1].write(number, writer, leftColumns);
    }
    rows.commit(weight);
  }

  private void nulls(int side, int at) {
    if (!pairs) {
      return;
    }
    for (int c : read[side]) {
      columns.columns[firstColumn(side) + c][at] = 0;
      columns.nulls[at] |= 1L << firstColumn(side) + c;
    }
  }

  private void nulls(int side, RowWriter writer) {
    if (!pairs) {
      return;
    }
    int from = firstColumn(side);
    for (int c = from; c < from + sides[side].layout.columns(); c++) {
      writer.setNull(c);
    }
  }

  /** What was put out and nobody takes; the owner clears it. */
  Page rows() {
    return rows;
  }

  void handOn() {
    if (columns != null) {
      if (columns.size > 0) {
        groups.push(columns);
        columns.size = 0;
      }
    } else if (next != null && !rows.isEmpty()) {
      next.push(port, rows);
      rows.clear();
    }
  }
}
