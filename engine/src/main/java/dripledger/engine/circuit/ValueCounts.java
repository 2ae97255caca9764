package dripledger.engine.circuit;

import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.function.Consumer;
import java.util.function.IntConsumer;

/**
 * The values that an aggregate call has been given, each with how often: a bag, kept as a keyed
 * store whose key is the group columns and the arguments. So it is read, saved and given back like
 * every other relation.
 */
final class ValueCounts implements SavedStore.Form {
  private final GroupKeys keys;
  private final KeyedStore store;
  private final SavedStore saved;
  private long[] words = new long[0]; // of the rows that were looked for
  private long[] hashes = new long[0];
  private int[] blocks = new int[0];
  private int block;
  private EndTimes ends; // of values, or null
  private int endColumn;

  /** What one more change of a value's count has meant. */
  enum Change {
    CAME,
    WENT,
    NONE
  }

  /**
   * @param columns of the input: the group columns first
   */
  ValueCounts(RowLayout input, int[] columns, Versions versions) {
    keys = new GroupKeys(input, columns);
    store = new KeyedStore(versions, keys.words(), 1, 64);
    store.onRelease(keys::release);
    saved = new SavedStore(store, keys, versions, this);
  }

  /**
   * Looks for the values of many rows at once, so that their loads wait for memory together. Not
   * all of them need be counted then.
   */
  void ahead(byte[] bytes, int[] rows, int count) {
    int size = keys.words();
    if (hashes.length < count) {
      hashes = new long[count];
      blocks = new int[count];
      words = new long[count * size];
    }
    keys.encodeKnown(bytes, rows, count, words);
    for (int i = 0; i < count; i++) {
      hashes[i] = store.hashOf(words, i * size);
    }
    store.findAhead(words, hashes, blocks, count, size);
  }

  /**
   * Counts the value of one of the rows that were looked for. While an epoch is not at its end a
   * count may be below zero, which is as if the value were not there.
   */
  Change add(int number, byte[] bytes, int row, long weight) {
    block = blocks[number];
    if (block == KeyedStore.NONE) {
      int at = number * keys.words();
      keys.encode(bytes, row, words, at);
      block = store.changeOrInsert(store.hashOf(words, at), words, at);
      noteEnd(block);
    } else {
      store.change(block);
    }
    long[] page = store.page(block);
    int at = store.state(block);
    long before = page[at];
    long now = before + weight;
    page[at] = now;
    if (now == 0) {
      store.remove(block);
    }
    return before > 0 == now > 0 ? Change.NONE : now > 0 ? Change.CAME : Change.WENT;
  }

  /** Has values end by the time that is a column of their keys, and is not NULL in any. */
  void endBy(int column) {
    ends = new EndTimes();
    endColumn = column;
  }

  private void noteEnd(int added) {
    if (ends != null) {
      ends.add(time(added), added);
    }
  }

  /** The time by which a value ends. */
  long time(int value) {
    return keys.slot(store.page(value), store.header(value) + 1, endColumn);
  }

  /** Takes out all values that end up to a time. */
  void endUpTo(long time) {
    endUpTo(time, ended -> {});
  }

  /**
   * As above.
   *
   * @param sink given the block of each before it goes
   */
  void endUpTo(long time, IntConsumer sink) {
    ends.endUpTo(
        time,
        each -> {
          if (store.isLive(each) && ends.isOver(time(each))) {
            sink.accept(each);
            store.remove(each);
          }
        });
  }

  /**
   * Takes out all values, whenever they end.
   *
   * @param sink given the block of each before it goes
   */
  void endAll(IntConsumer sink) {
    for (int each = 0; each < store.ownLimit(); each++) {
      if (store.isLive(each)) {
        sink.accept(each);
        store.remove(each);
      }
    }
    ends.clear();
  }

  /** Says that everything up to a time was over when the values were saved. */
  void restoredEnds(long time) {
    ends.restored(time);
    for (int each = 0; each < store.blockLimit(); each++) {
      if (store.isLive(each)) {
        noteEnd(each);
      }
    }
  }

  /** The block of the value counted last. */
  int block() {
    return block;
  }

  KeyedStore store() {
    return store;
  }

  GroupKeys keys() {
    return keys;
  }

  @Override
  public long save(long[] block, StateChunks.Writer out) {
    return block[keys.words()];
  }

  @Override
  public void restore(long[] key, byte[] bytes, int value, int length, long count) {
    SavedStore.restore(store, key, count);
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
    return store.heapBytes() + keys.heapBytes() + (ends == null ? 0 : ends.heapBytes());
  }
}
