package dripledger.engine.circuit;

import dripledger.engine.row.Bytes;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Blobs;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.Versions;
import java.util.Arrays;

/**
 * The rows of a store that has one for each key. A row of fixed size is in its block: in the words
 * of its key and, what is not of the key, in those of the state behind a word of null bits; of
 * another the state's one word says where its bytes are. Written by one thread; what is read of
 * words that were read at a version is right for any thread as long as the version is kept.
 */
final class BlockRows {
  /** Columns of a row that is in its block at most. */
  private static final int MAX_INLINE = 24;

  private final RowLayout layout;
  private final int keyWords;
  private final Blobs blobs; // of rows that are not in their blocks, or null
  private final int[] rest; // columns that are not of the key
  private final int restNulls; // words of null bits in front of them
  private final int[] wordOf; // where each column is, from the key's first word on
  private final int[] nullWordOf; // where its null bit is, or −1
  private final long[] nullBitOf;
  private final RowWriter saving;

  /**
   * @param key columns of which no two rows have the same values
   * @param keys how they are made words
   */
  BlockRows(RowLayout layout, int[] key, GroupKeys keys, Versions versions) {
    this.layout = layout;
    saving = new RowWriter(layout, 64);
    keyWords = keys.words();
    boolean inline = !layout.anyVariable() && layout.columns() <= MAX_INLINE;
    blobs = inline ? null : new Blobs(versions);
    wordOf = new int[layout.columns()];
    nullWordOf = new int[layout.columns()];
    nullBitOf = new long[layout.columns()];
    Arrays.fill(nullWordOf, -1);
    rest = new int[layout.columns() - key.length];
    boolean[] ofKey = new boolean[layout.columns()];
    for (int k = 0; k < key.length; k++) {
      ofKey[key[k]] = true;
      wordOf[key[k]] = keys.nullWords() + k;
      nullWordOf[key[k]] = keys.nullWords() > 0 ? 0 : -1;
      nullBitOf[key[k]] = 1L << k;
    }
    boolean nullable = false;
    for (int c = 0, r = 0; c < ofKey.length; c++) {
      if (!ofKey[c]) {
        rest[r++] = c;
        nullable |= layout.schema().type(c).nullable();
      }
    }
    restNulls = inline && nullable ? 1 : 0;
    for (int r = 0; r < rest.length; r++) {
      wordOf[rest[r]] = keyWords + restNulls + r;
      nullWordOf[rest[r]] = restNulls > 0 ? keyWords : -1;
      nullBitOf[rest[r]] = 1L << r;
    }
  }

  /** Words of state that a row takes. */
  int stateWords() {
    return blobs == null ? restNulls + rest.length : 1;
  }

  // ---- writing

  /** Puts a row into a block that has none, or whose row was {@link #retire retired}. */
  void set(long[] page, int state, byte[] bytes, int row) {
    if (blobs != null) {
      page[state] = blobs.put(bytes, row, layout.length(bytes, row));
      return;
    }
    long nulls = 0;
    for (int r = 0; r < rest.length; r++) {
      page[state + restNulls + r] = layout.slot(bytes, row, rest[r]);
      if (restNulls > 0 && layout.isNull(bytes, row, rest[r])) {
        nulls |= 1L << r;
      }
    }
    if (restNulls > 0) {
      page[state] = nulls;
    }
  }

  /** Says that a block's row goes; older versions show it still. */
  void retire(long[] page, int state) {
    if (blobs != null) {
      blobs.retire(page[state]);
    }
  }

  /** Whether a row that has a block's key is the block's. */
  boolean isRow(long[] page, int state, byte[] bytes, int row) {
    if (blobs != null) {
      long place = page[state];
      int length = Blobs.length(place);
      return length == layout.length(bytes, row)
          && Bytes.equal(blobs.bytes(place), blobs.start(place), bytes, row, length);
    }
    for (int r = 0; r < rest.length; r++) {
      if (page[state + restNulls + r] != layout.slot(bytes, row, rest[r])
          || restNulls > 0 && (page[state] & 1L << r) != 0 != layout.isNull(bytes, row, rest[r])) {
        return false;
      }
    }
    return true;
  }

  // ---- reading

  /** Sets all columns of the row begun: the block's words are from its key's first on. */
  void row(long[] words, int at, RowWriter out) {
    if (blobs != null) {
      long place = words[at + keyWords];
      out.setRow(blobs.bytes(place), blobs.start(place), Blobs.length(place));
      return;
    }
    for (int c = 0; c < wordOf.length; c++) {
      column(words, at, c, out, c);
    }
  }

  private void column(long[] words, int at, int column, RowWriter out, int to) {
    if (isNull(words, at, column)) {
      out.setNull(to);
    } else {
      out.setLong(to, words[at + wordOf[column]]);
    }
  }

  private boolean isNull(long[] words, int at, int column) {
    return nullWordOf[column] >= 0 && (words[at + nullWordOf[column]] & nullBitOf[column]) != 0;
  }

  /**
   * Sets some columns of the row begun.
   *
   * @param picked which
   * @param first where the first of them goes
   */
  void write(long[] words, int at, int[] picked, RowWriter out, int first) {
    if (blobs == null) {
      for (int c = 0; c < picked.length; c++) {
        column(words, at, picked[c], out, first + c);
      }
      return;
    }
    long place = words[at + keyWords];
    byte[] bytes = blobs.bytes(place);
    int start = blobs.start(place);
    for (int c = 0; c < picked.length; c++) {
      out.copy(first + c, layout, bytes, start, picked[c]);
    }
  }

  /**
   * Writes some columns, of fixed size, into a delta by columns.
   *
   * @param picked columns of the row
   * @param which of those picked
   * @param to which row of the delta
   * @param first where in the delta the first of those picked is
   */
  void columns(
      long[] words, int at, int[] picked, int[] which, ColumnDelta into, int to, int first) {
    byte[] bytes = null;
    int start = 0;
    if (blobs != null) {
      long place = words[at + keyWords];
      bytes = blobs.bytes(place);
      start = blobs.start(place);
    }
    for (int c : which) {
      int column = picked[c];
      boolean isNull;
      if (bytes == null) {
        into.columns[first + c][to] = words[at + wordOf[column]];
        isNull = isNull(words, at, column);
      } else {
        into.columns[first + c][to] = layout.slot(bytes, start, column);
        isNull = layout.isNull(bytes, start, column);
      }
      if (isNull) {
        into.nulls[to] |= 1L << first + c;
      }
    }
  }

  /** Reads something of the row, so that loads wait for memory together; nothing of use. */
  long touch(long[] words, int at) {
    if (blobs == null) {
      return 0;
    }
    long place = words[at + keyWords];
    return blobs.bytes(place)[blobs.start(place)];
  }

  // ---- upkeep

  /** Writes the row of a block's words as a checkpoint saves it. Any thread. */
  void save(long[] words, StateChunks.Writer out) {
    synchronized (saving) {
      saving.truncate(0);
      saving.begin();
      row(words, 0, saving);
      int length = saving.finish();
      out.put(saving.bytes(), saving.start(), length);
    }
  }

  void join(Versions graph) {
    if (blobs != null) {
      blobs.join(graph);
    }
  }

  void close() {
    if (blobs != null) {
      blobs.close();
    }
  }

  /** Heap held besides the blocks, in bytes. */
  long heapBytes() {
    return blobs == null ? 0 : blobs.heapBytes();
  }
}
