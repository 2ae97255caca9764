package dripledger.engine.view;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.state.SortedBag;
import java.nio.charset.StandardCharsets;
import java.util.Arrays;
import java.util.function.Consumer;

/**
 * The rows of a view or table at one epoch, in key order. Immutable; every method is safe from any
 * thread. Rows that are there n times are met n times.
 */
public final class RelationVersion {
  private static final int PIECE_ROWS = 16_384;

  private final RowLayout layout;
  private final SortKeyCodec codec;
  private final int[] key;
  private final SortedBag rows;

  RelationVersion(RowLayout layout, SortKeyCodec codec, int[] key, SortedBag rows) {
    this.layout = layout;
    this.codec = codec;
    this.key = key;
    this.rows = rows;
  }

  /** Receives a row by place; the array is never written again. */
  @FunctionalInterface
  public interface RowVisitor {
    /** Answers whether to go on. */
    boolean visit(byte[] bytes, int at);
  }

  public RowLayout layout() {
    return layout;
  }

  public Schema schema() {
    return layout.schema();
  }

  /** The columns rows are ordered by. */
  public int[] key() {
    return key.clone();
  }

  /** The exact number of rows, in O(1). */
  public long count() {
    return rows.weight();
  }

  public long heapBytes() {
    return rows.heapBytes();
  }

  /**
   * The bytes of a key or of its leading columns.
   *
   * @param values boxed values of the leading key columns
   * @throws IllegalArgumentException if a value does not fit its column
   */
  public byte[] encodeKey(Object... values) {
    int[] leading = Arrays.copyOf(key, values.length);
    RowLayout keyLayout = new RowLayout(layout.schema().project(leading));
    RowWriter writer = new RowWriter(keyLayout, 64);
    writer.begin();
    BoxedRows.write(writer, values);
    int[] all = new int[values.length];
    Arrays.setAll(all, i -> i);
    SortKeyCodec.ByteSink sink = new SortKeyCodec.ByteSink();
    new SortKeyCodec(keyLayout, all).encode(writer.bytes(), 0, sink);
    return sink.toByteArray();
  }

  /** The bytes all keys start with whose next column, a VARCHAR, starts with the text. */
  public byte[] encodeTextPrefix(byte[] leadingKey, int column, String text) {
    ColumnType type = layout.schema().type(key[column]);
    SortKeyCodec.ByteSink sink = new SortKeyCodec.ByteSink();
    sink.put(leadingKey, 0, leadingKey.length);
    if (type.nullable()) {
      sink.putByte(1);
    }
    for (byte b : text.getBytes(StandardCharsets.UTF_8)) {
      sink.putByte(b);
      if (b == 0) {
        sink.putByte(-1);
      }
    }
    return sink.toByteArray();
  }

  /** Visits the rows whose key starts with the bytes given, in order. */
  public void prefix(byte[] keyPrefix, boolean descending, RowVisitor visitor) {
    range(keyPrefix, successor(keyPrefix), descending, visitor);
  }

  /** The smallest bytes above all that start with {@code prefix}; null if there are none. */
  private static byte[] successor(byte[] prefix) {
    int last = prefix.length - 1;
    while (last >= 0 && prefix[last] == -1) {
      last--;
    }
    if (last < 0) {
      return null;
    }
    byte[] end = Arrays.copyOf(prefix, last + 1);
    end[last]++;
    return end;
  }

  /**
   * Visits the rows with {@code from <= key < to}.
   *
   * @param from encoded key or leading part of one, or null for the start
   * @param to encoded key or leading part of one, or null for the end
   */
  public void range(byte[] from, byte[] to, boolean descending, RowVisitor visitor) {
    SortedBag.Cursor cursor = rows.cursor();
    boolean there;
    if (!descending) {
      there = from == null ? cursor.first() : cursor.seek(from, 0, from.length);
    } else if (to == null) {
      there = cursor.last();
    } else {
      there = cursor.seek(to, 0, to.length) ? cursor.previous() : cursor.last();
    }
    while (there) {
      byte[] bound = descending ? from : to;
      if (bound != null) {
        int order =
            Arrays.compareUnsigned(
                cursor.bytes(), cursor.start(), cursor.end(), bound, 0, bound.length);
        if (descending ? order < 0 : order >= 0) {
          return;
        }
      }
      for (long n = cursor.weight(); n > 0; n--) {
        if (!visitor.visit(cursor.bytes(), cursor.keyEnd())) {
          return;
        }
      }
      there = descending ? cursor.previous() : cursor.next();
    }
  }

  /** Gives all rows in pages of a bounded size; a page is reused once the sink returns. */
  public void scan(Consumer<Page> sink) {
    Page page = new Page(layout);
    SortedBag.Cursor cursor = rows.cursor();
    for (boolean there = cursor.first(); there; there = cursor.next()) {
      page.append(cursor.bytes(), cursor.keyEnd(), cursor.end() - cursor.keyEnd(), cursor.weight());
      if (page.size() >= PIECE_ROWS) {
        sink.accept(page);
        page.clear();
      }
    }
    if (!page.isEmpty()) {
      sink.accept(page);
    }
  }

  /** Gives the changes that lead from an older version to this one. */
  public void changesSince(RelationVersion older, Consumer<Page> sink) {
    Page page = new Page(layout);
    rows.differenceFrom(
        older.rows,
        (bytes, from, keyEnd, to, weight) -> {
          page.append(bytes, keyEnd, to - keyEnd, weight);
          if (page.size() >= PIECE_ROWS) {
            sink.accept(page);
            page.clear();
          }
        });
    if (!page.isEmpty()) {
      sink.accept(page);
    }
  }

  /** This version with a delta applied, for statements of an open transaction. */
  public RelationVersion with(Page delta) {
    return new RelationVersion(
        layout, codec, key, new ViewStore(layout.schema(), key).applied(rows, delta));
  }
}
