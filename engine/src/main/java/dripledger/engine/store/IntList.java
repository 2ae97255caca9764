package dripledger.engine.store;

import java.util.Arrays;

/**
 * Numbers by place, 0 where none was set. It grows by chunks, so that nothing is copied and no
 * growth takes long. One thread.
 */
public final class IntList {
  private static final int SHIFT = 14;
  private static final int SIZE = 1 << SHIFT;
  private static final int MASK = SIZE - 1;

  private int[][] chunks = {new int[16]}; // only the first is ever shorter than it may be

  /** The number at a place that {@link #grow} was asked for. */
  public int get(int place) {
    return chunks[place >>> SHIFT][place & MASK];
  }

  /** Sets the number at a place that {@link #grow} was asked for. */
  public void set(int place, int number) {
    chunks[place >>> SHIFT][place & MASK] = number;
  }

  /** Makes room for a place and all before it. */
  public void grow(int place) {
    int chunk = place >>> SHIFT;
    if (chunk >= chunks.length || (place & MASK) >= chunks[chunk].length) {
      growTo(chunk, place);
    }
  }

  private void growTo(int chunk, int place) {
    int first = chunk > 0 ? SIZE : Integer.highestOneBit(place) * 2;
    if (chunks[0].length < first) {
      chunks[0] = Arrays.copyOf(chunks[0], first);
    }
    int count = chunks.length;
    if (chunk >= count) {
      chunks = Arrays.copyOf(chunks, chunk + 1);
      for (int c = count; c <= chunk; c++) {
        chunks[c] = new int[SIZE];
      }
    }
  }

  /** Heap held, in bytes. */
  public long heapBytes() {
    long bytes = 0;
    for (int[] chunk : chunks) {
      bytes += 4L * chunk.length + 24;
    }
    return bytes;
  }
}
