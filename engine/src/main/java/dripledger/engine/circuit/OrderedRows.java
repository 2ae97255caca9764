package dripledger.engine.circuit;

import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowOrder;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.SortKey;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.state.SortedRuns;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.stream.IntStream;

/**
 * The rows of a relation by partition, the rows of each partition in an order. A row is the key of
 * its block, its state how many times it is there; a partition is a block whose state is the word
 * of a sorted run ({@link SortedRuns}), in which a row stands as often as it is there. Rows that
 * are equal in the order are told apart by all their columns.
 *
 * <p>Only the rows are saved; partitions and runs are made again of them. One thread.
 */
final class OrderedRows implements SavedStore.Form {
  private static final int WEIGHT = 0;
  private static final int RUN = 0;
  private static final int AHEAD = 256; // rows that are looked for together

  final RowLayout layout;
  final KeyedStore store;
  final SortedRuns runs = new SortedRuns(this::compare);
  private final GroupKeys rows;
  private final SavedStore saved;
  private final int[] partitionColumns;
  private final GroupKeys partitionKeys;
  private final KeyedStore partitions;
  private final List<SortKey> keys;
  private final RowOrder order; // and then by all columns
  private final RowOrder peerOrder; // of the order alone
  private final LeadingKey leading; // or null, if there is no order
  private final boolean[] fixed; // of columns: whether a slot is all of it
  private final SortKeyCodec.ByteSink left = new SortKeyCodec.ByteSink();
  private final SortKeyCodec.ByteSink right = new SortKeyCodec.ByteSink();
  private final RowWriter row;
  private final RowWriter beside;
  private int rowOf = -1; // the block whose row is in it
  private final long[] rowWords;
  private final long[] partitionWords;
  private long[] aheadWords = new long[0];
  private long[] aheadHashes = new long[0];
  private int[] aheadBlocks = new int[0];

  OrderedRows(RowLayout layout, List<Integer> partition, List<SortKey> keys, Versions versions) {
    this.layout = layout;
    this.keys = keys;
    rows = new GroupKeys(layout, JoinSide.all(layout.columns()));
    store = new KeyedStore(versions, rows.words(), 1, 64);
    store.onRelease(rows::release);
    saved = new SavedStore(store, rows, versions, this);
    partitionColumns = partition.stream().mapToInt(i -> i).toArray();
    partitionKeys = new GroupKeys(layout, partitionColumns);
    partitions = new KeyedStore(versions, partitionKeys.words(), 1, partition.isEmpty() ? 1 : 64);
    partitions.onRelease(partitionKeys::release);
    List<SortKey> all = new ArrayList<>(keys);
    IntStream.range(0, layout.columns())
        .filter(c -> keys.stream().noneMatch(key -> key.column() == c))
        .forEach(c -> all.add(new SortKey(c, false, false)));
    order = new RowOrder(layout, all);
    peerOrder = new RowOrder(layout, keys);
    leading = keys.isEmpty() ? null : new LeadingKey(layout, keys.get(0));
    row = new RowWriter(layout, 256);
    beside = new RowWriter(layout, 256);
    fixed = new boolean[layout.columns()];
    for (int i = 0; i < fixed.length; i++) {
      fixed[i] = !layout.schema().type(i).isVariable();
    }
    rowWords = new long[rows.words()];
    partitionWords = new long[partitionKeys.words()];
  }

  /** What has become of a row in an epoch. */
  interface Changes {
    /**
     * @param was how many times it was there
     * @param is how many times it is
     */
    void changed(int block, long was, long is);
  }

  /** Takes in a delta: the rows' numbers change, their places not yet. */
  void add(Page delta) {
    for (int from = 0; from < delta.size(); from += AHEAD) {
      add(delta, from, Math.min(AHEAD, delta.size() - from));
    }
  }

  /** Gives the rows whose numbers have changed in the epoch, those that have gone too. */
  void changes(Changes sink) {
    forgetRow();
    store.changes(
        (block, wasLive, isLive, record, old) -> {
          long was = wasLive ? record[old + WEIGHT] : 0;
          long is = isLive ? weight(block) : 0;
          if (was == is) {
            dropIfGone(block);
          } else {
            sink.changed(block, was, is);
          }
        });
  }

  /** Refuses that a row is there less than not at all. */
  static void check(long times) {
    if (times < 0) {
      throw new IllegalStateException("a row was taken out more often than it was put in");
    }
  }

  private void add(Page delta, int from, int count) {
    int size = rows.words();
    if (aheadBlocks.length < count) {
      aheadWords = new long[count * size];
      aheadHashes = new long[count];
      aheadBlocks = new int[count];
    }
    byte[] bytes = delta.bytes();
    for (int i = 0; i < count; i++) {
      rows.encodeKnown(bytes, delta.start(from + i), aheadWords, i * size);
      aheadHashes[i] = store.hashOf(aheadWords, i * size);
    }
    store.findAhead(aheadWords, aheadHashes, aheadBlocks, count, size);
    for (int i = 0; i < count; i++) {
      long weight = delta.weight(from + i);
      if (weight == 0) {
        continue;
      }
      int block = aheadBlocks[i];
      if (block == KeyedStore.NONE) {
        rows.encode(bytes, delta.start(from + i), rowWords, 0);
        block = store.changeOrInsert(store.hashOf(rowWords, 0), rowWords, 0);
      } else {
        store.change(block);
      }
      store.page(block)[store.state(block) + WEIGHT] += weight;
    }
  }

  /** How many times a row is there. */
  long weight(int block) {
    return store.page(block)[store.state(block) + WEIGHT];
  }

  /** Says how many times a row is there. */
  void weigh(int block, long weight) {
    store.change(block);
    store.page(block)[store.state(block) + WEIGHT] = weight;
  }

  /** The row of a block, in {@link #rowBytes} until the next is asked for; answers its start. */
  int row(int block) {
    if (rowOf != block) {
      row.truncate(0);
      row.begin();
      rows.write(store.page(block), store.header(block) + 1, row);
      row.finish();
      rowOf = block;
    }
    return row.start();
  }

  byte[] rowBytes() {
    return row.bytes();
  }

  /** To be said when blocks may have been used again for other rows. */
  void forgetRow() {
    rowOf = -1;
  }

  /** Writes a row's columns into a row that was begun. */
  void write(int block, RowWriter out) {
    rows.write(store.page(block), store.header(block) + 1, out);
  }

  // ---- partitions

  /** The partition a row belongs to, made if there is none. */
  int partitionOf(int block) {
    if (rows.isVariable()) {
      int start = row(block);
      partitionKeys.encode(row.bytes(), start, partitionWords, 0);
    } else {
      encodePartition(store.page(block), store.header(block) + 1);
    }
    return partitions.changeOrInsert(partitions.hashOf(partitionWords, 0), partitionWords, 0);
  }

  /**
   * The partition that a row would belong to if one of the columns had another value.
   *
   * @return −1 if there is none
   */
  int partitionBeside(int block, int column, long value) {
    row(block);
    beside.truncate(0);
    beside.begin();
    beside.setRow(row.bytes(), row.start(), row.end() - row.start());
    beside.setLong(column, value);
    beside.finish();
    partitionKeys.encodeKnown(beside.bytes(), beside.start(), partitionWords, 0);
    int found = partitions.find(partitions.hashOf(partitionWords, 0), partitionWords, 0);
    return found == KeyedStore.NONE || !partitions.isLive(found) ? -1 : found;
  }

  /** The words of a partition of a row whose columns are all of fixed size. */
  private void encodePartition(long[] page, int at) {
    int nullWords = partitionKeys.nullWords();
    Arrays.fill(partitionWords, 0);
    for (int i = 0; i < partitionColumns.length; i++) {
      int column = partitionColumns[i];
      boolean isNull = rows.isNull(page, at, column);
      if (isNull) {
        partitionWords[i / 64] |= 1L << i;
      }
      partitionWords[nullWords + i] = isNull ? 0 : page[at + rows.nullWords() + column];
    }
  }

  /** Whether there is a partition of a number. */
  boolean isPartition(int partition) {
    return partitions.isLive(partition);
  }

  long run(int partition) {
    return partitions.page(partition)[partitions.state(partition) + RUN];
  }

  private void run(int partition, long word) {
    partitions.page(partition)[partitions.state(partition) + RUN] = word;
  }

  /** A long that orders rows as far as it goes: see {@link LeadingKey}. */
  long sortKey(int block) {
    if (leading == null) {
      return 0;
    }
    if (!rows.isVariable()) {
      long[] page = store.page(block);
      int at = store.header(block) + 1;
      int column = keys.get(0).column();
      boolean isNull = rows.isNull(page, at, column);
      return leading.of(isNull, page[at + rows.nullWords() + column]);
    }
    int start = row(block);
    return leading.of(row.bytes(), start);
  }

  void insert(int partition, long sortKey, int block, long times) {
    for (long i = 0; i < times; i++) {
      run(partition, runs.insert(run(partition), sortKey, block));
    }
  }

  void remove(int partition, long sortKey, int block, long times) {
    for (long i = 0; i < times; i++) {
      run(partition, runs.remove(run(partition), sortKey, block));
    }
  }

  /** Forgets a row that is not there any more. */
  void dropIfGone(int block) {
    if (store.isLive(block) && weight(block) == 0) {
      store.remove(block);
    }
  }

  /** Forgets a row that has no place in any order. */
  void drop(int block) {
    weigh(block, 0);
    dropIfGone(block);
  }

  /** Takes a row's last copies out for good. */
  void forget(int partition, long sortKey, int block, long times) {
    weigh(block, weight(block) - times);
    remove(partition, sortKey, block, times);
    dropIfGone(block);
  }

  void dropIfEmpty(int partition) {
    if (run(partition) == 0) {
      partitions.remove(partition);
    }
  }

  /** Orders two rows. */
  int compare(int block, int other) {
    encode(order, block, left);
    encode(order, other, right);
    return Bytes.compare(left.bytes(), 0, left.size(), right.bytes(), 0, right.size());
  }

  private void encode(RowOrder by, int block, SortKeyCodec.ByteSink into) {
    into.clear();
    int start = row(block);
    by.encode(row.bytes(), start, into);
  }

  /** Whether two rows are equal in the order. */
  boolean arePeers(int block, int other) {
    if (block == other || keys.isEmpty()) {
      return true;
    }
    if (rows.isVariable()) {
      encode(peerOrder, block, left);
      encode(peerOrder, other, right);
      return left.size() == right.size()
          && Bytes.equal(left.bytes(), 0, right.bytes(), 0, left.size());
    }
    long[] page = store.page(block);
    int at = store.header(block) + 1;
    long[] otherPage = store.page(other);
    int otherAt = store.header(other) + 1;
    for (SortKey key : keys) {
      int column = key.column();
      if (rows.isNull(page, at, column) != rows.isNull(otherPage, otherAt, column)
          || page[at + rows.nullWords() + column]
              != otherPage[otherAt + rows.nullWords() + column]) {
        return false;
      }
    }
    return true;
  }

  boolean isNull(int block, int column) {
    if (rows.isVariable()) {
      int start = row(block);
      return layout.isNull(row.bytes(), start, column);
    }
    return rows.isNull(store.page(block), store.header(block) + 1, column);
  }

  /** The slot of a column of fixed size. */
  long slot(int block, int column) {
    if (rows.isVariable()) {
      int start = row(block);
      return layout.slot(row.bytes(), start, column);
    }
    return store.page(block)[store.header(block) + 1 + rows.nullWords() + column];
  }

  /** Sets a column of another row from one of a row. */
  void copy(int block, int from, RowWriter out, int column) {
    if (isNull(block, from)) {
      out.setNull(column);
    } else if (fixed[from]) {
      out.setLong(column, slot(block, from));
    } else {
      int start = row(block);
      out.copy(column, layout, row.bytes(), start, from);
    }
  }

  // ---- checkpoints and the graph

  SavedStore saved() {
    return saved;
  }

  @Override
  public long save(long[] block, StateChunks.Writer out) {
    return block[rows.words() + WEIGHT];
  }

  @Override
  public void restore(long[] key, byte[] bytes, int value, int length, long weight) {
    SavedStore.restore(store, key, weight);
  }

  /** Puts the rows that were restored in their order. */
  void restored() {
    for (int block = 0; block < store.ownLimit(); block++) {
      if (store.isLive(block)) {
        insert(partitionOf(block), sortKey(block), block, weight(block));
      }
    }
    forgetRow();
  }

  void join(Versions graph) {
    store.join(graph);
    partitions.join(graph);
    saved.join(graph);
  }

  void close() {
    store.close();
    partitions.close();
  }

  long heapBytes() {
    return store.heapBytes()
        + rows.heapBytes()
        + partitions.heapBytes()
        + partitionKeys.heapBytes()
        + runs.heapBytes();
  }
}
