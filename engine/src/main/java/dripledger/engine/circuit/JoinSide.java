package dripledger.engine.circuit;

import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.state.Durable;
import dripledger.engine.store.JoinIndex;
import dripledger.engine.store.JoinIndex.Rows;
import dripledger.engine.store.Versions;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * The rows of one input of a join, each known by a number, by what they are joined on. One thread.
 *
 * <p>Rows come in batches of up to {@value #AHEAD}: {@link #ahead} makes their keys and looks for
 * what they lead to, on both sides, so that the loads wait for memory together. What is said of a
 * row of the batch names it by its place in it.
 */
abstract class JoinSide {
  /** Rows looked at together. */
  static final int AHEAD = 128;

  private static final int FEW = 8;

  final RowLayout layout;
  private final int side;
  private final JoinIndex index;
  private final GroupKeys keys;
  private final int keyWords;
  private final int[] columns; // joined on
  private final boolean[] nullMatches; // whether NULL equals NULL in them
  private final RowWriter keyRow;
  private final int plain; // the column that is the whole key, or −1

  // Of the batch at hand: its keys, one after the other those that are the same once.
  private final int[] keyOf = new int[AHEAD];
  private int distinct;
  private final long[] words;
  private final long[] hashes = new long[AHEAD];
  private final boolean[] canMatch = new boolean[AHEAD];
  private final int[] places = new int[AHEAD];
  private final int[] ownFirst = new int[AHEAD];
  private final int[] otherFirst = new int[AHEAD];
  private final int[] reached = new int[AHEAD];

  /** What the two sides of a join have together: the form of its keys, and where rows are. */
  static final class Shared {
    private final GroupKeys keys;
    private final JoinIndex index;

    /**
     * @param layout of either side
     * @param columns joined on
     * @param rows what is known of each side's
     */
    Shared(RowLayout layout, List<Integer> columns, List<Boolean> nullMatches, Rows... rows) {
      RowLayout keyLayout = keyLayout(layout, columns, nullMatches);
      keys = new GroupKeys(keyLayout, all(keyLayout.columns()));
      index = new JoinIndex(keys.words(), rows, keys::release);
    }

    long heapBytes() {
      return keys.heapBytes() + index.heapBytes();
    }
  }

  /** What one side is made of. */
  record Input(
      int side,
      RowLayout layout,
      List<Integer> columns,
      List<Boolean> nullMatches,
      Shared shared) {}

  JoinSide(Input input) {
    layout = input.layout();
    side = input.side();
    index = input.shared().index;
    keys = input.shared().keys;
    keyWords = keys.words();
    columns = input.columns().stream().mapToInt(Integer::intValue).toArray();
    nullMatches = new boolean[columns.length];
    for (int i = 0; i < columns.length; i++) {
      nullMatches[i] = input.nullMatches().get(i);
    }
    keyRow = new RowWriter(keyLayout(layout, input.columns(), input.nullMatches()), 64);
    words = new long[AHEAD * keyWords];
    plain = keys.plainColumn() >= 0 ? columns[0] : -1;
  }

  /** Equal on both sides, so that the words of a key are. */
  private static RowLayout keyLayout(RowLayout layout, List<Integer> on, List<Boolean> nullable) {
    List<Column> columns = new ArrayList<>();
    for (int i = 0; i < on.size(); i++) {
      Column column = layout.schema().column(on.get(i));
      columns.add(new Column(column.name(), column.type().withNullable(nullable.get(i))));
    }
    return new RowLayout(new Schema(columns));
  }

  static int[] all(int count) {
    int[] all = new int[count];
    Arrays.setAll(all, i -> i);
    return all;
  }

  // ---- a batch

  /** Makes ready for a batch of rows, which need not be there. */
  final void ahead(Page delta, int from, int count) {
    distinct = 0;
    for (int i = 0; i < count; i++) {
      canMatch[distinct] = encode(distinct, delta.bytes(), delta.start(from + i), false);
      keyOf[i] = isAsBefore(distinct) ? distinct - 1 : distinct++;
    }
    index.ahead(side, words, distinct, hashes, places, ownFirst, otherFirst);
    rowsAhead(delta, from, count);
  }

  /**
   * Makes the words of a row's key.
   *
   * @param key which of the batch's it is
   * @param insert whether a long key that is not known is made known
   * @return whether it can match anything: what it is joined on is not NULL
   */
  private boolean encode(int key, byte[] bytes, int row, boolean insert) {
    int at = key * keyWords;
    if (keys.isVariable()) {
      return encodeVariable(bytes, row, at, insert);
    }
    if (plain >= 0 && !layout.isNull(bytes, row, plain)) {
      words[at] = layout.slot(bytes, row, plain);
      return true;
    }
    int nullWords = keys.nullWords();
    for (int w = 0; w < nullWords; w++) {
      words[at + w] = 0;
    }
    for (int c = 0; c < columns.length; c++) {
      if (!layout.isNull(bytes, row, columns[c])) {
        words[at + nullWords + c] = layout.slot(bytes, row, columns[c]);
      } else if (nullMatches[c]) {
        words[at + c / 64] |= 1L << c;
        words[at + nullWords + c] = 0;
      } else {
        Arrays.fill(words, at, at + keyWords, 0);
        return false;
      }
    }
    return true;
  }

  private boolean encodeVariable(byte[] bytes, int row, int at, boolean insert) {
    if (!keyRow(bytes, row)) {
      Arrays.fill(words, at, at + keyWords, 0);
      return false;
    }
    if (insert) {
      keys.encode(keyRow.bytes(), keyRow.start(), words, at);
    } else {
      keys.encodeKnown(keyRow.bytes(), keyRow.start(), words, at);
    }
    return true;
  }

  private boolean keyRow(byte[] bytes, int row) {
    keyRow.truncate(0);
    keyRow.begin();
    for (int c = 0; c < columns.length; c++) {
      if (!nullMatches[c] && layout.isNull(bytes, row, columns[c])) {
        return false;
      }
      keyRow.copy(c, layout, bytes, row, columns[c]);
    }
    keyRow.finish();
    return true;
  }

  /** A long key is known by a number, which is not right for ever. */
  final boolean isLongKey(int key) {
    return keys.isVariable() && words[key * keyWords] < 0;
  }

  /** Whether a key is that of the row before; keys that are not known may differ. */
  private boolean isAsBefore(int key) {
    int at = key * keyWords;
    return key > 0
        && canMatch[key] == canMatch[key - 1]
        && words[at] == words[at - keyWords]
        && (!isLongKey(key) || words[at + 1] != 0)
        && Arrays.equals(words, at, at + keyWords, words, at - keyWords, at);
  }

  /** Looks for the rows that a batch of the other side matches, of each key the first few. */
  void aheadOf(JoinSide other) {
    System.arraycopy(other.otherFirst, 0, reached, 0, other.distinct);
    for (int i = 0; i < FEW; i++) {
      lookAhead(reached, other.distinct);
      if (index.nextAhead(side, reached, other.distinct) == 0) {
        return;
      }
    }
  }

  /** The form of keys on either side. */
  final GroupKeys keyForm() {
    return keys;
  }

  /** The columns that are joined on. */
  final int[] joinedOn() {
    return columns;
  }

  /** Whether a row can match anything. */
  final boolean canMatch(byte[] bytes, int row) {
    for (int c = 0; c < columns.length; c++) {
      if (!nullMatches[c] && layout.isNull(bytes, row, columns[c])) {
        return false;
      }
    }
    return true;
  }

  /** What a row is joined on, equal where that is; null if it can match nothing. */
  final byte[] keyOf(byte[] bytes, int row) {
    return keyRow(bytes, row)
        ? Arrays.copyOfRange(keyRow.bytes(), keyRow.start(), keyRow.end())
        : null;
  }

  /** How many keys the batch has, one after the other those that are the same once. */
  final int keyCount() {
    return distinct;
  }

  /** The words of the batch's keys, one after the other. */
  final long[] keyWords() {
    return words;
  }

  /**
   * Where rows of the other side were last seen, by the batch's keys, if they are kept elsewhere.
   */
  final int[] noted() {
    return otherFirst;
  }

  /** Notes where the row of one of the batch's keys is that is kept elsewhere. */
  final void note(int key, int row) {
    index.note(1 - side, hashes[key], words, key * keyWords, places[key], row);
  }

  /** Which of the batch's keys a row has. */
  final int keyNumber(int i) {
    return keyOf[i];
  }

  /** Whether a row of the batch can match anything. */
  final boolean canMatch(int i) {
    return canMatch[keyOf[i]];
  }

  /** The first row of the other side that one of the batch matches, or {@link JoinIndex#NONE}. */
  final int firstOfOther(int i) {
    return otherFirst[keyOf[i]];
  }

  /** The key of a row of the batch, whatever its form. */
  final byte[] keyBytes(int i, byte[] bytes, int row) {
    if (keys.isVariable()) {
      keyRow(bytes, row);
      return Arrays.copyOfRange(keyRow.bytes(), keyRow.start(), keyRow.end());
    }
    return keys.saved(words, keyOf[i] * keyWords);
  }

  /** The first row of this side with the key of one of the batch, or {@link JoinIndex#NONE}. */
  final int firstOfOwn(int i) {
    return ownFirst[keyOf[i]];
  }

  /**
   * Whether a row of the batch, which goes, and the next, which comes, are one row that changes and
   * is joined as before.
   */
  final boolean isUpdate(int i, byte[] bytes, int row, int newRow) {
    return keyOf[i] == keyOf[i + 1]
        && canMatch[keyOf[i]]
        && !isLongKey(keyOf[i])
        && canReplace(i, bytes, row, newRow);
  }

  /** Puts a row of the batch under its key. */
  final void put(int i, byte[] bytes, int row, int number) {
    int key = keyOf[i];
    if (isLongKey(key)) {
      encode(key, bytes, row, true);
      places[key] = -1;
      hashes[key] = index.hash(words, key * keyWords);
    }
    index.add(side, hashes[key], words, key * keyWords, places[key], number);
  }

  /** Takes a row of the batch from under its key. */
  final void drop(int i, byte[] bytes, int row, int number) {
    int key = keyOf[i];
    if (isLongKey(key)) {
      encode(key, bytes, row, false);
      hashes[key] = index.hash(words, key * keyWords);
    }
    index.remove(side, hashes[key], words, key * keyWords, number);
  }

  /** Puts a row that was restored under its key; no batch is at hand. */
  final void putRestored(byte[] bytes, int row, int number) {
    encode(0, bytes, row, true);
    hashes[0] = index.hash(words, 0);
    index.add(side, hashes[0], words, 0, -1, number);
  }

  /** Takes a row from under its key; no batch is at hand. */
  final void dropEnded(byte[] bytes, int row, int number) {
    encode(0, bytes, row, false);
    index.remove(side, index.hash(words, 0), words, 0, number);
  }

  /** Looks for the rows of a batch themselves. */
  abstract void rowsAhead(Page delta, int from, int count);

  /** Whether a row that goes and one that comes are the same by {@link #replace}'s lights. */
  abstract boolean canReplace(int i, byte[] bytes, int row, int newRow);

  /**
   * Puts a row in, or takes it out.
   *
   * @param i its place in the batch
   * @param matches how many rows of the other side it meets
   */
  abstract void add(int i, byte[] bytes, int row, long weight, long matches);

  /** Puts the next row of the batch in the place of one, if {@link #isUpdate}. */
  abstract void replace(int i, byte[] bytes, int row, int newRow, long matches);

  // ---- rows that are there

  /**
   * The first row of this side that one of the other's batch matches, or {@link JoinIndex#NONE}.
   */
  int first(JoinSide other, int i, byte[] bytes, int row) {
    return other.firstOfOther(i);
  }

  /** The next row of the same key, or {@link JoinIndex#NONE}. */
  int next(int number) {
    return index.next(side, number);
  }

  /** Reads rows, so that their loads wait for memory together; a number below 0 is none. */
  abstract void lookAhead(int[] numbers, int count);

  abstract long weight(int number);

  /** Writes a row into a page's row that was begun, its first column at a place. */
  abstract void write(int number, RowWriter out, int firstColumn);

  /**
   * Writes columns of a row, of fixed size, into a delta by columns.
   *
   * @param which the columns
   * @param at which row of the delta
   * @param firstColumn where in the delta the row's first column is
   */
  abstract void columns(int number, int[] which, ColumnDelta into, int at, int firstColumn);

  /** As {@link #columns(int, int[], ColumnDelta, int, int)}, of a row that is given. */
  final void columns(
      byte[] bytes, int row, int[] which, ColumnDelta into, int at, int firstColumn) {
    for (int c : which) {
      into.columns[firstColumn + c][at] = layout.slot(bytes, row, c);
      if (layout.isNull(bytes, row, c)) {
        into.nulls[at] |= 1L << firstColumn + c;
      }
    }
  }

  /** How many rows a row has met. */
  abstract long met(int number);

  /** Says that a row has met more; answers how many it had met before. */
  abstract long meet(int number, long more);

  abstract boolean isThere(int number);

  /** All numbers are below this. */
  abstract int limit();

  /** Ends an epoch. */
  void settle() {}

  abstract void join(Versions graph);

  abstract void close();

  /** What a checkpoint saves; null if nothing is kept. */
  abstract Durable durable();

  /** Says how far time has come: what can meet no more is kept no longer. */
  void endUpTo(long watermark) {}

  /**
   * Puts rows that were restored under their keys.
   *
   * @param watermark that of the last {@link #endUpTo} before they were saved
   */
  void restored(long watermark) {
    RowWriter row = new RowWriter(layout, 256);
    int limit = limit();
    for (int number = 0; number < limit; number++) {
      if (isThere(number)) {
        row.truncate(0);
        row.begin();
        write(number, row, 0);
        row.finish();
        putRestored(row.bytes(), row.start(), number);
      }
    }
  }

  /** Heap held, in bytes, without what the sides have together. */
  abstract long heapBytes();

  /** Rows that are kept. */
  abstract long size();
}
