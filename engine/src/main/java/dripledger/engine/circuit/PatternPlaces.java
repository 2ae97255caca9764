package dripledger.engine.circuit;

import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.List;
import java.util.function.Consumer;

/**
 * What is known of partitions whose rows are forgotten once they have been looked at: how many
 * matches there were, and how many of the rows that are left have been looked at. One thread.
 */
final class PatternPlaces implements SavedStore.Form {
  private static final int BEFORE_BITS = 16;

  private final GroupKeys keys;
  private final KeyedStore store;
  private final SavedStore saved;
  private final long[] words;

  PatternPlaces(RowLayout input, List<Integer> partition, Versions versions) {
    keys = new GroupKeys(input, partition.stream().mapToInt(i -> i).toArray());
    store = new KeyedStore(versions, keys.words(), 1, partition.isEmpty() ? 1 : 64);
    store.onRelease(keys::release);
    saved = new SavedStore(store, keys, versions, this);
    words = new long[keys.words()];
  }

  private long word(byte[] bytes, int row) {
    keys.encodeKnown(bytes, row, words, 0);
    int block = store.find(store.hashOf(words, 0), words, 0);
    return block == KeyedStore.NONE || !store.isLive(block)
        ? 0
        : store.page(block)[store.state(block)];
  }

  /** How many matches the partition of a row has had. */
  long matches(byte[] bytes, int row) {
    return word(bytes, row) >>> BEFORE_BITS;
  }

  /** How many of its first rows have been looked at. */
  int before(byte[] bytes, int row) {
    return (int) (word(bytes, row) & (1 << BEFORE_BITS) - 1);
  }

  void set(byte[] bytes, int row, long matches, int before) {
    long word = matches << BEFORE_BITS | before;
    if (word == word(bytes, row)) {
      return;
    }
    keys.encode(bytes, row, words, 0);
    int block = store.changeOrInsert(store.hashOf(words, 0), words, 0);
    store.page(block)[store.state(block)] = word;
    if (word == 0) {
      store.remove(block);
    }
  }

  @Override
  public long save(long[] block, StateChunks.Writer out) {
    return block[keys.words()];
  }

  @Override
  public void restore(long[] key, byte[] bytes, int value, int length, long word) {
    SavedStore.restore(store, key, word);
  }

  void durable(Consumer<Durable> into) {
    into.accept(saved);
  }

  void join(Versions graph) {
    store.join(graph);
    saved.join(graph);
  }

  void close() {
    store.close();
  }

  long heapBytes() {
    return store.heapBytes() + keys.heapBytes();
  }
}
