package dripledger.engine.row;

import java.nio.ByteBuffer;
import java.util.function.IntPredicate;

/**
 * A page as bytes, for the ledger: format version, row count, then each row's length, weight and
 * bytes. Rows are stored as they are in memory; a change of the row format needs a new version
 * here.
 */
public final class PageCodec {
  private static final byte VERSION = 1;

  private PageCodec() {}

  public static byte[] encode(Page page) {
    ByteBuffer out = ByteBuffer.allocate(5 + page.size() * 12 + page.byteSize());
    out.put(VERSION).putInt(page.size());
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
    if (version != VERSION) {
      throw new IllegalStateException("unknown ledger page version " + version);
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
