package dripledger.engine.row;

import java.nio.ByteBuffer;
import java.util.function.IntPredicate;

/**
 * A page as bytes, for the ledger: format version, count of columns (since version 2), row count,
 * then each row's length, weight and bytes. Rows are stored as they are in memory; a change of the
 * row format needs a new version here. Columns are only ever added at the end, so a page of fewer
 * columns is one from before they were.
 */
public final class PageCodec {
  private static final byte VERSION = 2;

  private PageCodec() {}

  public static byte[] encode(Page page) {
    ByteBuffer out = ByteBuffer.allocate(7 + page.size() * 12 + page.byteSize());
    out.put(VERSION).putShort((short) page.layout().columns()).putInt(page.size());
    for (int i = 0; i < page.size(); i++) {
      int length = page.end(i) - page.start(i);
      out.putInt(length).putLong(page.weight(i)).put(page.bytes(), page.start(i), length);
    }
    return java.util.Arrays.copyOf(out.array(), out.position());
  }

  /** Appends all rows; {@code keep} is asked with the index of each row in the encoded page. */
  public static void decode(byte[] encoded, Page into, IntPredicate keep) {
    ByteBuffer in = ByteBuffer.wrap(encoded);
    byte version = in.get();
    if (version < 1 || version > VERSION) {
      throw new IllegalStateException("unknown ledger page version " + version);
    }
    int columns = version == 1 ? into.layout().columns() : in.getShort();
    if (columns < into.layout().columns()) {
      Page narrow = new Page(into.layout().leading(columns));
      decode(encoded, narrow, keep);
      into.appendAll(narrow);
      return;
    }
    int rows = in.getInt();
    for (int i = 0; i < rows; i++) {
      int length = in.getInt();
      long weight = in.getLong();
      if (keep.test(i)) {
        into.append(encoded, in.position(), length, weight);
      }
      in.position(in.position() + length);
    }
  }
}
