package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import dripledger.engine.view.RelationVersion;
import java.nio.ByteBuffer;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/**
 * The rows of a table, or of a view that cannot be read from operator state. With a key that is
 * known to be unique each key's block holds where its row is; without one the row itself is the key
 * and its block says how many times it is there. Written by one thread; what {@link #version}
 * answers is for everybody.
 */
public final class KeptRows implements KeptRelation, StoredRows, SavedStore.Form {
  private static final int COUNT = 0;
  private static final int AHEAD = KeyedStore.AHEAD;

  private final RowLayout layout;
  private final int[] key;
  private final boolean unique;
  private final GroupKeys keys;
  private final KeyedStore store;
  private final BlockRows rows; // of unique keys, or null
  private final SavedStore saved;
  private final OrderedIndexes indexes;
  private final OrderedIndexes rowIndexes; // by other columns than the unique key, or null
  private final Finish finish;
  private final long[] words;
  private final long[] aheadKeys; // of rows whose blocks are looked for together
  private final long[] hashes = new long[AHEAD];
  private final int[] blocks = new int[AHEAD];
  private final RowWriter now; // a row that is given as it stands
  private Versions own = new Versions(); // a clock of its own; null once it is in a graph
  private long membership;
  private long count;
  private final Map<ByteBuffer, Long> unsettled = new LinkedHashMap<>();

  private KeptRows(Schema schema, int[] key, boolean unique) {
    layout = new RowLayout(schema);
    this.unique = unique;
    this.key = key;
    int[] stored = unique ? key : new int[schema.size()];
    if (!unique) {
      Arrays.setAll(stored, i -> i);
    }
    keys = new GroupKeys(layout, stored);
    rows = unique ? new BlockRows(layout, key, keys, own) : null;
    store = new KeyedStore(own, keys.words(), unique ? rows.stateWords() : 1, 64);
    store.onRelease(keys::release);
    saved = new SavedStore(store, keys, own, this);
    indexes = new OrderedIndexes(keys.layout());
    rowIndexes = unique ? new OrderedIndexes(layout) : null;
    finish = Finish.none(layout, key, stored);
    words = new long[keys.words()];
    aheadKeys = new long[unique ? AHEAD * keys.words() : 0];
    now = new RowWriter(layout, 64);
  }

  /**
   * Rows of which no two have the same key.
   *
   * @param key columns of the key, at least one
   */
  public static KeptRows unique(Schema schema, int[] key) {
    return new KeptRows(schema, key, true);
  }

  /**
   * Rows that may be there more than once.
   *
   * @param key the columns they are ordered and looked up by, or null for all
   */
  public static KeptRows bag(Schema schema, int[] key) {
    return new KeptRows(schema, key, false);
  }

  // ---- writing

  /**
   * Takes in a delta.
   *
   * @throws IllegalStateException if it takes out a row that is not there, or puts in one whose key
   *     is there; what it says otherwise may have been done
   */
  @Override
  public void apply(Page delta) {
    if (unique) {
      for (int from = 0; from < delta.size(); from += AHEAD) {
        change(delta, from, Math.min(AHEAD, delta.size() - from));
      }
    } else {
      for (int i = 0; i < delta.size(); i++) {
        if (delta.weight(i) != 0) {
          keys.encode(delta.bytes(), delta.start(i), words, 0);
          count(delta.weight(i));
        }
      }
    }
    settle();
    if (own != null) {
      own.publish();
    }
  }

  /** Takes in some rows, whose blocks are looked for together. */
  private void change(Page delta, int from, int count) {
    byte[] bytes = delta.bytes();
    for (int i = 0; i < count; i++) {
      keys.encode(bytes, delta.start(from + i), aheadKeys, i * keys.words());
      hashes[i] = store.hashOf(aheadKeys, i * keys.words());
    }
    store.findAhead(aheadKeys, hashes, blocks, count, keys.words());
    for (int i = 0; i < count; i++) {
      int row = delta.start(from + i);
      if (i + 1 < count && delta.weight(from + i) == -1 && delta.weight(from + i + 1) == 1) {
        int newRow = delta.start(from + i + 1);
        if (blocks[i] >= 0
            && blocks[i] == blocks[i + 1]
            && replace(blocks[i], bytes, row, newRow)) {
          i++;
          continue;
        }
      }
      if (delta.weight(from + i) != 0) {
        System.arraycopy(aheadKeys, i * keys.words(), words, 0, keys.words());
        change(bytes, row, delta.end(from + i) - row, delta.weight(from + i));
      }
    }
  }

  /** Puts a row in the place of one of the same key, if that is there. */
  private boolean replace(int block, byte[] bytes, int row, int newRow) {
    if (!store.isLive(block) || !isRow(block, bytes, row)) {
      return false;
    }
    if (rowIndexes.needChanges()) {
      rowIndexes.changed(bytes, row, block, -1);
      rowIndexes.changed(bytes, newRow, block, 1);
    }
    rows.retire(store.page(block), store.state(block));
    store.change(block);
    rows.set(store.page(block), store.state(block), bytes, newRow);
    membership++;
    return true;
  }

  /** Puts a row in or takes it out, or leaves that for {@link #settle} if it does not fit yet. */
  private void change(byte[] bytes, int start, int length, long weight) {
    long hash = store.hashOf(words, 0);
    int block = store.find(hash, words, 0);
    boolean there = block != KeyedStore.NONE && store.isLive(block);
    if (weight == 1 && !there) {
      put(hash, bytes, start);
    } else if (weight == -1 && there && isRow(block, bytes, start)) {
      take(block, bytes, start);
    } else {
      byte[] row = Arrays.copyOfRange(bytes, start, start + length);
      unsettled.merge(ByteBuffer.wrap(row), weight, Long::sum);
    }
  }

  private void put(long hash, byte[] bytes, int start) {
    int block = store.changeOrInsert(hash, words, 0);
    rows.set(store.page(block), store.state(block), bytes, start);
    if (rowIndexes.needChanges()) {
      rowIndexes.changed(bytes, start, block, 1);
    }
    come(block, 1);
  }

  private void take(int block, byte[] bytes, int start) {
    if (rowIndexes.needChanges()) {
      rowIndexes.changed(bytes, start, block, -1);
    }
    rows.retire(store.page(block), store.state(block));
    store.remove(block);
    come(block, -1);
  }

  private void come(int block, int weight) {
    count += unique ? weight : 0;
    membership++;
    if (indexes.needChanges()) {
      indexes.changed(keys.row(store.page(block), store.header(block) + 1), 0, block, weight);
    }
  }

  private boolean isRow(int block, byte[] bytes, int start) {
    return rows.isRow(store.page(block), store.state(block), bytes, start);
  }

  /** A bag: one more or less of the row whose words are at hand. */
  @Override
  public long count() {
    return count;
  }

  private void count(long weight) {
    int block = store.changeOrInsert(store.hashOf(words, 0), words, 0);
    long[] page = store.page(block);
    int at = store.state(block) + COUNT;
    long before = page[at];
    page[at] = before + weight;
    count += weight;
    if (before <= 0 && page[at] > 0) {
      come(block, 1);
    } else if (before > 0 && page[at] <= 0) {
      come(block, -1);
    }
    if (page[at] == 0) {
      store.remove(block);
    } else if (page[at] < 0) {
      byte[] row = keys.row(page, store.header(block) + 1);
      unsettled.merge(ByteBuffer.wrap(row), 0L, Long::sum);
    }
  }

  /** What did not fit when it was met: by now it must. */
  private void settle() {
    if (unsettled.isEmpty()) {
      return;
    }
    List<Map.Entry<ByteBuffer, Long>> left = new ArrayList<>(unsettled.entrySet());
    unsettled.clear();
    left.forEach(e -> settle(e.getKey().array(), e.getValue(), true));
    left.forEach(e -> settle(e.getKey().array(), e.getValue(), false));
  }

  private void settle(byte[] row, long weight, boolean goes) {
    if (!unique) {
      refuseIfNegative(row);
      return;
    }
    if (weight == 0 || weight < 0 != goes) {
      return;
    }
    keys.encode(row, 0, words, 0);
    long hash = store.hashOf(words, 0);
    int block = store.find(hash, words, 0);
    boolean there = block != KeyedStore.NONE && store.isLive(block);
    if (goes) {
      if (weight < -1 || !there || !isRow(block, row, 0)) {
        throw new IllegalStateException(
            "a row was taken out " + -weight + " times more than it was put in");
      }
      take(block, row, 0);
    } else {
      if (weight > 1 || there) {
        throw new IllegalStateException("a primary key is there twice");
      }
      put(hash, row, 0);
    }
  }

  private void refuseIfNegative(byte[] row) {
    keys.encode(row, 0, words, 0);
    int block = store.find(store.hashOf(words, 0), words, 0);
    if (block != KeyedStore.NONE && store.isLive(block)) {
      long now = store.page(block)[store.state(block) + COUNT];
      if (now < 0) {
        throw new IllegalStateException(
            "a row was taken out " + -now + " times more than it was put in");
      }
    }
  }

  /** Receives a row by place; the bytes are only valid during the call. */
  @FunctionalInterface
  interface RowSink {
    void row(byte[] bytes, int at, int length);
  }

  /** The columns of the key as a row of their own. */
  RowLayout keyLayout() {
    return keys.layout();
  }

  /** Gives the row with a unique key, as it stands now, if there is one. The writer's thread. */
  void findNow(byte[] keyRow, int start, RowSink sink) {
    if (!keys.encodeKey(keyRow, start, words)) {
      return;
    }
    int block = store.find(store.hashOf(words, 0), words, 0);
    if (block != KeyedStore.NONE && store.isLive(block)) {
      giveNow(block, sink);
    }
  }

  /** Gives all rows with unique keys, as they stand now. The writer's thread. */
  void allNow(RowSink sink) {
    int limit = store.blockLimit();
    for (int block = 0; block < limit; block++) {
      if (store.isLive(block)) {
        giveNow(block, sink);
      }
    }
  }

  private void giveNow(int block, RowSink sink) {
    now.truncate(0);
    now.begin();
    rows.row(store.page(block), store.header(block) + 1, now);
    sink.row(now.bytes(), now.start(), now.finish());
  }

  @Override
  public void join(Versions graph) {
    if (own != null) {
      own = null;
      store.join(graph);
      saved.join(graph);
      if (unique) {
        rows.join(graph);
      }
    }
  }

  @Override
  public void leave() {
    if (own == null) {
      store.close();
      if (unique) {
        rows.close();
      }
    }
  }

  // ---- checkpoints

  @Override
  public String form() {
    return unique ? "by key " + Arrays.toString(key) : "bag";
  }

  @Override
  public Durable durable() {
    return saved;
  }

  /** The value of a unique key is its row; a row that is its own key has none. Any thread. */
  @Override
  public long save(long[] block, StateChunks.Writer out) {
    if (!unique) {
      return block[keys.words()];
    }
    rows.save(block, out);
    return 1;
  }

  @Override
  public void restore(long[] key, byte[] bytes, int value, int length, long copies) {
    long hash = store.hashOf(key, 0);
    int known = store.find(hash, key, 0);
    boolean there = known != KeyedStore.NONE && store.isLive(known);
    if (unique && there) {
      rows.retire(store.page(known), store.state(known));
    }
    if (copies != 0) {
      int block = store.changeOrInsert(hash, key, 0);
      if (unique) {
        rows.set(store.page(block), store.state(block), bytes, value);
      } else {
        store.page(block)[store.state(block)] = copies;
      }
    } else if (there) {
      store.remove(known);
    }
  }

  @Override
  public void restored() {
    count = 0;
    for (int block = 0; block < store.blockLimit(); block++) {
      if (store.isLive(block)) {
        count += unique ? 1 : store.page(block)[store.state(block) + COUNT];
      }
    }
  }

  // ---- reading

  /** The rows as the version shows them that was published last; by the writer. */
  @Override
  public RelationVersion version(long version) {
    return new StoredVersion(this, finish, version, count);
  }

  public RelationVersion version() {
    return version(own.published());
  }

  @Override
  public KeyedStore store() {
    return store;
  }

  /** The columns rows are told apart by, or ordered by; null for all. */
  int[] key() {
    return key;
  }

  /** How each row is found by its key; null if keys are not unique. */
  public KeyedRows byKey() {
    return KeyedRows.of(this, finish);
  }

  /** How rows of unique keys are read of their blocks, or null. */
  BlockRows rows() {
    return rows;
  }

  @Override
  public GroupKeys keys() {
    return keys;
  }

  @Override
  public RowLayout layout() {
    return layout;
  }

  @Override
  public boolean row(long[] block, RowWriter writer) {
    if (!unique) {
      keys.write(block, 0, writer);
      return true;
    }
    rows.row(block, 0, writer);
    return true;
  }

  @Override
  public long copies(long[] block) {
    return unique ? 1 : block[keys.words() + COUNT];
  }

  @Override
  public long membership() {
    return membership;
  }

  @Override
  public OrderedIndexes indexes() {
    return indexes;
  }

  @Override
  public OrderedIndexes rowIndexes(Finish finish) {
    return finish.program() == null ? rowIndexes : null;
  }

  @Override
  public void forget(Finish finish) {
    // one order is told of all changes, whoever finds rows by it
  }

  @Override
  public long rowChanges() {
    return membership;
  }

  @Override
  public void orders(List<int[]> columns) {
    finish.orders(columns);
  }

  @Override
  public long rowBytes() {
    return heapBytes();
  }

  /** Heap held, in bytes. */
  @Override
  public long heapBytes() {
    return store.heapBytes()
        + keys.heapBytes()
        + indexes.heapBytes()
        + (rowIndexes == null ? 0 : rowIndexes.heapBytes())
        + (rows == null ? 0 : rows.heapBytes());
  }
}
