package dripledger.engine.circuit;

import dripledger.engine.row.RowLayout;
import dripledger.engine.row.SortKey;
import dripledger.engine.row.SortKeyCodec;

/**
 * A long that orders rows by one column as far as it goes: all of a column of fixed size, the first
 * eight bytes of the order-preserving encoding of another. NULL has that of the least or the
 * greatest value. One thread.
 */
final class LeadingKey {
  private final RowLayout layout;
  private final SortKey by;
  private final boolean floating;
  private final SortKeyCodec codec; // of a column of variable length, or null
  private final int skip; // the byte that tells NULL, which is the same for all others
  private final SortKeyCodec.ByteSink bytes = new SortKeyCodec.ByteSink();

  LeadingKey(RowLayout layout, SortKey by) {
    this.layout = layout;
    this.by = by;
    int column = by.column();
    floating = layout.schema().type(column).kind().isFloating();
    codec = layout.isVariable(column) ? new SortKeyCodec(layout, new int[] {column}) : null;
    skip = layout.schema().type(column).nullable() ? 1 : 0;
  }

  long of(byte[] row, int at) {
    boolean isNull = layout.isNull(row, at, by.column());
    if (codec == null) {
      return of(isNull, isNull ? 0 : layout.slot(row, at, by.column()));
    }
    return isNull ? ofNull() : directed(prefix(row, at));
  }

  /** Of a column of fixed size. */
  long of(boolean isNull, long slot) {
    return isNull ? ofNull() : directed(floating && slot < 0 ? slot ^ Long.MAX_VALUE : slot);
  }

  private long ofNull() {
    return by.nullsFirst() ? Long.MIN_VALUE : Long.MAX_VALUE;
  }

  private long directed(long key) {
    return by.descending() ? ~key : key;
  }

  private long prefix(byte[] row, int at) {
    bytes.clear();
    codec.encode(row, at, bytes);
    long prefix = 0;
    for (int i = skip; i < skip + 8; i++) {
      prefix = prefix << 8 | (i < bytes.size() ? bytes.bytes()[i] & 0xFF : 0);
    }
    return prefix ^ Long.MIN_VALUE;
  }
}
