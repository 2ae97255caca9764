package dripledger.engine.circuit;

import dripledger.engine.circuit.Strays.Stray;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.JoinIndex;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.Arrays;
import java.util.List;

/**
 * A side of an input that has a key: one row a key, which is the key of its block, so that a row
 * that changes stays where it is, see {@link BlockRows}. Behind it the state says how many rows of
 * the other input the row has met, if the join asks for it.
 */
final class KeyedSide extends JoinSide implements SavedStore.Form {
  private final boolean byJoinKey; // then the rows of the join's keys are those of the own
  private final boolean counts;
  private final GroupKeys rowKeys;
  private final int keyWords;
  private final KeyedStore store;
  private final BlockRows rows;
  private final SavedStore saved;
  private final int[] columns; // all of them
  private final int metAt; // where in the state the count is
  private final int[] keyOf = new int[AHEAD]; // of the batch at hand, as those of the join
  private final int[] aheadBlocks = new int[AHEAD];
  private final long[] aheadHashes = new long[AHEAD];
  private final long[] aheadKeys;
  private final Strays strays = new Strays();
  private List<Stray> walked = List.of(); // those that a row of the other side is looking at

  @SuppressWarnings("UnusedVariable")
  private long touched; // what was read only to have it near

  /**
   * @param key the columns of which no two rows have the same values
   * @param byJoinKey whether that is what the join is on
   * @param counts whether rows are to know how many they have met
   */
  KeyedSide(Input input, List<Integer> key, boolean byJoinKey, boolean counts, Versions versions) {
    super(input);
    this.byJoinKey = byJoinKey;
    this.counts = counts;
    int[] keyColumns = key.stream().mapToInt(Integer::intValue).toArray();
    rowKeys = new GroupKeys(layout, keyColumns);
    keyWords = rowKeys.words();
    rows = new BlockRows(layout, keyColumns, rowKeys, versions);
    columns = all(layout.columns());
    metAt = rows.stateWords();
    store = new KeyedStore(versions, keyWords, metAt + (counts ? 1 : 0), 64);
    store.onRelease(rowKeys::release);
    saved = new SavedStore(store, rowKeys, versions, this);
    aheadKeys = new long[AHEAD * keyWords];
  }

  // ---- a batch

  @Override
  void rowsAhead(Page delta, int from, int count) {
    int distinct = 0;
    for (int i = 0; i < count; i++) {
      int at = distinct * keyWords;
      rowKeys.encodeKnown(delta.bytes(), delta.start(from + i), aheadKeys, at);
      if (distinct > 0 && isAsBefore(at)) {
        keyOf[i] = distinct - 1;
        continue;
      }
      aheadHashes[distinct] = store.hashOf(aheadKeys, at);
      aheadBlocks[distinct] = byJoinKey ? firstOfOwn(i) : KeyedStore.NONE;
      keyOf[i] = distinct++;
    }
    if (byJoinKey) {
      touched = store.lookAhead(aheadBlocks, distinct);
    } else {
      store.findAhead(aheadKeys, aheadHashes, aheadBlocks, distinct, keyWords);
    }
  }

  /** Whether a key is that of the row before; those of variable length that are long may differ. */
  private boolean isAsBefore(int at) {
    return aheadKeys[at] == aheadKeys[at - keyWords]
        && (!rowKeys.isVariable() || aheadKeys[at] >= 0)
        && Arrays.equals(aheadKeys, at, at + keyWords, aheadKeys, at - keyWords, at);
  }

  /** The block of a row's key, dead or alive, or none. */
  private int block(int i, byte[] bytes, int row, boolean insert) {
    int key = keyOf[i];
    int at = key * keyWords;
    if (aheadBlocks[key] == KeyedStore.NONE) { // or one before it in the batch has made it
      if (insert && rowKeys.isVariable()) {
        rowKeys.encode(bytes, row, aheadKeys, at);
        aheadHashes[key] = store.hashOf(aheadKeys, at);
      }
      aheadBlocks[key] = store.find(aheadHashes[key], aheadKeys, at);
    }
    return aheadBlocks[key];
  }

  private boolean isLive(int block) {
    return block != KeyedStore.NONE && store.isLive(block);
  }

  @Override
  boolean canReplace(int i, byte[] bytes, int row, int newRow) {
    int block = aheadBlocks[keyOf[i]];
    return keyOf[i + 1] == keyOf[i] && isLive(block) && isRow(block, bytes, row);
  }

  @Override
  void replace(int i, byte[] bytes, int row, int newRow, long matches) {
    int block = aheadBlocks[keyOf[i]];
    store.change(block);
    rows.retire(store.page(block), store.state(block));
    setRow(block, bytes, newRow);
    setMet(block, matches);
  }

  @Override
  void add(int i, byte[] bytes, int row, long weight, long matches) {
    int block = block(i, bytes, row, weight > 0);
    if (weight == 1 && !isLive(block)) {
      int key = keyOf[i];
      block = store.changeOrInsert(aheadHashes[key], aheadKeys, key * keyWords);
      aheadBlocks[key] = block;
      setRow(block, bytes, row);
      setMet(block, matches);
      put(i, bytes, row, block);
    } else if (weight == -1 && isLive(block) && isRow(block, bytes, row)) {
      drop(i, bytes, row, block);
      rows.retire(store.page(block), store.state(block));
      store.remove(block);
    } else {
      int length = layout.length(bytes, row);
      strays.add(keyBytes(i, bytes, row), bytes, row, length, weight, matches);
    }
  }

  /**
   * Rows that came before the one of their key went are put in its place.
   *
   * @throws IllegalStateException if a key is there twice, or what went was not there
   */
  @Override
  void settle() {
    if (strays.isEmpty()) {
      return;
    }
    List<Stray> left = strays.take();
    Page page = new Page(layout);
    for (long weight = -1; weight <= 1; weight += 2) {
      for (Stray stray : left) {
        if (stray.weight == weight) {
          page.clear();
          page.append(stray.row, 0, stray.row.length, weight);
          ahead(page, 0, 1);
          add(0, page.bytes(), page.start(0), weight, stray.met);
        }
      }
    }
    if (!strays.isEmpty() || left.stream().anyMatch(s -> Math.abs(s.weight) > 1)) {
      throw new IllegalStateException("a key is there twice, or a row went that was not there");
    }
  }

  // ---- the row of a block

  private void setRow(int block, byte[] bytes, int row) {
    rows.set(store.page(block), store.state(block), bytes, row);
  }

  private void setMet(int block, long matches) {
    if (counts) {
      store.page(block)[store.state(block) + metAt] = matches;
    }
  }

  private boolean isRow(int block, byte[] bytes, int row) {
    return rows.isRow(store.page(block), store.state(block), bytes, row);
  }

  // ---- rows that are there; a number below that of none is a stray's

  private Stray stray(int number) {
    return walked.get(JoinIndex.NONE - 1 - number);
  }

  private int strayFrom(int place) {
    return place < walked.size() ? JoinIndex.NONE - 1 - place : JoinIndex.NONE;
  }

  @Override
  int first(JoinSide other, int i, byte[] bytes, int row) {
    int first = super.first(other, i, bytes, row);
    if (strays.isEmpty()) {
      return first;
    }
    walked = strays.of(other.keyBytes(i, bytes, row));
    return first != JoinIndex.NONE ? first : strayFrom(0);
  }

  @Override
  int next(int number) {
    if (number < JoinIndex.NONE) {
      return strayFrom(JoinIndex.NONE - number);
    }
    int next = super.next(number);
    return next == JoinIndex.NONE && !strays.isEmpty() ? strayFrom(0) : next;
  }

  @Override
  void lookAhead(int[] numbers, int count) {
    touched = store.lookAhead(numbers, count);
  }

  @Override
  long weight(int number) {
    return number < JoinIndex.NONE ? stray(number).weight : 1;
  }

  @Override
  void write(int number, RowWriter out, int firstColumn) {
    if (number < JoinIndex.NONE) {
      writeRow(stray(number).row, 0, out, firstColumn);
      return;
    }
    rows.write(store.page(number), store.header(number) + 1, columns, out, firstColumn);
  }

  private void writeRow(byte[] bytes, int row, RowWriter out, int firstColumn) {
    for (int c = 0; c < layout.columns(); c++) {
      out.copy(firstColumn + c, layout, bytes, row, c);
    }
  }

  @Override
  void columns(int number, int[] which, ColumnDelta into, int to, int firstColumn) {
    if (number < JoinIndex.NONE) {
      columns(stray(number).row, 0, which, into, to, firstColumn);
      return;
    }
    rows.columns(
        store.page(number), store.header(number) + 1, columns, which, into, to, firstColumn);
  }

  @Override
  long met(int number) {
    return number < JoinIndex.NONE
        ? stray(number).met
        : store.page(number)[store.state(number) + metAt];
  }

  @Override
  long meet(int number, long more) {
    long before = met(number);
    if (number < JoinIndex.NONE) {
      stray(number).met += more;
    } else {
      store.change(number);
      setMet(number, before + more);
    }
    return before;
  }

  @Override
  boolean isThere(int number) {
    return store.isLive(number);
  }

  @Override
  int limit() {
    return store.ownLimit();
  }

  @Override
  void join(Versions graph) {
    store.join(graph);
    saved.join(graph);
    rows.join(graph);
  }

  @Override
  void close() {
    store.close();
    rows.close();
  }

  // ---- checkpoints

  @Override
  Durable durable() {
    return saved;
  }

  @Override
  public long save(long[] block, StateChunks.Writer out) {
    rows.save(block, out);
    if (counts) {
      out.putLong(block[keyWords + metAt]);
    }
    return 1;
  }

  @Override
  public void restore(long[] key, byte[] bytes, int value, int length, long count) {
    long hash = store.hashOf(key, 0);
    int known = store.find(hash, key, 0);
    if (isLive(known)) {
      rows.retire(store.page(known), store.state(known));
    }
    if (count == 0) {
      if (isLive(known)) {
        store.remove(known);
      }
      return;
    }
    int block = store.changeOrInsert(hash, key, 0);
    setRow(block, bytes, value);
    setMet(block, counts ? Bytes.getLong(bytes, value + length - 8) : 0);
  }

  @Override
  long heapBytes() {
    return store.heapBytes() + rowKeys.heapBytes() + rows.heapBytes();
  }

  @Override
  long size() {
    return store.size();
  }
}
