package dripledger.engine.store;

/**
 * From a key to the rows of two sides that have it, in no order: one look finds both. A row is a
 * number; a side's rows of one key are a list through arrays by number, so that one comes and goes
 * at the same cost however many there are. It is of what the writer sees: there are no versions.
 * One thread.
 *
 * <p>The keys are tables of open addressing with linear probing, key and first rows side by side;
 * each of {@value #TABLES} grows alone, so that none takes long. 24 to 48 bytes for each key of one
 * word, and 4 a row where a key may have several, or 8 where rows go.
 */
public final class JoinIndex {
  /** Answered where there is no row. */
  public static final int NONE = KeyedReads.NONE;

  private static final int TABLES = 64;
  private static final int TABLE_SHIFT = 58; // the highest bits of a hash
  private static final long EMPTY = 0;
  private static final long GONE = -1; // in the place of first rows
  private static final long LOW = 0xFFFF_FFFFL;

  private final int keyWords;
  private final int stride;
  private final KeyedStore.BlockRelease release;
  private final long[][] tables = new long[TABLES][]; // entries: key, first rows + 1 of each side
  private final int[] masks = new int[TABLES]; // places of a table − 1
  private final int[] used = new int[TABLES]; // with what is gone
  private final int[] live = new int[TABLES];
  private final long ours; // the bits of first rows that are no mere notes
  private long keys;
  private final IntList[] next = new IntList[2]; // row + 1, or 0; null for a side of one row a key
  private final IntList[] previous = new IntList[2]; // null for a side whose rows stay, too

  @SuppressWarnings("UnusedVariable")
  private long touched; // what was read only to have it near

  /** What is known of the rows of a side. */
  public enum Rows {
    /** A key has one at most. */
    ONE,
    /** They are kept elsewhere: where one was seen last is noted and may be wrong. */
    ELSEWHERE,
    /** They only come. */
    STAY,
    /** They come and go. */
    GO
  }

  /**
   * @param keyWords of which a key is made
   * @param rows what is known of each side's
   * @param release told of a key that is no longer there
   */
  public JoinIndex(int keyWords, Rows[] rows, KeyedStore.BlockRelease release) {
    this.keyWords = keyWords;
    this.release = release;
    stride = keyWords + 1;
    for (int t = 0; t < TABLES; t++) {
      tables[t] = new long[4 * stride];
      masks[t] = 3;
    }
    for (int side = 0; side < 2; side++) {
      next[side] = rows[side] == Rows.ONE || rows[side] == Rows.ELSEWHERE ? null : new IntList();
      previous[side] = rows[side] == Rows.GO ? new IntList() : null;
    }
    ours = rows[0] == Rows.ELSEWHERE ? ~LOW : rows[1] == Rows.ELSEWHERE ? LOW : -1;
  }

  /** The hash of a key. */
  public long hash(long[] key, int from) {
    return keyWords == 1 ? KeyedReads.hash(key[from]) : KeyedReads.hash(key, from, keyWords);
  }

  private long[] table(long hash) {
    return tables[(int) (hash >>> TABLE_SHIFT)];
  }

  private int start(long hash) {
    return ((int) hash & masks[(int) (hash >>> TABLE_SHIFT)]) * stride;
  }

  /** Where a key is in its table, or −1. */
  private int find(long[] table, long hash, long[] key, int from) {
    int at = start(hash);
    while (table[at + keyWords] != EMPTY) {
      if (table[at] == key[from]
          && table[at + keyWords] != GONE
          && sameRest(table, at, key, from)) {
        return at;
      }
      at += stride;
      at = at == table.length ? 0 : at;
    }
    return -1;
  }

  private boolean isAt(long[] table, int place, long[] key, int from) {
    return place >= 0
        && place < table.length
        && table[place] == key[from]
        && table[place + keyWords] != GONE
        && table[place + keyWords] != EMPTY
        && sameRest(table, place, key, from);
  }

  private boolean sameRest(long[] table, int at, long[] key, int from) {
    for (int i = 1; i < keyWords; i++) {
      if (table[at + i] != key[from + i]) {
        return false;
      }
    }
    return true;
  }

  private static int head(long heads, int side) {
    return (int) (side == 0 ? heads : heads >>> 32);
  }

  private static long withHead(long heads, int side, int head) {
    return side == 0 ? heads & ~LOW | head & LOW : heads & LOW | (long) head << 32;
  }

  /**
   * Looks for the first rows of many keys at once, so that their loads wait for memory together.
   *
   * @param all the keys, one after the other
   * @param hashes set to theirs
   * @param places set to where they are, which may not stay so
   * @param own set to the first rows of a side, or {@link #NONE}
   * @param others set to the first rows of the other side, or {@link #NONE}
   */
  public void ahead(
      int side, long[] all, int count, long[] hashes, int[] places, int[] own, int[] others) {
    long seen = 0;
    for (int i = 0; i < count; i++) {
      long hash = hash(all, i * keyWords);
      hashes[i] = hash;
      long[] table = table(hash);
      seen += table[start(hash)];
    }
    for (int i = 0; i < count; i++) {
      long[] table = table(hashes[i]);
      int at = find(table, hashes[i], all, i * keyWords);
      long heads = at < 0 ? 0 : table[at + keyWords];
      places[i] = at;
      own[i] = head(heads, side) - 1;
      others[i] = head(heads, 1 - side) - 1;
    }
    touched = seen;
  }

  /**
   * Goes on to the next rows of many keys at once.
   *
   * @param rows of a side, or {@link #NONE}; each is replaced by the next of its key
   * @return how many there are
   */
  public int nextAhead(int side, int[] rows, int count) {
    IntList after = next[side];
    if (after == null) {
      return 0;
    }
    int found = 0;
    for (int i = 0; i < count; i++) {
      if (rows[i] >= 0) {
        rows[i] = after.get(rows[i]) - 1;
        found += rows[i] >= 0 ? 1 : 0;
      }
    }
    return found;
  }

  /** The row of a side behind one of the same key, or {@link #NONE}. */
  public int next(int side, int row) {
    IntList after = next[side];
    return after == null ? NONE : after.get(row) - 1;
  }

  /**
   * Adds a row that is not there.
   *
   * @param place where its key was a short time ago, or −1
   */
  public void add(int side, long hash, long[] key, int from, int place, int row) {
    long[] table = table(hash);
    int at = isAt(table, place, key, from) ? place : find(table, hash, key, from);
    if (at < 0) {
      int number = (int) (hash >>> TABLE_SHIFT);
      at = insert(number, hash, key, from);
      table = tables[number];
    }
    long heads = table[at + keyWords];
    int first = head(heads, side);
    if (next[side] != null) {
      link(side, row, first);
    } else if (first != 0) {
      throw new IllegalStateException("a key has a second row");
    }
    table[at + keyWords] = withHead(heads, side, row + 1);
  }

  /**
   * Notes where a row of a key was seen that is kept elsewhere, if the key is there.
   *
   * @param place where the key was a short time ago, or −1
   */
  public void note(int side, long hash, long[] key, int from, int place, int row) {
    long[] table = table(hash);
    if (isAt(table, place, key, from)) {
      table[place + keyWords] = withHead(table[place + keyWords], side, row + 1);
    }
  }

  /** Puts a row in front of the list whose first, plus 1, is given. */
  private void link(int side, int row, int first) {
    next[side].grow(row);
    next[side].set(row, first);
    IntList before = previous[side];
    if (before != null) {
      before.grow(row);
      before.set(row, 0);
      if (first != 0) {
        before.set(first - 1, row + 1);
      }
    }
  }

  /** Makes a place for a key that is not there, which has no rows for the moment. */
  private int insert(int number, long hash, long[] key, int from) {
    long[] table = tables[number];
    int places = masks[number] + 1;
    if ((used[number] + 1) * 3 > places * 2) {
      table = rebuild(number, live[number] * 3 > places ? places * 2 : places);
    }
    int at = free(table, start(hash));
    System.arraycopy(key, from, table, at, keyWords);
    table[at + keyWords] = 0;
    used[number]++;
    live[number]++;
    keys++;
    return at;
  }

  private int free(long[] table, int from) {
    int at = from;
    while (table[at + keyWords] != EMPTY) {
      at += stride;
      at = at == table.length ? 0 : at;
    }
    return at;
  }

  private long[] rebuild(int number, int places) {
    long[] old = tables[number];
    long[] table = new long[places * stride];
    masks[number] = places - 1;
    for (int at = 0; at < old.length; at += stride) {
      if (old[at + keyWords] != EMPTY && old[at + keyWords] != GONE) {
        System.arraycopy(old, at, table, free(table, start(hash(old, at))), stride);
      }
    }
    used[number] = live[number];
    tables[number] = table;
    return table;
  }

  /** Takes out a row that is there, of a side where rows go. */
  public void remove(int side, long hash, long[] key, int from, int row) {
    int after = 0;
    if (next[side] != null) {
      int before = previous[side].get(row);
      after = next[side].get(row);
      if (after != 0) {
        previous[side].set(after - 1, before);
      }
      if (before != 0) {
        next[side].set(before - 1, after);
        return;
      }
    }
    int number = (int) (hash >>> TABLE_SHIFT);
    long[] table = tables[number];
    int at = find(table, hash, key, from);
    if (at < 0) {
      throw new IllegalStateException("a row is taken out of a key that it was not put in by");
    }
    long heads = withHead(table[at + keyWords], side, after);
    table[at + keyWords] = heads;
    if ((heads & ours) == 0) {
      release.released(table, at);
      table[at + keyWords] = GONE;
      live[number]--;
      keys--;
    }
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
    long bytes = 8 * words;
    for (int side = 0; side < 2; side++) {
      bytes += next[side] == null ? 0 : next[side].heapBytes();
      bytes += previous[side] == null ? 0 : previous[side].heapBytes();
    }
    return bytes;
  }
}
