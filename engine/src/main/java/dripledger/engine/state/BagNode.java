package dripledger.engine.state;

import dripledger.engine.row.Bytes;

/** A node of a {@link SortedBag}'s tree. Immutable. */
abstract sealed class BagNode permits BagNode.Leaf, BagNode.Inner {
  /** The number of distinct entries below. */
  abstract long entries();

  /** The sum of their weights. */
  abstract long weight();

  /** Heap held, in bytes. */
  abstract long heapBytes();

  /**
   * Entries in one byte array. If all have the same lengths (rows of fixed-size columns) their
   * places are multiples of {@code stride}; else {@code starts} and {@code keyEnds} hold them.
   */
  static final class Leaf extends BagNode {
    static final Leaf EMPTY = new Leaf(new byte[0], 0, 0, new int[1], null, null);

    final byte[] data;
    final int stride; // 0 if entries differ in length
    final int keyLength; // of every key, if keyEnds is null
    final int[] starts; // n + 1 of them; null if stride is not 0
    final int[] keyEnds;
    final long[] weights; // null if all are 1

    Leaf(byte[] data, int stride, int keyLength, int[] starts, int[] keyEnds, long[] weights) {
      this.data = data;
      this.stride = stride;
      this.keyLength = keyLength;
      this.starts = starts;
      this.keyEnds = keyEnds;
      this.weights = weights;
    }

    int size() {
      return stride > 0 ? data.length / stride : starts.length - 1;
    }

    int start(int i) {
      return stride > 0 ? i * stride : starts[i];
    }

    int keyEnd(int i) {
      return keyEnds == null ? start(i) + keyLength : keyEnds[i];
    }

    long weight(int i) {
      return weights == null ? 1 : weights[i];
    }

    @Override
    long entries() {
      return size();
    }

    @Override
    long weight() {
      if (weights == null) {
        return size();
      }
      long sum = 0;
      for (long w : weights) {
        sum += w;
      }
      return sum;
    }

    @Override
    long heapBytes() {
      return 64L
          + data.length
          + (starts == null ? 0 : 16 + 4L * starts.length)
          + (keyEnds == null ? 0 : 16 + 4L * keyEnds.length)
          + (weights == null ? 0 : 16 + 8L * weights.length);
    }

    /** The first entry at or behind the bytes given, not looking before {@code low}. */
    int lowerBound(byte[] bytes, int from, int to, int low) {
      int lo = low;
      int hi = size();
      // Changes to one key come one after the other, so the answer is often where we stand.
      if (lo < hi && Bytes.compare(data, start(lo), start(lo + 1), bytes, from, to) >= 0) {
        return lo;
      }
      while (lo < hi) {
        int middle = (lo + hi) >>> 1;
        if (Bytes.compare(data, start(middle), start(middle + 1), bytes, from, to) < 0) {
          lo = middle + 1;
        } else {
          hi = middle;
        }
      }
      return lo;
    }

    /** The same for entries of one length of at least eight bytes, whose first eight are known. */
    int lowerBound(long prefix, byte[] bytes, int from, int low, int n) {
      int lo = low;
      int hi = n;
      int middle = lo;
      while (lo < hi) {
        int at = middle * stride;
        long here = Bytes.getLongBigEndian(data, at);
        int order =
            here != prefix
                ? Long.compareUnsigned(here, prefix)
                : Bytes.compare(data, at + 8, at + stride, bytes, from + 8, from + stride);
        if (order < 0) {
          lo = middle + 1;
        } else {
          hi = middle;
        }
        middle = (lo + hi) >>> 1;
      }
      return lo;
    }
  }

  static final class Inner extends BagNode {
    final BagNode[] children;
    final byte[][] fences; // fences[i]: at or below every entry of child i; fences[0] is unused
    private final long[] fencePrefixes; // the first eight bytes of each, so that few are looked at
    final long entries;
    final long weight;
    final long heapBytes;

    Inner(BagNode[] children, byte[][] fences) {
      this.children = children;
      this.fences = fences;
      long entrySum = 0;
      long weightSum = 0;
      long byteSum = 100L + 16L * children.length;
      fencePrefixes = new long[children.length];
      for (int i = 0; i < children.length; i++) {
        fencePrefixes[i] = i == 0 ? 0 : prefix(fences[i], 0, fences[i].length);
        entrySum += children[i].entries();
        weightSum += children[i].weight();
        byteSum += children[i].heapBytes() + (fences[i] == null ? 0 : 16 + fences[i].length);
      }
      entries = entrySum;
      weight = weightSum;
      heapBytes = byteSum;
    }

    @Override
    long entries() {
      return entries;
    }

    @Override
    long weight() {
      return weight;
    }

    @Override
    long heapBytes() {
      return heapBytes;
    }

    int childOf(byte[] bytes, int from, int to) {
      int lo = 1;
      int hi = children.length;
      long wanted = prefix(bytes, from, to);
      while (lo < hi) {
        int middle = (lo + hi) >>> 1;
        long here = fencePrefixes[middle];
        byte[] fence = fences[middle];
        int order =
            here != wanted
                ? Long.compareUnsigned(here, wanted)
                : Bytes.compare(fence, 0, fence.length, bytes, from, to);
        if (order <= 0) {
          lo = middle + 1;
        } else {
          hi = middle;
        }
      }
      return lo - 1;
    }
  }

  /** The first eight bytes, padded with zeroes, as an unsigned number. */
  static long prefix(byte[] bytes, int from, int to) {
    if (to - from >= 8) {
      return Bytes.getLongBigEndian(bytes, from);
    }
    long value = 0;
    for (int i = 0; i < 8; i++) {
      value = value << 8 | (from + i < to ? bytes[from + i] & 0xFF : 0);
    }
    return value;
  }
}
