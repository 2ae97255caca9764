package dripledger.engine.store;

import java.util.Arrays;

/**
 * From a key to the blocks of another store that have it, in no order. A key's blocks are a list
 * through arrays by block number, so that one comes and goes at the same cost however many there
 * are. It is of what the writer sees: there are no versions. One thread.
 *
 * <p>8 bytes a block, and a block of a {@link KeyedStore} of its own for each key.
 */
public final class HashIndex {
  /** Answered where there is no block. */
  public static final int NONE = KeyedReads.NONE;

  private final Versions clock = new Versions();
  private final KeyedStore heads; // the first block of each key, and 1
  private int[] next = new int[16]; // block + 1, or 0
  private int[] previous = new int[16];
  private long[] hashes = new long[0];

  @SuppressWarnings("UnusedVariable")
  private long touched; // what was read only to have it near

  /**
   * @param keyWords of which a key is made
   * @param release told of a key that is no longer there
   */
  public HashIndex(int keyWords, KeyedStore.BlockRelease release) {
    heads = new KeyedStore(clock, keyWords, 1, 64);
    heads.onRelease(release);
  }

  /** The first block of a key, or {@link #NONE}. */
  public int first(long[] key) {
    int head = heads.find(heads.hashOf(key, 0), key, 0);
    return head == NONE || !heads.isLive(head)
        ? NONE
        : (int) heads.page(head)[heads.state(head)] - 1;
  }

  /**
   * Looks for the first blocks of many keys at once, so that their loads wait for memory together.
   *
   * @param keys one after the other
   * @param blocks given them, or {@link #NONE} where that takes more than one look
   */
  public void firstAhead(long[] keys, int count, int[] blocks) {
    if (hashes.length < count) {
      hashes = new long[count];
    }
    int words = heads.keyWords();
    if (words == 1) {
      heads.findAhead(keys, hashes, blocks, count);
    } else {
      for (int i = 0; i < count; i++) {
        hashes[i] = heads.hashOf(keys, i * words);
      }
      heads.findAhead(keys, hashes, blocks, count, words);
    }
    for (int i = 0; i < count; i++) {
      int head = blocks[i];
      blocks[i] = head == NONE ? NONE : (int) heads.page(head)[heads.state(head)] - 1;
    }
  }

  /** Reads what is behind blocks, so that their loads wait for memory together. */
  public void lookAhead(int[] blocks, int count) {
    long seen = 0;
    for (int i = 0; i < count; i++) {
      seen += blocks[i] < 0 ? 0 : next[blocks[i]] + previous[blocks[i]];
    }
    touched = seen;
  }

  /** The block behind one of the same key, or {@link #NONE}. */
  public int next(int block) {
    return next[block] - 1;
  }

  /** Adds a block that is not there. */
  public void add(long[] key, int block) {
    if (block >= next.length) {
      int length = Math.max(block + 1, next.length + (next.length >> 1));
      next = Arrays.copyOf(next, length);
      previous = Arrays.copyOf(previous, length);
    }
    int head = heads.changeOrInsert(heads.hashOf(key, 0), key, 0);
    long[] page = heads.page(head);
    int at = heads.state(head);
    int first = (int) page[at];
    next[block] = first;
    previous[block] = 0;
    if (first != 0) {
      previous[first - 1] = block + 1;
    }
    page[at] = block + 1L;
  }

  /** Takes out a block that is there. */
  public void remove(long[] key, int block) {
    int before = previous[block];
    int after = next[block];
    if (after != 0) {
      previous[after - 1] = before;
    }
    if (before != 0) {
      next[before - 1] = after;
      return;
    }
    int head = heads.find(heads.hashOf(key, 0), key, 0);
    if (head == NONE || !heads.isLive(head)) {
      throw new IllegalStateException("a block is taken out of a key that it was not put in by");
    }
    heads.change(head);
    heads.page(head)[heads.state(head)] = after;
    if (after == 0) {
      heads.remove(head);
    }
  }

  /** Gives back what keys that went have left. To be called now and then. */
  public void tidy() {
    if (heads.hasChanges()) {
      clock.publish();
    }
  }

  /** Distinct keys. */
  public long keys() {
    return heads.size();
  }

  /** Heap held, in bytes. */
  public long heapBytes() {
    return heads.heapBytes() + 8L * next.length;
  }
}
