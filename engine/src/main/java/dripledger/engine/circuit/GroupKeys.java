package dripledger.engine.circuit;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.KeyedArena;
import dripledger.engine.state.StateFormatException;
import dripledger.engine.store.KeyedStore;
import java.util.Arrays;

/**
 * The columns of a key as words of a {@link KeyedStore}, equal words for equal keys.
 *
 * <p>Columns of fixed size are a slot each, behind a word of null bits for every 64 of them if any
 * is nullable; so a single column that is NOT NULL is one word. A key with a column of variable
 * length is its row's length and bytes, padded; one that is too long for that is its length, with
 * the sign set, and the number under which its bytes are kept apart.
 */
final class GroupKeys {
  /** Bytes of text that a key holds inline. */
  private static final int INLINE_TEXT = 16;

  private final RowLayout input;
  private final RowLayout layout;
  private final int[] columns;
  private final boolean variable;
  private final int nullWords;
  private final int words;
  private final boolean integer; // whether the first column is an integer
  private final RowWriter writer;
  private final KeyedArena longKeys;

  GroupKeys(RowLayout input, int[] columns) {
    this(input, columns, new RowLayout(input.schema().project(columns)), null);
  }

  private GroupKeys(RowLayout input, int[] columns, RowLayout layout, KeyedArena kept) {
    this.input = input;
    this.columns = columns;
    this.layout = layout;
    variable = layout.anyVariable();
    boolean nullable = layout.schema().columns().stream().anyMatch(c -> c.type().nullable());
    nullWords = nullable ? (columns.length + 63) / 64 : 0;
    int inline = (layout.fixedBytes() + INLINE_TEXT + 7) / 8;
    words = variable ? 1 + inline : Math.max(1, nullWords + columns.length);
    integer = columns.length > 0 && layout.schema().type(0).kind().isInteger();
    writer = new RowWriter(layout, 256);
    longKeys = variable && kept == null ? new KeyedArena(-1, 0) : kept;
  }

  /** The same keys, of the same columns at other places of other rows. */
  GroupKeys over(RowLayout other, int[] places) {
    return new GroupKeys(other, places, layout, longKeys);
  }

  /** The layout of the key as a row. */
  RowLayout layout() {
    return layout;
  }

  int words() {
    return words;
  }

  /** Whether a key may be of variable length. */
  boolean isVariable() {
    return variable;
  }

  /** Words of null bits in front of a key of fixed size. */
  int nullWords() {
    return nullWords;
  }

  /** Whether a column of a key of fixed size is NULL. */
  boolean isNull(long[] page, int at, int column) {
    return nullWords > 0 && (page[at + column / 64] & 1L << column) != 0;
  }

  /** The one column whose slot is the whole key, or −1. */
  int plainColumn() {
    return !variable && nullWords == 0 && columns.length == 1 ? columns[0] : -1;
  }

  /** Writes the key of a row. */
  void encode(byte[] bytes, int row, long[] into, int at) {
    if (variable) {
      encodeVariable(bytes, row, into, at, true);
      return;
    }
    clear(into, at);
    for (int i = 0; i < columns.length; i++) {
      if (nullWords > 0 && input.isNull(bytes, row, columns[i])) {
        into[at + i / 64] |= 1L << i;
        into[at + nullWords + i] = 0;
      } else {
        into[at + nullWords + i] = input.slot(bytes, row, columns[i]);
      }
    }
  }

  /** Clears what is not written anyway: the null bits, or the word of no columns. */
  private void clear(long[] into, int at) {
    int unwritten = words - columns.length;
    for (int w = 0; w < unwritten; w++) {
      into[at + w] = 0;
    }
  }

  /** Writes the key of a row given by columns; only if it is of fixed size. */
  void encode(ColumnDelta delta, int row, long[] into, int at) {
    clear(into, at);
    for (int i = 0; i < columns.length; i++) {
      if (nullWords > 0 && (delta.nulls[row] & 1L << columns[i]) != 0) {
        into[at + i / 64] |= 1L << i;
        into[at + nullWords + i] = 0;
      } else {
        into[at + nullWords + i] = delta.columns[columns[i]][row];
      }
    }
  }

  /** Adds the columns that make the key. */
  void addColumns(boolean[] wanted) {
    for (int column : columns) {
      wanted[column] = true;
    }
  }

  /** As {@link #encode(byte[], int, long[], int)}, but a long key that is not known stays so. */
  void encodeKnown(byte[] bytes, int row, long[] into, int at) {
    if (variable) {
      encodeVariable(bytes, row, into, at, false);
    } else {
      encode(bytes, row, into, at);
    }
  }

  /** As {@link #encodeKnown(byte[], int, long[], int)} of many rows, one key after the other. */
  void encodeKnown(byte[] bytes, int[] rows, int count, long[] into) {
    if (variable || nullWords > 0 || columns.length == 0) {
      for (int i = 0; i < count; i++) {
        encodeKnown(bytes, rows[i], into, i * words);
      }
      return;
    }
    for (int c = 0; c < columns.length; c++) {
      int slot = input.slotOffset(columns[c]);
      for (int i = 0, at = c; i < count; i++, at += words) {
        into[at] = Bytes.getLong(bytes, rows[i] + slot);
      }
    }
  }

  private void encodeVariable(byte[] bytes, int row, long[] into, int at, boolean insert) {
    writer.truncate(0);
    writer.begin();
    for (int k = 0; k < columns.length; k++) {
      writer.copy(k, input, bytes, row, columns[k]);
    }
    encodeRow(writer.bytes(), writer.start(), writer.finish(), into, at, insert);
  }

  private void encodeRow(byte[] bytes, int start, int length, long[] into, int at, boolean insert) {
    Arrays.fill(into, at, at + words, 0);
    if (length > (words - 1) * 8) {
      into[at] = length | Long.MIN_VALUE;
      synchronized (longKeys) { // readers look keys up in it
        into[at + 1] =
            insert
                ? longKeys.findOrInsert(bytes, start, length)
                : longKeys.find(bytes, start, length);
      }
      return;
    }
    into[at] = length;
    int i = 0;
    for (; i + 8 <= length; i += 8) {
      into[at + 1 + i / 8] = Bytes.getLong(bytes, start + i);
    }
    long tail = 0;
    for (int shift = 0; i < length; i++, shift += 8) {
      tail |= (bytes[start + i] & 0xFFL) << shift;
      into[at + 1 + i / 8] = tail;
    }
  }

  /**
   * Writes the words of a key that is given as boxed values.
   *
   * @return whether there can be such a key
   * @throws IllegalArgumentException if a value does not fit its column
   */
  boolean encodeBoxed(Object[] values, long[] into) {
    if (plainColumn() >= 0 && values[0] instanceof Long number && integer) {
      into[0] = number;
      return true;
    }
    RowWriter own = new RowWriter(layout, 64);
    own.begin();
    BoxedRows.write(own, values);
    own.finish();
    return encodeKey(own.bytes(), own.start(), into);
  }

  /**
   * Writes the words of a key that is given as a row of {@link #layout}.
   *
   * @return whether there can be such a key; a long one that is not known has no words
   */
  boolean encodeKey(byte[] bytes, int start, long[] into) {
    if (!variable) {
      Arrays.fill(into, 0, words, 0);
      for (int i = 0; i < columns.length; i++) {
        if (nullWords > 0 && layout.isNull(bytes, start, i)) {
          into[i / 64] |= 1L << i;
        } else {
          into[nullWords + i] = layout.slot(bytes, start, i);
        }
      }
      return true;
    }
    int length = layout.length(bytes, start);
    if (length <= (words - 1) * 8) {
      encodeRow(bytes, start, length, into, 0, false);
      return true;
    }
    int known;
    synchronized (longKeys) {
      known = longKeys.find(bytes, start, length);
    }
    Arrays.fill(into, 0, words, 0);
    into[0] = length | Long.MIN_VALUE;
    into[1] = known;
    return known != 0;
  }

  /** Sets the leading columns of the row begun from a key. Any thread. */
  void write(long[] page, int at, RowWriter out) {
    write(page, at, out, 0);
  }

  /**
   * Sets columns of the row begun from a key. Any thread.
   *
   * @param first which column of the row is the key's first
   */
  void write(long[] page, int at, RowWriter out, int first) {
    if (!variable) {
      for (int i = 0; i < columns.length; i++) {
        if (nullWords > 0 && (page[at + i / 64] & 1L << i) != 0) {
          out.setNull(first + i);
        } else {
          out.setLong(first + i, page[at + nullWords + i]);
        }
      }
      return;
    }
    byte[] bytes;
    int start = 0;
    if (page[at] < 0) {
      int entry = (int) page[at + 1];
      bytes = longKeys.chunk(entry);
      start = longKeys.keyAt(entry);
    } else {
      bytes = new byte[(words - 1) * 8];
      for (int i = 0; i < words - 1; i++) {
        Bytes.putLong(bytes, i * 8, page[at + 1 + i]);
      }
    }
    for (int k = 0; k < columns.length; k++) {
      out.copy(first + k, layout, bytes, start, k);
    }
  }

  /**
   * Writes columns of a key, of fixed size, into a delta by columns. The writer's thread.
   *
   * @param which the columns of the key
   * @param row which row of the delta
   * @param first where in the delta the key's first column is
   */
  void columns(long[] page, int at, int[] which, ColumnDelta into, int row, int first) {
    if (variable) {
      writer.truncate(0);
      writer.begin();
      write(page, at, writer);
      writer.finish();
    }
    for (int column : which) {
      if (variable) {
        into.columns[first + column][row] = layout.slot(writer.bytes(), writer.start(), column);
        if (layout.isNull(writer.bytes(), writer.start(), column)) {
          into.nulls[row] |= 1L << first + column;
        }
        continue;
      }
      into.columns[first + column][row] = page[at + nullWords + column];
      if (isNull(page, at, column)) {
        into.nulls[row] |= 1L << first + column;
      }
    }
  }

  /** The slot of a column of a key that is of fixed size and not NULL. The writer's thread. */
  long slot(long[] page, int at, int column) {
    if (!variable) {
      return page[at + nullWords + column];
    }
    return layout.slot(row(page, at), 0, column);
  }

  /** The key as a row of {@link #layout}, for what is told of it. */
  byte[] row(long[] page, int at) {
    RowWriter own = new RowWriter(layout, 256);
    own.begin();
    write(page, at, own);
    int length = own.finish();
    return Arrays.copyOfRange(own.bytes(), own.start(), own.start() + length);
  }

  /** The key as checkpoints save it: its words, or its row if that is of variable length. */
  byte[] saved(long[] page, int at) {
    if (variable) {
      return row(page, at);
    }
    byte[] saved = new byte[8 * words];
    for (int i = 0; i < words; i++) {
      Bytes.putLong(saved, 8 * i, page[at + i]);
    }
    return saved;
  }

  /**
   * Writes the words of a key that was {@link #saved}, known or new.
   *
   * @throws StateFormatException if it is a key of other columns
   */
  void restore(byte[] bytes, int start, int length, long[] into) {
    if (variable) {
      encodeRow(bytes, start, length, into, 0, true);
      return;
    }
    if (length != 8 * words) {
      throw new StateFormatException("saved keys of another shape");
    }
    for (int i = 0; i < words; i++) {
      into[i] = Bytes.getLong(bytes, start + 8 * i);
    }
  }

  /** Gives back what is kept apart of a key that nobody can see any more. */
  void release(long[] page, int at) {
    if (variable && page[at] < 0) {
      synchronized (longKeys) {
        longKeys.remove((int) page[at + 1]);
      }
    }
  }

  long heapBytes() {
    return longKeys == null ? 0 : longKeys.heapBytes();
  }
}
