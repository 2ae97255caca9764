package dripledger.engine.store;

import java.util.Arrays;

/**
 * From a key to the blocks of another store that have it, in no order. A key's blocks are a list
 * through arrays by block number, so that one comes and goes at the same cost however many there
 * are. It is of what the writer sees: there are no versions. One thread.
 *
 * <p>The keys are tables of open addressing with linear probing, key and first block side by side;
 * each of {@value #TABLES} grows alone, so that none takes long. 8 bytes a block, and 16 to 32 for
 * each key of one word.
 */
public final class HashIndex {
  /** Answered where there is no block. */
  public static final int NONE = KeyedReads.NONE;

  private static final int TABLES = 64;
  private static final int TABLE_SHIFT = 58; // the highest bits of a hash
  private static final long EMPTY = 0;
  private static final long GONE = -1; // in the place of a first block

  private final int keyWords;
  private final int stride;
  private final KeyedStore.BlockRelease release;
  private final long[][] tables = new long[TABLES][]; // entries: key, first block + 1
  private final int[] used = new int[TABLES]; // with what is gone
  private final int[] live = new int[TABLES];
  private long keys;
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
    this.keyWords = keyWords;
    this.release = release;
    stride = keyWords + 1;
    for (int t = 0; t < TABLES; t++) {
      tables[t] = new long[4 * stride];
    }
  }

  private long hash(long[] key, int from) {
    return keyWords == 1 ? KeyedReads.hash(key[from]) : KeyedReads.hash(key, from, keyWords);
  }

  /** Where a key is in its table, or −1. */
  private int find(long[] table, long hash, long[] key, int from) {
    int places = table.length / stride;
    int at = ((int) hash & places - 1) * stride;
    while (table[at + keyWords] != EMPTY) {
      if (table[at] == key[from] && sameRest(table, at, key, from)) {
        if (table[at + keyWords] != GONE) {
          return at;
        }
      }
      at += stride;
      at = at == table.length ? 0 : at;
    }
    return -1;
  }

  private boolean sameRest(long[] table, int at, long[] key, int from) {
    for (int i = 1; i < keyWords; i++) {
      if (table[at + i] != key[from + i]) {
        return false;
      }
    }
    return true;
  }

  private int first(long hash, long[] key, int from) {
    long[] table = tables[(int) (hash >>> TABLE_SHIFT)];
    int at = find(table, hash, key, from);
    return at < 0 ? NONE : (int) table[at + keyWords] - 1;
  }

  /** The first block of a key, or {@link #NONE}. */
  public int first(long[] key) {
    return first(hash(key, 0), key, 0);
  }

  /**
   * Looks for the first blocks of many keys at once, so that their loads wait for memory together.
   *
   * @param all the keys, one after the other
   * @param blocks given them, or {@link #NONE}
   */
  public void firstAhead(long[] all, int count, int[] blocks) {
    if (hashes.length < count) {
      hashes = new long[count];
    }
    long seen = 0;
    for (int i = 0; i < count; i++) {
      long hash = hash(all, i * keyWords);
      hashes[i] = hash;
      long[] table = tables[(int) (hash >>> TABLE_SHIFT)];
      seen += table[((int) hash & table.length / stride - 1) * stride];
    }
    touched = seen;
    for (int i = 0; i < count; i++) {
      blocks[i] = first(hashes[i], all, i * keyWords);
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
    long hash = hash(key, 0);
    int number = (int) (hash >>> TABLE_SHIFT);
    long[] table = tables[number];
    int at = find(table, hash, key, 0);
    if (at < 0) {
      at = insert(number, hash, key);
      table = tables[number];
    }
    int first = (int) table[at + keyWords];
    next[block] = first;
    previous[block] = 0;
    if (first != 0) {
      previous[first - 1] = block + 1;
    }
    table[at + keyWords] = block + 1L;
  }

  /** Makes a place for a key that is not there, whose first block is 0 for the moment. */
  private int insert(int number, long hash, long[] key) {
    long[] table = tables[number];
    int places = table.length / stride;
    if ((used[number] + 1) * 3 > places * 2) {
      table = rebuild(number, live[number] * 3 > places ? places * 2 : places);
      places = table.length / stride;
    }
    int at = free(table, (int) hash & places - 1);
    System.arraycopy(key, 0, table, at, keyWords);
    table[at + keyWords] = 0;
    used[number]++;
    live[number]++;
    keys++;
    return at;
  }

  private int free(long[] table, int place) {
    int at = place * stride;
    while (table[at + keyWords] != EMPTY) {
      at += stride;
      at = at == table.length ? 0 : at;
    }
    return at;
  }

  private long[] rebuild(int number, int places) {
    long[] old = tables[number];
    long[] table = new long[places * stride];
    for (int at = 0; at < old.length; at += stride) {
      if (old[at + keyWords] != EMPTY && old[at + keyWords] != GONE) {
        int to = free(table, (int) hash(old, at) & places - 1);
        System.arraycopy(old, at, table, to, stride);
      }
    }
    used[number] = live[number];
    tables[number] = table;
    return table;
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
    long hash = hash(key, 0);
    int number = (int) (hash >>> TABLE_SHIFT);
    long[] table = tables[number];
    int at = find(table, hash, key, 0);
    if (at < 0) {
      throw new IllegalStateException("a block is taken out of a key that it was not put in by");
    }
    if (after != 0) {
      table[at + keyWords] = after;
      return;
    }
    release.released(table, at);
    table[at + keyWords] = GONE;
    live[number]--;
    keys--;
  }

  /** Distinct keys. */
  public long keys() {
    return keys;
  }

  /** Heap held, in bytes. */
  public long heapBytes() {
    long words = 0;
    for (long[] table : tables) {
      words += table.length + 2;
    }
    return 8 * words + 8L * next.length;
  }
}
