package dripledger.stress;

import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;

/**
 * A store with one key whose two words of state add up to {@link #TOTAL} in every version. Written
 * by one thread, read by another.
 */
class Account {
  static final long TOTAL = 100;
  static final long KEY = 7;

  /** Answered for a read that came too late and was refused. */
  static final long REFUSED = -1;

  /** Answered where there is no such key. */
  static final long NOTHING = -2;

  final Versions versions = new Versions();
  final KeyedStore store = new KeyedStore(versions, 1, 2, 1);

  Account() {
    open(KEY, TOTAL / 2);
    versions.publish();
  }

  /** Puts a key in, with a first amount. */
  final void open(long key, long first) {
    long[] words = {key};
    int block = store.changeOrInsert(store.hashOf(words, 0), words, 0);
    long[] page = store.page(block);
    page[store.state(block)] = first;
    page[store.state(block) + 1] = TOTAL - first;
  }

  /** Moves one from the first word to the second. */
  final void move() {
    long[] words = {KEY};
    int block = store.find(store.hashOf(words, 0), words, 0);
    store.change(block);
    long[] page = store.page(block);
    page[store.state(block)]--;
    page[store.state(block) + 1]++;
  }

  /** Takes the key out. */
  final void close() {
    long[] words = {KEY};
    store.remove(store.find(store.hashOf(words, 0), words, 0));
  }

  /** What a key's words add up to at a version, {@link #NOTHING} or {@link #REFUSED}. */
  final long total(long key, long version) {
    long[] words = {key};
    long[] block = new long[3];
    boolean found = store.lookup(store.hashOf(words, 0), words, version, block) != KeyedStore.NONE;
    if (!store.valid(version)) {
      return REFUSED;
    }
    return found ? block[1] + block[2] : NOTHING;
  }

  /** The first word at a version that is pinned. */
  final long first(long version) {
    long[] words = {KEY};
    long[] block = new long[3];
    store.lookup(store.hashOf(words, 0), words, version, block);
    return block[1];
  }
}
