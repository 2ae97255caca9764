package dripledger.engine.circuit;

import dripledger.engine.row.Bytes;
import dripledger.engine.row.Column;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.HashIndex;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * The rows of one input of a join, by what they are joined on. A row is the key of its block; its
 * state is how many times it is there and, if the join asks for it, how many rows of the other
 * input it has met. One thread.
 */
final class JoinSide implements SavedStore.Form {
  private static final int WEIGHT = 0;
  private static final int MATCHES = 1;

  private final RowLayout layout;
  private final int[] columns; // joined on
  private final boolean[] nullMatches; // whether NULL equals NULL in them
  private final boolean counts;
  private final GroupKeys rows;
  private final KeyedStore store;
  private final SavedStore saved;
  private final GroupKeys keys;
  private final HashIndex index;
  private final RowWriter keyRow;
  private final long[] rowWords;
  private final long[] own; // the key of the row at hand

  /**
   * @param columns joined on
   * @param nullMatches for each whether NULL equals NULL
   * @param counts whether rows are to know how many they have met
   */
  JoinSide(
      RowLayout layout,
      List<Integer> columns,
      List<Boolean> nullMatches,
      boolean counts,
      Versions versions) {
    this.layout = layout;
    this.columns = columns.stream().mapToInt(Integer::intValue).toArray();
    this.counts = counts;
    this.nullMatches = new boolean[this.columns.length];
    List<Column> keyColumns = new ArrayList<>();
    for (int i = 0; i < this.columns.length; i++) {
      this.nullMatches[i] = nullMatches.get(i);
      Column column = layout.schema().column(this.columns[i]);
      // Equal on both sides, so that the words of a key of fixed size are.
      keyColumns.add(new Column(column.name(), column.type().withNullable(nullMatches.get(i))));
    }
    rows = new GroupKeys(layout, all(layout.columns()));
    store = new KeyedStore(versions, rows.words(), counts ? 2 : 1, 64);
    store.onRelease(rows::release);
    saved = new SavedStore(store, rows, versions, this);
    RowLayout keyLayout = new RowLayout(new Schema(keyColumns));
    keyRow = new RowWriter(keyLayout, 64);
    keys = new GroupKeys(keyLayout, all(keyLayout.columns()));
    index = new HashIndex(keys.words(), keys::release);
    rowWords = new long[rows.words()];
    own = new long[keys.words()];
  }

  private static int[] all(int count) {
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
  boolean at(byte[] bytes, int row) {
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

  /** The first row here that matches the row another side is at, or {@link HashIndex#NONE}. */
  int first(JoinSide other) {
    if (!keys.isVariable()) {
      return index.first(other.own);
    }
    RowWriter wanted = other.keyRow;
    return keys.encodeKey(wanted.bytes(), wanted.start(), own) ? index.first(own) : HashIndex.NONE;
  }

  int next(int block) {
    return index.next(block);
  }

  long weight(int block) {
    return store.page(block)[store.state(block) + WEIGHT];
  }

  /** Writes a row into a page's row that was begun, its first column at a place. */
  void write(int block, RowWriter out, int firstColumn) {
    rows.write(store.page(block), store.header(block) + 1, out, firstColumn);
  }

  /** How many rows a row has met. */
  long met(int block) {
    return store.page(block)[store.state(block) + MATCHES];
  }

  boolean isThere(int block) {
    return store.isLive(block);
  }

  /** All blocks have numbers below this. */
  int blockLimit() {
    return store.ownLimit();
  }

  /** Says that a row has met more; answers how many it had met before. */
  long meet(int block, long more) {
    store.change(block);
    long[] page = store.page(block);
    int at = store.state(block) + MATCHES;
    long before = page[at];
    page[at] = before + more;
    return before;
  }

  /**
   * Puts the row in that it is at, or takes it out.
   *
   * @param matches how many rows of the other side it meets
   */
  void add(byte[] bytes, int row, long weight, long matches) {
    rows.encode(bytes, row, rowWords, 0);
    long hash = store.hashOf(rowWords, 0);
    int block = store.find(hash, rowWords, 0);
    boolean there = block != KeyedStore.NONE && store.isLive(block);
    if (!there) {
      block = store.changeOrInsert(hash, rowWords, 0);
      encodeOwn();
      index.add(own, block);
    } else {
      store.change(block);
    }
    long[] page = store.page(block);
    int at = store.state(block);
    page[at + WEIGHT] += weight;
    if (counts) {
      page[at + MATCHES] = matches;
    }
    if (page[at + WEIGHT] == 0) {
      encodeOwn();
      index.remove(own, block);
      store.remove(block);
    }
  }

  /** Makes words of the key of the row it is at, which is or will be there. */
  private void encodeOwn() {
    if (keys.isVariable()) {
      keys.encode(keyRow.bytes(), keyRow.start(), own, 0);
    }
  }

  void tidy() {
    index.tidy();
  }

  void join(Versions graph) {
    store.join(graph);
    saved.join(graph);
  }

  void close() {
    store.close();
  }

  // ---- checkpoints

  Durable durable() {
    return saved;
  }

  @Override
  public long save(long[] block, StateChunks.Writer out) {
    if (counts) {
      byte[] met = new byte[8]; // any thread
      Bytes.putLong(met, 0, block[rows.words() + MATCHES]);
      out.put(met, 0, 8);
    }
    return block[rows.words() + WEIGHT];
  }

  @Override
  public void restore(long[] key, byte[] bytes, int value, int length, long weight) {
    long hash = store.hashOf(key, 0);
    if (weight != 0) {
      int block = store.changeOrInsert(hash, key, 0);
      long[] page = store.page(block);
      page[store.state(block) + WEIGHT] = weight;
      if (counts) {
        page[store.state(block) + MATCHES] = Bytes.getLong(bytes, value);
      }
      return;
    }
    int block = store.find(hash, key, 0);
    if (block != KeyedStore.NONE && store.isLive(block)) {
      store.remove(block);
    }
  }

  /** Makes the index of rows that were restored. */
  void restored() {
    RowWriter row = new RowWriter(layout, 256);
    for (int block = 0; block < store.ownLimit(); block++) {
      if (store.isLive(block)) {
        row.truncate(0);
        row.begin();
        write(block, row, 0);
        row.finish();
        at(row.bytes(), row.start());
        encodeOwn();
        index.add(own, block);
      }
    }
    index.tidy();
  }

  long heapBytes() {
    return store.heapBytes() + rows.heapBytes() + keys.heapBytes() + index.heapBytes();
  }

  /** Distinct rows. */
  long size() {
    return store.size();
  }
}
