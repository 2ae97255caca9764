package dripledger.engine.circuit;

import dripledger.engine.time.Watermark;
import java.util.Arrays;
import java.util.Map;
import java.util.TreeMap;
import java.util.function.IntConsumer;

/**
 * Blocks of a store by the time at which they end: a list for each time, in the order they came. A
 * block may be there more than once, and may have come to be of another key: who is given it must
 * look. Times are microseconds since 1970. One thread.
 */
final class EndTimes {
  private static final class Blocks {
    int[] blocks = new int[8];
    int count;
  }

  private final TreeMap<Long, Blocks> byTime = new TreeMap<>();
  private Blocks last;
  private long lastTime;
  private long capacity;
  private long ended = Watermark.NONE;

  /** Notes a block that ends at a time. */
  void add(long time, int block) {
    if (last == null || lastTime != time) {
      last = byTime.get(time);
      if (last == null) {
        last = new Blocks();
        capacity += last.blocks.length;
        byTime.put(time, last);
      }
      lastTime = time;
    }
    if (last.count == last.blocks.length) {
      capacity += last.count;
      last.blocks = Arrays.copyOf(last.blocks, 2 * last.count);
    }
    last.blocks[last.count++] = block;
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
    return byTime.isEmpty() ? Long.MAX_VALUE : byTime.firstKey();
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
    while (!byTime.isEmpty() && byTime.firstKey() <= time) {
      Map.Entry<Long, Blocks> due = byTime.pollFirstEntry();
      Blocks blocks = due.getValue();
      for (int i = 0; i < blocks.count; i++) {
        sink.accept(blocks.blocks[i]);
      }
      capacity -= blocks.blocks.length;
      if (blocks == last) {
        last = null;
      }
    }
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
    return 4 * capacity + 80L * byTime.size();
  }
}
