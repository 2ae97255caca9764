package dripledger.engine.query;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowOrder;
import dripledger.engine.row.SortKey;
import dripledger.engine.row.SortKeyCodec;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * The rows of an answer in the order that was asked for: sorted by the same order-preserving bytes
 * that keys are, and never more of them kept than are asked for and about as many again. Single
 * use, single thread.
 */
final class SortedRows {
  private static final int SLACK = 10_000;

  private final RowOrder order;
  private final long wanted;
  private final SortKeyCodec.ByteSink sink = new SortKeyCodec.ByteSink();
  private final List<Row> rows = new ArrayList<>();

  private record Row(byte[] key, byte[] bytes) implements Comparable<Row> {
    @Override
    public int compareTo(Row other) {
      return Arrays.compareUnsigned(key, other.key);
    }
  }

  /**
   * @param wanted how many rows are asked for, or −1 for all
   */
  SortedRows(RowLayout layout, List<SortKey> order, long wanted) {
    this.order = new RowOrder(layout, order);
    this.wanted = wanted;
  }

  /** Takes in the rows of a page, each as often as it is there. */
  void add(Page page) {
    for (int i = 0; i < page.size(); i++) {
      byte[] bytes = null;
      byte[] key = null;
      for (long n = page.weight(i); n > 0; n--) {
        if (bytes == null) {
          bytes = Arrays.copyOfRange(page.bytes(), page.start(i), page.end(i));
          key = key(bytes);
        }
        rows.add(new Row(key, bytes));
      }
    }
    if (wanted >= 0 && rows.size() > 4 * wanted + SLACK) {
      rows.sort(null);
      rows.subList((int) wanted, rows.size()).clear();
    }
  }

  private byte[] key(byte[] row) {
    sink.clear();
    order.encode(row, 0, sink);
    return sink.toByteArray();
  }

  /** How many rows are kept now. */
  int size() {
    return rows.size();
  }

  /** The rows from one place on and before another, in order. */
  List<byte[]> between(long from, long to) {
    rows.sort(null);
    int first = (int) Math.min(rows.size(), from);
    int last = (int) Math.min(rows.size(), to);
    return rows.subList(first, Math.max(first, last)).stream().map(Row::bytes).toList();
  }
}
