package dripledger.engine.state;

import dripledger.engine.row.Bytes;
import java.util.Arrays;

/**
 * Changes for a {@link SortedBag}: byte strings with weights, gathered in any order, then sorted
 * once. An entry is a key followed by bytes that belong to it; entries sort by all their bytes.
 *
 * <p>Sorting is a least-significant-digit radix sort on the first eight bytes that skips the bytes
 * on which all entries agree (so keys of one small range cost two or three passes), then a
 * comparison sort within runs of equal prefixes. Reused from epoch to epoch; single-threaded.
 */
public final class BagBatch {
  private byte[] bytes = new byte[4096];
  private int used;
  private int size;
  // While all entries have the same lengths their places need no arrays; 0 once they differ.
  private int stride;
  private int keyStride;
  private int[] starts = new int[64];
  private int[] keyEnds = new int[64];
  private long[] weights = new long[64];
  private int[] order = new int[64];
  private long[] prefixes = new long[64];
  private int[] orderScratch = new int[0];
  private long[] prefixScratch = new long[0];
  private byte[] gatheredBytes = new byte[0];
  private long[] gatheredWeights = new long[0];

  public int size() {
    return size;
  }

  public boolean isEmpty() {
    return size == 0;
  }

  public void clear() {
    size = 0;
    used = 0;
    if (bytes.length > 64 << 20) {
      bytes = new byte[4096];
    }
  }

  private void ensure(int more) {
    if (bytes.length - used < more) {
      long wanted = Math.max((long) used + more, bytes.length * 2L);
      bytes = Arrays.copyOf(bytes, (int) Math.min(wanted, Integer.MAX_VALUE - 16));
    }
  }

  /** Adds one entry: a key and its tail. */
  public void add(
      byte[] key, int keyFrom, int keyLength, byte[] tail, int from, int length, long weight) {
    int at = begin(keyLength, length, weight);
    Bytes.copy(key, keyFrom, bytes, at, keyLength);
    Bytes.copy(tail, from, bytes, at + keyLength, length);
  }

  /**
   * Adds an entry whose bytes the caller writes into {@link #bytes} itself.
   *
   * @return where its key goes; its tail goes right behind
   */
  public int begin(int keyLength, int length, long weight) {
    if (size == weights.length) {
      int larger = size * 2;
      starts = Arrays.copyOf(starts, larger);
      keyEnds = Arrays.copyOf(keyEnds, larger);
      weights = Arrays.copyOf(weights, larger);
      order = Arrays.copyOf(order, larger);
      prefixes = Arrays.copyOf(prefixes, larger);
    }
    if (size == 0) {
      stride = keyLength + length;
      keyStride = keyLength;
    } else if (stride > 0 && (stride != keyLength + length || keyStride != keyLength)) {
      for (int i = 0; i < size; i++) {
        starts[i] = i * stride;
        keyEnds[i] = i * stride + keyStride;
      }
      stride = 0;
    }
    if (stride == 0) {
      starts[size] = used;
      keyEnds[size] = used + keyLength;
    }
    weights[size++] = weight;
    int at = used;
    ensure(keyLength + length);
    used += keyLength + length;
    return at;
  }

  /** Where entries live; replaced by {@link #begin} and {@link #sort}. */
  public byte[] bytes() {
    return bytes;
  }

  /** The length of every entry, or 0 if they differ. */
  int stride() {
    return stride;
  }

  /** The length of every key if {@link #stride} is not 0. */
  int keyStride() {
    return keyStride;
  }

  /** The first eight bytes, padded with zeroes, as an unsigned number. */
  long prefixAt(int rank) {
    return prefixes[rank];
  }

  int start(int rank) {
    return startOf(order[rank]);
  }

  int keyEnd(int rank) {
    int index = order[rank];
    return stride > 0 ? index * stride + keyStride : keyEnds[index];
  }

  int end(int rank) {
    return endOf(order[rank]);
  }

  private int startOf(int index) {
    return stride > 0 ? index * stride : starts[index];
  }

  private int endOf(int index) {
    if (stride > 0) {
      return index * stride + stride;
    }
    return index + 1 < size ? starts[index + 1] : used;
  }

  long weight(int rank) {
    return weights[order[rank]];
  }

  private void setWeight(int rank, long weight) {
    weights[order[rank]] = weight;
  }

  /**
   * Sorts the entries, adds up the weights of equal ones and drops those that add up to zero.
   *
   * @return how many distinct entries with a weight remain, reachable by rank
   */
  int sort() {
    long differing = 0;
    for (int i = 0; i < size; i++) {
      order[i] = i;
      prefixes[i] = prefix(i);
      differing |= prefixes[i] ^ prefixes[0];
    }
    if (size < 256) {
      sortRange(0, size);
      for (int i = 0; i < size; i++) {
        prefixes[i] = prefix(order[i]);
      }
    } else {
      radixSort(differing);
      gather();
      sortEqualPrefixes();
    }
    return combine();
  }

  private long prefix(int index) {
    int from = startOf(index);
    int length = endOf(index) - from;
    if (length >= 8) {
      return Bytes.getLongBigEndian(bytes, from);
    }
    long value = 0;
    for (int i = 0; i < 8; i++) {
      value = value << 8 | (i < length ? bytes[from + i] & 0xFF : 0);
    }
    return value;
  }

  private int compare(int a, int b) {
    return Bytes.compare(bytes, startOf(a), endOf(a), bytes, startOf(b), endOf(b));
  }

  private void sortRange(int from, int to) {
    if (to - from <= 24) {
      for (int i = from + 1; i < to; i++) {
        int moved = order[i];
        int j = i - 1;
        while (j >= from && compare(order[j], moved) > 0) {
          order[j + 1] = order[j];
          j--;
        }
        order[j + 1] = moved;
      }
      return;
    }
    if (orderScratch.length < size) {
      orderScratch = new int[order.length];
    }
    mergeSort(from, to);
  }

  private void mergeSort(int from, int to) {
    if (to - from <= 24) {
      sortRange(from, to);
      return;
    }
    int middle = (from + to) >>> 1;
    mergeSort(from, middle);
    mergeSort(middle, to);
    if (compare(order[middle - 1], order[middle]) <= 0) {
      return;
    }
    System.arraycopy(order, from, orderScratch, from, middle - from);
    int left = from;
    int right = middle;
    for (int out = from; left < middle; out++) {
      if (right >= to || compare(orderScratch[left], order[right]) <= 0) {
        order[out] = orderScratch[left++];
      } else {
        order[out] = order[right++];
      }
    }
  }

  private void radixSort(long differing) {
    if (orderScratch.length < size) {
      orderScratch = new int[order.length];
    }
    if (prefixScratch.length < size) {
      prefixScratch = new long[prefixes.length];
    }
    int[] counts = new int[2049];
    for (int shift = 0; shift < 64; shift += 11) {
      if ((differing >>> shift & 0x7FF) == 0) {
        continue;
      }
      Arrays.fill(counts, 0);
      for (int i = 0; i < size; i++) {
        counts[(int) (prefixes[i] >>> shift & 0x7FF) + 1]++;
      }
      for (int d = 0; d < 2048; d++) {
        counts[d + 1] += counts[d];
      }
      for (int i = 0; i < size; i++) {
        int to = counts[(int) (prefixes[i] >>> shift & 0x7FF)]++;
        prefixScratch[to] = prefixes[i];
        orderScratch[to] = order[i];
      }
      long[] p = prefixes;
      prefixes = prefixScratch;
      prefixScratch = p;
      int[] o = order;
      order = orderScratch;
      orderScratch = o;
    }
  }

  /**
   * Puts the entries themselves into the order found, so that everything after reads them one
   * behind the other instead of all over the memory.
   */
  private void gather() {
    if (gatheredBytes.length < used) {
      gatheredBytes = new byte[bytes.length];
    }
    if (gatheredWeights.length != weights.length) {
      gatheredWeights = new long[weights.length];
    }
    int to = 0;
    int[] newStarts = stride > 0 ? starts : new int[starts.length];
    int[] newKeyEnds = stride > 0 ? keyEnds : new int[starts.length];
    for (int rank = 0; rank < size; rank++) {
      int index = order[rank];
      int from = startOf(index);
      int length = endOf(index) - from;
      Bytes.copy(bytes, from, gatheredBytes, to, length);
      gatheredWeights[rank] = weights[index];
      if (stride == 0) {
        newStarts[rank] = to;
        newKeyEnds[rank] = to + keyEnds[index] - from;
      }
      to += length;
    }
    for (int rank = 0; rank < size; rank++) {
      order[rank] = rank;
    }
    starts = newStarts;
    keyEnds = newKeyEnds;
    byte[] b = bytes;
    bytes = gatheredBytes;
    gatheredBytes = b;
    long[] w = weights;
    weights = gatheredWeights;
    gatheredWeights = w;
  }

  private void sortEqualPrefixes() {
    for (int from = 0; from < size; ) {
      int to = from + 1;
      while (to < size && prefixes[to] == prefixes[from]) {
        to++;
      }
      if (to - from > 1) {
        sortRange(from, to);
      }
      from = to;
    }
  }

  private int combine() {
    int kept = 0;
    for (int i = 0; i < size; ) {
      long weight = weights[order[i]];
      int next = i + 1;
      while (next < size && prefixes[next] == prefixes[i] && compare(order[i], order[next]) == 0) {
        weight = Math.addExact(weight, weights[order[next]]);
        next++;
      }
      if (weight != 0) {
        order[kept] = order[i];
        prefixes[kept] = prefixes[i];
        setWeight(kept, weight);
        kept++;
      }
      i = next;
    }
    return kept;
  }

  /** Heap held, in bytes. */
  public long heapBytes() {
    return bytes.length
        + 28L * starts.length
        + 4L * orderScratch.length
        + 8L * prefixScratch.length
        + gatheredBytes.length
        + 8L * gatheredWeights.length;
  }
}
