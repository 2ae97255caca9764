package dripledger.bench;

import java.util.Arrays;

/**
 * The baseline: {@code SELECT k, COUNT(*), SUM(v) GROUP BY k} as somebody would write it for this
 * one query. Open addressing over primitive arrays; every event emits the group's old and new row
 * into a primitive buffer, which is what a downstream consumer would read. Nothing is published.
 */
final class HandWritten {
  private long[] keys;
  private long[] counts;
  private long[] sums;
  private int size;
  private int mask;
  private final long[] emitted = new long[3 * 2 * 65_536];
  private int emittedAt;
  private long checksum;

  HandWritten() {
    allocate(1 << 10);
  }

  private void allocate(int capacity) {
    keys = new long[capacity];
    counts = new long[capacity];
    sums = new long[capacity];
    mask = capacity - 1;
  }

  void add(long key, long value) {
    int at = slot(key);
    if (counts[at] == 0) {
      keys[at] = key;
      if (++size * 2 > keys.length) {
        grow();
        at = slot(key);
        keys[at] = key;
      }
    } else {
      emit(key, counts[at], sums[at]);
    }
    counts[at]++;
    sums[at] += value;
    emit(key, counts[at], sums[at]);
  }

  /** Adds what another has. */
  void addAll(HandWritten other) {
    for (int i = 0; i < other.keys.length; i++) {
      if (other.counts[i] != 0) {
        add(other.keys[i], other.counts[i], other.sums[i]);
      }
    }
  }

  private void add(long key, long count, long sum) {
    add(key, sum);
    counts[slot(key)] += count - 1;
  }

  /** The sum of a key, 0 if it is not there. */
  long sum(long key) {
    return sums[slot(key)];
  }

  private int slot(long key) {
    long h = key * 0x9E3779B97F4A7C15L;
    int at = (int) (h ^ (h >>> 32)) & mask;
    while (counts[at] != 0 && keys[at] != key) {
      at = (at + 1) & mask;
    }
    return at;
  }

  private void emit(long key, long count, long sum) {
    if (emittedAt == emitted.length) {
      checksum += emitted[emitted.length - 1];
      emittedAt = 0;
    }
    emitted[emittedAt] = key;
    emitted[emittedAt + 1] = count;
    emitted[emittedAt + 2] = sum;
    emittedAt += 3;
  }

  private void grow() {
    long[] oldKeys = keys;
    long[] oldCounts = counts;
    long[] oldSums = sums;
    allocate(keys.length * 2);
    for (int i = 0; i < oldKeys.length; i++) {
      if (oldCounts[i] != 0) {
        int at = slot(oldKeys[i]);
        keys[at] = oldKeys[i];
        counts[at] = oldCounts[i];
        sums[at] = oldSums[i];
      }
    }
  }

  /** Keeps the compiler from leaving the work out. */
  long checksum() {
    return checksum + Arrays.hashCode(emitted) + size;
  }

  int size() {
    return size;
  }
}
