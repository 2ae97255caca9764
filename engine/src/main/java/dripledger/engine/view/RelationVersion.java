package dripledger.engine.view;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKeyCodec;
import java.nio.charset.StandardCharsets;
import java.util.Arrays;
import java.util.List;
import java.util.function.Consumer;

/**
 * The rows of a view or table at one epoch, in key order. Every method is safe from any thread, as
 * long as the {@link Pinned} snapshot it is from is open. Rows that are there n times are met n
 * times.
 */
public interface RelationVersion {
  /** Rows given at once by {@link #scan}. */
  int PIECE_ROWS = 16_384;

  /** Receives a row by place; the bytes are only valid during the call. */
  @FunctionalInterface
  interface RowVisitor {
    /** Answers whether to go on. */
    boolean visit(byte[] bytes, int at);
  }

  RowLayout layout();

  /** The columns rows are ordered by. */
  int[] key();

  /** The same rows in the orders of their indexes: their {@link #key} is what each is by. */
  default List<RelationVersion> others() {
    return List.of();
  }

  /** The exact number of rows, in O(1). */
  long count();

  /** Heap that these rows alone hold, in bytes; 0 if they are read from operator state. */
  long heapBytes();

  /**
   * Visits the rows with {@code from <= key < to}.
   *
   * @param from encoded key or leading part of one, or null for the start
   * @param to encoded key or leading part of one, or null for the end
   */
  void range(byte[] from, byte[] to, boolean descending, RowVisitor visitor);

  /** Gives all rows in pages of a bounded size; a page is reused once the sink returns. */
  void scan(Consumer<Page> sink);

  /**
   * Visits the rows with a key, or with the leading columns of one.
   *
   * @throws IllegalArgumentException if a value does not fit its column
   */
  default void find(Object[] values, RowVisitor visitor) {
    prefix(encodeKey(values), false, visitor);
  }

  /** Whether rows are found by this many leading columns of the key without reading all. */
  default boolean finds(int columns) {
    return true;
  }

  /**
   * Whether rows are given in the order of the key without being sorted first: the order is there,
   * or is worth making because it was asked for before. Counts as asking.
   */
  default boolean worthOrder() {
    return true;
  }

  default Schema schema() {
    return layout().schema();
  }

  /**
   * The bytes of a key or of its leading columns.
   *
   * @param values boxed values of the leading key columns
   * @throws IllegalArgumentException if a value does not fit its column
   */
  default byte[] encodeKey(Object... values) {
    int[] leading = Arrays.copyOf(key(), values.length);
    RowLayout keyLayout = new RowLayout(schema().project(leading));
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
  default byte[] encodeTextPrefix(byte[] leadingKey, int column, String text) {
    ColumnType type = schema().type(key()[column]);
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
  default void prefix(byte[] keyPrefix, boolean descending, RowVisitor visitor) {
    range(keyPrefix, successor(keyPrefix), descending, visitor);
  }

  /** The smallest bytes above all that start with {@code prefix}; null if there are none. */
  static byte[] successor(byte[] prefix) {
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
}
