package dripledger.bench;

import java.util.Arrays;

/** What a loop by hand finds rows by: numbers by numbers, in open addressing. One thread. */
final class LongMap {
  private static final long NONE = Long.MIN_VALUE;

  private long[] keys = new long[1 << 10];
  private long[] values = new long[1 << 10];
  private int size;

  LongMap() {
    Arrays.fill(keys, NONE);
  }

  /** The value of a key, 0 if there is none. */
  long get(long key) {
    int at = slot(key);
    return keys[at] == key ? values[at] : 0;
  }

  void put(long key, long value) {
    int at = slot(key);
    if (keys[at] != key) {
      if (++size * 2 > keys.length) {
        grow();
        at = slot(key);
      }
      keys[at] = key;
    }
    values[at] = value;
  }

  private int slot(long key) {
    long h = key * 0x9E3779B97F4A7C15L;
    int at = (int) (h ^ (h >>> 32)) & (keys.length - 1);
    while (keys[at] != key && keys[at] != NONE) {
      at = (at + 1) & (keys.length - 1);
    }
    return at;
  }

  private void grow() {
    long[] oldKeys = keys;
    long[] oldValues = values;
    keys = new long[oldKeys.length * 2];
    values = new long[keys.length];
    Arrays.fill(keys, NONE);
    for (int i = 0; i < oldKeys.length; i++) {
      if (oldKeys[i] != NONE) {
        int at = slot(oldKeys[i]);
        keys[at] = oldKeys[i];
        values[at] = oldValues[i];
      }
    }
  }
}
