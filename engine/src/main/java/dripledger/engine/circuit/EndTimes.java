package dripledger.engine.circuit;

import dripledger.engine.time.Watermark;
import java.util.Arrays;
import java.util.TreeMap;
import java.util.function.IntConsumer;

/**
 * Blocks of a store by the time at which they end: lists of those that end about together, in the
 * order they came. A block may be there more than once, and may have come to be of another key: who
 * is given it must look. Times are microseconds since 1970. One thread.
 */
final class EndTimes {
  private static final int TOGETHER = 14; // bits of a time: 16 milliseconds

  private static final class Blocks {
    int[] blocks = new int[4];
    long[] times = new long[4];
    int count;

    void add(long time, int block) {
      if (count == blocks.length) {
        blocks = Arrays.copyOf(blocks, 2 * count);
        times = Arrays.copyOf(times, 2 * count);
      }
      times[count] = time;
      blocks[count++] = block;
    }
  }

  private final TreeMap<Long, Blocks> byTime = new TreeMap<>(); // by the higher bits
  private Blocks last;
  private long lastTime;
  private long capacity;
  private final Blocks waiting = new Blocks(); // of those that are due in part
  private long ended = Watermark.NONE;

  /** Notes a block that ends at a time. */
  void add(long time, int block) {
    long about = time >> TOGETHER;
    if (last == null || lastTime != about) {
      last = byTime.computeIfAbsent(about, t -> new Blocks());
      lastTime = about;
    }
    int room = last.count == 0 ? 0 : last.blocks.length;
    last.add(time, block);
    capacity += last.blocks.length - room;
  }

  /** Whether what has this time is over. */
  boolean isOver(long time) {
    return time <= ended;
  }

  /** Up to when everything is over. */
  long until() {
    return ended;
  }

  /** The first time at which something ends, or {@link Long#MAX_VALUE}. */
  long first() {
    if (byTime.isEmpty()) {
      return Long.MAX_VALUE;
    }
    Blocks blocks = byTime.firstEntry().getValue();
    return Arrays.stream(blocks.times, 0, blocks.count).min().orElseThrow();
  }

  /** Whether anything is over. */
  boolean anyOver() {
    return ended != Watermark.NONE;
  }

  /**
   * Ends everything up to a time, and gives the blocks that end by it.
   *
   * @param time {@link Watermark#NONE} and {@link Watermark#TIMELESS} end nothing
   */
  void endUpTo(long time, IntConsumer sink) {
    if (time == Watermark.NONE || time == Watermark.TIMELESS || time <= ended) {
      return;
    }
    ended = time;
    while (!byTime.isEmpty() && byTime.firstKey() <= time >> TOGETHER) {
      Blocks blocks = byTime.pollFirstEntry().getValue();
      capacity -= blocks.blocks.length;
      last = null;
      for (int i = 0; i < blocks.count; i++) {
        if (blocks.times[i] <= time) {
          sink.accept(blocks.blocks[i]);
        } else {
          waiting.add(blocks.times[i], blocks.blocks[i]);
        }
      }
    }
    for (int i = 0; i < waiting.count; i++) {
      add(waiting.times[i], waiting.blocks[i]);
    }
    waiting.count = 0;
  }

  /** Forgets what was to end; up to when everything is over is known still. */
  void clear() {
    byTime.clear();
    last = null;
    capacity = 0;
  }

  /** Goes on from where everything up to a time was over. */
  void restored(long time) {
    ended = time == Watermark.TIMELESS ? Watermark.NONE : time;
  }

  /** A watermark less a delay. */
  static long upTo(long watermark, long delay) {
    return watermark == Watermark.NONE || watermark == Watermark.TIMELESS
        ? watermark
        : watermark - delay;
  }

  long heapBytes() {
    return 12 * capacity + 120L * byTime.size();
  }
}
