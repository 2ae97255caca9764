package dripledger.engine.row;

import java.util.List;

/**
 * An order of rows by several columns, each up or down, with NULL first or last: encodes what a row
 * is ordered by so that unsigned comparison of the bytes is the order. As {@link SortKeyCodec},
 * with the bytes of a descending column flipped. Not thread-safe.
 */
public final class RowOrder {
  private final RowLayout layout;
  private final List<SortKey> keys;
  private final SortKeyCodec[] codecs;

  public RowOrder(RowLayout layout, List<SortKey> keys) {
    this.layout = layout;
    this.keys = List.copyOf(keys);
    codecs =
        keys.stream()
            .map(key -> new SortKeyCodec(layout, new int[] {key.column()}))
            .toArray(SortKeyCodec[]::new);
  }

  /** Appends what a row is ordered by. */
  public void encode(byte[] row, int at, SortKeyCodec.ByteSink out) {
    for (int i = 0; i < codecs.length; i++) {
      SortKey key = keys.get(i);
      int from = out.size();
      codecs[i].encode(row, at, out);
      byte[] bytes = out.bytes();
      for (int b = from; key.descending() && b < out.size(); b++) {
        bytes[b] = (byte) ~bytes[b];
      }
      if (layout.isNull(row, at, key.column())) {
        bytes[from] = (byte) (key.nullsFirst() ? 0 : 255); // beside 1, or 254, of values
      }
    }
  }
}
