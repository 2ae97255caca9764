package dripledger.engine.circuit;

import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.state.Durable;
import dripledger.engine.store.HashIndex;
import dripledger.engine.store.Versions;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * The rows of one input of a join, each known by a number, by what they are joined on. One thread.
 */
abstract class JoinSide {
  final RowLayout layout;
  final HashIndex index;
  final long[] own; // the key of the row at hand
  private final int[] columns; // joined on
  private final boolean[] nullMatches; // whether NULL equals NULL in them
  private final GroupKeys keys;
  private final RowWriter keyRow;
  private int[] aheadNumbers = new int[0];
  private long[] aheadKeys;

  /**
   * @param columns joined on
   * @param nullMatches for each whether NULL equals NULL
   */
  JoinSide(RowLayout layout, List<Integer> columns, List<Boolean> nullMatches) {
    this.layout = layout;
    this.columns = columns.stream().mapToInt(Integer::intValue).toArray();
    this.nullMatches = new boolean[this.columns.length];
    List<Column> keyColumns = new ArrayList<>();
    for (int i = 0; i < this.columns.length; i++) {
      this.nullMatches[i] = nullMatches.get(i);
      Column column = layout.schema().column(this.columns[i]);
      // Equal on both sides, so that the words of a key of fixed size are.
      keyColumns.add(new Column(column.name(), column.type().withNullable(nullMatches.get(i))));
    }
    RowLayout keyLayout = new RowLayout(new Schema(keyColumns));
    keyRow = new RowWriter(keyLayout, 64);
    keys = new GroupKeys(keyLayout, all(keyLayout.columns()));
    index = new HashIndex(keys.words(), keys::release);
    own = new long[keys.words()];
  }

  /**
   * The side of an input.
   *
   * @param counts whether rows are to know how many they have met
   * @param appendOnly whether the input never takes a row out
   */
  static JoinSide of(
      RowLayout layout,
      List<Integer> columns,
      List<Boolean> nullMatches,
      boolean counts,
      boolean appendOnly,
      Versions versions) {
    return appendOnly && !counts
        ? new LoggedSide(layout, columns, nullMatches)
        : new CountedSide(layout, columns, nullMatches, counts, versions);
  }

  static int[] all(int count) {
    int[] all = new int[count];
    Arrays.setAll(all, i -> i);
    return all;
  }

  RowLayout layout() {
    return layout;
  }

  /**
   * Goes to a row of this side, which need not be there.
   *
   * @return whether it can match anything: what it is joined on is not NULL
   */
  final boolean at(byte[] bytes, int row) {
    if (keys.isVariable()) {
      return keyRow(bytes, row);
    }
    int nullWords = keys.nullWords();
    Arrays.fill(own, 0);
    for (int i = 0; i < columns.length; i++) {
      if (!layout.isNull(bytes, row, columns[i])) {
        own[nullWords + i] = layout.slot(bytes, row, columns[i]);
      } else if (nullMatches[i]) {
        own[i / 64] |= 1L << i;
      } else {
        return false;
      }
    }
    return true;
  }

  private boolean keyRow(byte[] bytes, int row) {
    keyRow.truncate(0);
    keyRow.begin();
    for (int i = 0; i < columns.length; i++) {
      if (!nullMatches[i] && layout.isNull(bytes, row, columns[i])) {
        return false;
      }
      keyRow.copy(i, layout, bytes, row, columns[i]);
    }
    keyRow.finish();
    return true;
  }

  /**
   * Looks for what some rows of this side lead to, here and on the other side, so that their loads
   * wait for memory together.
   */
  final void ahead(Page delta, int from, int count, JoinSide other) {
    rowsAhead(delta, from, count);
    if (keys.isVariable()) {
      return;
    }
    int keyWords = keys.words();
    if (aheadNumbers.length < count) {
      aheadNumbers = new int[count];
      aheadKeys = new long[count * keyWords];
    }
    byte[] bytes = delta.bytes();
    for (int i = 0; i < count; i++) {
      at(bytes, delta.start(from + i));
      System.arraycopy(own, 0, aheadKeys, i * keyWords, keyWords);
    }
    index.firstAhead(aheadKeys, count, aheadNumbers);
    index.lookAhead(aheadNumbers, count);
    other.index.firstAhead(aheadKeys, count, aheadNumbers);
    other.index.lookAhead(aheadNumbers, count);
    other.lookAhead(aheadNumbers, count);
  }

  /** Looks for the rows themselves. */
  abstract void rowsAhead(Page delta, int from, int count);

  /** Reads rows, so that their loads wait for memory together; a number below 0 is none. */
  abstract void lookAhead(int[] numbers, int count);

  /**
   * The first row of the other side that matches one of those that {@link #ahead} was told of, at
   * which this is; or {@link HashIndex#NONE}.
   */
  final int firstOf(JoinSide other, int i) {
    return keys.isVariable() ? other.first(this) : aheadNumbers[i];
  }

  private int first(JoinSide other) {
    if (!keys.isVariable()) {
      return index.first(other.own);
    }
    RowWriter wanted = other.keyRow;
    return keys.encodeKey(wanted.bytes(), wanted.start(), own) ? index.first(own) : HashIndex.NONE;
  }

  final int next(int number) {
    return index.next(number);
  }

  abstract long weight(int number);

  /** Writes a row into a page's row that was begun, its first column at a place. */
  abstract void write(int number, RowWriter out, int firstColumn);

  /** How many rows a row has met. */
  abstract long met(int number);

  /** Says that a row has met more; answers how many it had met before. */
  abstract long meet(int number, long more);

  abstract boolean isThere(int number);

  /** All numbers are below this. */
  abstract int limit();

  /**
   * Puts the row in that it is at, or takes it out.
   *
   * @param i which of those that {@link #ahead} was told of it is
   * @param matches how many rows of the other side it meets
   */
  abstract void add(int i, byte[] bytes, int row, long weight, long matches);

  /** Makes words of the key of the row it is at, which is or will be there. */
  final void encodeOwn() {
    if (keys.isVariable()) {
      keys.encode(keyRow.bytes(), keyRow.start(), own, 0);
    }
  }

  abstract void join(Versions graph);

  abstract void close();

  /** What a checkpoint saves. */
  abstract Durable durable();

  /** Makes the index of rows that were restored. */
  abstract void restored();

  /** Heap held, in bytes. */
  long heapBytes() {
    return keys.heapBytes() + index.heapBytes();
  }

  /** Rows that are kept. */
  abstract long size();
}
