package dripledger.engine.circuit;

import dripledger.engine.row.Bytes;
import dripledger.engine.row.SortKeyCodec;

/** Compares the values that rows have in one column. One thread. */
final class ValueOrder {
  private final OrderedRows rows;
  private final int column;
  private final boolean plain;
  private final boolean floating;
  private final SortKeyCodec codec;
  private final SortKeyCodec.ByteSink left = new SortKeyCodec.ByteSink();
  private final SortKeyCodec.ByteSink right = new SortKeyCodec.ByteSink();

  ValueOrder(OrderedRows rows, int column) {
    this.rows = rows;
    this.column = column;
    plain = !rows.layout.isVariable(column);
    floating = rows.layout.schema().type(column).kind().isFloating();
    codec = new SortKeyCodec(rows.layout, new int[] {column});
  }

  /** Compares two values, neither of which is NULL. */
  int compare(int block, int other) {
    if (plain) {
      long a = rows.slot(block, column);
      long b = rows.slot(other, column);
      return floating
          ? Long.compare(a < 0 ? a ^ Long.MAX_VALUE : a, b < 0 ? b ^ Long.MAX_VALUE : b)
          : Long.compare(a, b);
    }
    encode(block, left);
    encode(other, right);
    return Bytes.compare(left.bytes(), 0, left.size(), right.bytes(), 0, right.size());
  }

  private void encode(int block, SortKeyCodec.ByteSink into) {
    into.clear();
    int start = rows.row(block);
    codec.encode(rows.rowBytes(), start, into);
  }
}
