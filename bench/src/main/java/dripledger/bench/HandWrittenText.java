package dripledger.bench;

import java.util.Arrays;

/**
 * What {@link HandWritten} is, for text keys: open addressing over one byte array that keys are
 * appended to.
 */
final class HandWrittenText {
  private byte[] bytes = new byte[1 << 16];
  private int end;
  private int[] starts = new int[1 << 10];
  private int[] lengths = new int[1 << 10];
  private long[] counts = new long[1 << 10];
  private long[] sums = new long[1 << 10];
  private int size;

  void add(byte[] source, int from, int length, long value) {
    int at = slot(source, from, length);
    if (counts[at] == 0) {
      if (++size * 2 > counts.length) {
        grow();
        at = slot(source, from, length);
      }
      if (bytes.length - end < length) {
        bytes = Arrays.copyOf(bytes, bytes.length * 2);
      }
      System.arraycopy(source, from, bytes, end, length);
      starts[at] = end;
      lengths[at] = length;
      end += length;
    }
    counts[at]++;
    sums[at] += value;
  }

  private int slot(byte[] source, int from, int length) {
    int hash = 1;
    for (int i = from; i < from + length; i++) {
      hash = hash * 31 + source[i];
    }
    int mask = counts.length - 1;
    int at = (hash * 0x9E3779B9 >>> 7) & mask;
    while (counts[at] != 0
        && !Arrays.equals(
            bytes, starts[at], starts[at] + lengths[at], source, from, from + length)) {
      at = at + 1 & mask;
    }
    return at;
  }

  private void grow() {
    int[] oldStarts = starts;
    int[] oldLengths = lengths;
    long[] oldCounts = counts;
    long[] oldSums = sums;
    starts = new int[oldStarts.length * 2];
    lengths = new int[starts.length];
    counts = new long[starts.length];
    sums = new long[starts.length];
    for (int i = 0; i < oldCounts.length; i++) {
      if (oldCounts[i] != 0) {
        int at = slot(bytes, oldStarts[i], oldLengths[i]);
        starts[at] = oldStarts[i];
        lengths[at] = oldLengths[i];
        counts[at] = oldCounts[i];
        sums[at] = oldSums[i];
      }
    }
  }

  long checksum() {
    return Arrays.stream(sums).sum() + size;
  }
}
