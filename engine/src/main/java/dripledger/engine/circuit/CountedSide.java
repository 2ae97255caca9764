package dripledger.engine.circuit;

import dripledger.engine.plan.Ending;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;

/**
 * A side whose rows come and go, or end with the watermark. A row is the key of its block, which is
 * its number; its state is how many times it is there and, if the join asks for it, how many rows
 * of the other input it has met. A row that has ended, or has no time to end by, is not kept.
 */
final class CountedSide extends JoinSide implements SavedStore.Form {
  private static final int WEIGHT = 0;
  private static final int MATCHES = 1;

  private final boolean counts;
  private final GroupKeys rows;
  private final KeyedStore store;
  private final SavedStore saved;
  private final long[] rowWords;
  private final int[] aheadBlocks = new int[AHEAD];
  private final long[] aheadHashes = new long[AHEAD];
  private final long[] aheadRows;
  private final Ending ending; // or null
  private final EndTimes times = new EndTimes();
  private final RowWriter ended; // one that ends

  @SuppressWarnings("UnusedVariable")
  private long touched; // what was read only to have it near

  /**
   * @param counts whether rows are to know how many they have met
   * @param ending when they end, or null for never
   */
  CountedSide(Input input, boolean counts, Ending ending, Versions versions) {
    super(input);
    this.ending = ending;
    this.counts = counts;
    rows = new GroupKeys(layout, all(layout.columns()));
    store = new KeyedStore(versions, rows.words(), counts ? 2 : 1, 64);
    store.onRelease(rows::release);
    saved = new SavedStore(store, rows, versions, this);
    rowWords = new long[rows.words()];
    ended = new RowWriter(layout, 64);
    aheadRows = new long[AHEAD * rows.words()];
  }

  @Override
  void rowsAhead(Page delta, int from, int count) {
    int size = rows.words();
    for (int i = 0; i < count; i++) {
      rows.encodeKnown(delta.bytes(), delta.start(from + i), aheadRows, i * size);
      aheadHashes[i] = store.hashOf(aheadRows, i * size);
    }
    store.findAhead(aheadRows, aheadHashes, aheadBlocks, count, size);
  }

  @Override
  void lookAhead(int[] numbers, int count) {
    touched = store.lookAhead(numbers, count);
  }

  @Override
  long weight(int block) {
    return store.page(block)[store.state(block) + WEIGHT];
  }

  @Override
  void write(int block, RowWriter out, int firstColumn) {
    rows.write(store.page(block), store.header(block) + 1, out, firstColumn);
  }

  @Override
  void columns(int block, int[] which, ColumnDelta into, int at, int firstColumn) {
    rows.columns(store.page(block), store.header(block) + 1, which, into, at, firstColumn);
  }

  @Override
  long met(int block) {
    return store.page(block)[store.state(block) + MATCHES];
  }

  @Override
  boolean isThere(int block) {
    return store.isLive(block);
  }

  @Override
  int limit() {
    return store.ownLimit();
  }

  @Override
  long meet(int block, long more) {
    store.change(block);
    long[] page = store.page(block);
    int at = store.state(block) + MATCHES;
    long before = page[at];
    page[at] = before + more;
    return before;
  }

  @Override
  void add(int i, byte[] bytes, int row, long weight, long matches) {
    if (ending != null && hasEnded(bytes, row)) {
      return;
    }
    int block = aheadBlocks[i];
    if (block == KeyedStore.NONE) { // or one before it in the batch has made it
      rows.encode(bytes, row, rowWords, 0);
      block = store.find(store.hashOf(rowWords, 0), rowWords, 0);
    }
    if (block == KeyedStore.NONE || !store.isLive(block)) {
      if (block == KeyedStore.NONE) {
        block = store.changeOrInsert(store.hashOf(rowWords, 0), rowWords, 0);
        noteEnd(block);
      } else {
        store.change(block);
      }
      put(i, bytes, row, block);
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
      drop(i, bytes, row, block);
      store.remove(block);
    }
  }

  private boolean hasEnded(byte[] bytes, int row) {
    return layout.isNull(bytes, row, ending.column())
        || times.isOver(layout.slot(bytes, row, ending.column()));
  }

  private void noteEnd(int block) {
    if (ending != null) {
      times.add(time(block), block);
    }
  }

  private long time(int block) {
    return rows.slot(store.page(block), store.header(block) + 1, ending.column());
  }

  @Override
  void endUpTo(long watermark) {
    if (ending != null) {
      times.endUpTo(
          EndTimes.upTo(watermark, ending.delayMicros()),
          block -> {
            if (store.isLive(block) && times.isOver(time(block))) {
              end(block);
            }
          });
    }
  }

  private void end(int block) {
    ended.truncate(0);
    ended.begin();
    write(block, ended, 0);
    ended.finish();
    dropEnded(ended.bytes(), ended.start(), block);
    store.remove(block);
  }

  @Override
  void restored(long watermark) {
    super.restored(watermark);
    if (ending != null) {
      times.restored(EndTimes.upTo(watermark, ending.delayMicros()));
      for (int block = 0; block < store.ownLimit(); block++) {
        if (store.isLive(block)) {
          noteEnd(block);
        }
      }
    }
  }

  @Override
  boolean canReplace(int i, byte[] bytes, int row, int newRow) {
    return true;
  }

  @Override
  void replace(int i, byte[] bytes, int row, int newRow, long matches) {
    add(i, bytes, row, -1, matches);
    add(i + 1, bytes, newRow, 1, matches);
  }

  @Override
  void join(Versions graph) {
    store.join(graph);
    saved.join(graph);
  }

  @Override
  void close() {
    store.close();
  }

  // ---- checkpoints

  @Override
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

  @Override
  long heapBytes() {
    return store.heapBytes() + rows.heapBytes() + times.heapBytes();
  }

  @Override
  long size() {
    return store.size();
  }
}
