package dripledger.engine.circuit;

import dripledger.engine.time.Watermark;
import java.util.Arrays;
import java.util.TreeMap;
import java.util.function.IntConsumer;
import java.util.stream.IntStream;

/**
 * Blocks of a store by the time at which they end: lists of those that end about together, in the
 * order they came. A block may be there more than once, and may have come to be of another key: who
 * is given it must look. Times are microseconds since 1970. One thread.
 */
final class EndTimes {
  private static final int TOGETHER = 14; // bits of a time: 16 milliseconds
  private static final int LOWER = (1 << TOGETHER) - 1;
  private static final int AT_HAND = 1 << 16; // lists: a quarter of an hour's

  /** Blocks whose times have the higher bits in common. */
  private static final class Blocks {
    final long about;
    long[] entries = new long[4]; // lower bits of a time, block
    int count;

    Blocks(long about) {
      this.about = about;
    }

    void add(long entry) {
      if (count == entries.length) {
        entries = Arrays.copyOf(entries, 2 * count);
      }
      entries[count++] = entry;
    }

    long time(int i) {
      return about << TOGETHER | entries[i] >>> Integer.SIZE;
    }
  }

  private final TreeMap<Long, Blocks> byTime = new TreeMap<>(); // by the higher bits
  private Blocks[] atHand = new Blocks[1]; // some of them, by the lowest of these bits
  private long capacity;
  private long ended = Watermark.NONE;

  /** Notes a block that ends at a time. */
  void add(long time, int block) {
    long about = time >> TOGETHER;
    int hand = (int) about & atHand.length - 1;
    Blocks blocks = atHand[hand];
    if (blocks == null || blocks.about != about) {
      blocks = byTime.computeIfAbsent(about, Blocks::new);
      if (byTime.size() > atHand.length && atHand.length < AT_HAND) {
        atHand = new Blocks[Math.min(AT_HAND, 4 * atHand.length)];
        hand = (int) about & atHand.length - 1;
      }
      atHand[hand] = blocks;
    }
    int room = blocks.count == 0 ? 0 : blocks.entries.length;
    blocks.add((time & LOWER) << Integer.SIZE | block);
    capacity += blocks.entries.length - room;
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
    return IntStream.range(0, blocks.count).mapToLong(blocks::time).min().orElseThrow();
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
    Blocks inPart = null; // of the last list; the sink may add to it again
    while (!byTime.isEmpty() && byTime.firstKey() <= time >> TOGETHER) {
      Blocks blocks = byTime.pollFirstEntry().getValue();
      capacity -= blocks.entries.length;
      int hand = (int) blocks.about & atHand.length - 1;
      if (atHand[hand] == blocks) {
        atHand[hand] = null;
      }
      for (int i = 0; i < blocks.count; i++) {
        if (blocks.time(i) <= time) {
          sink.accept((int) blocks.entries[i]);
        } else {
          inPart = inPart == null ? new Blocks(blocks.about) : inPart;
          inPart.add(blocks.entries[i]);
        }
      }
    }
    for (int i = 0; inPart != null && i < inPart.count; i++) {
      add(inPart.time(i), (int) inPart.entries[i]);
    }
  }

  /** Forgets what was to end; up to when everything is over is known still. */
  void clear() {
    byTime.clear();
    Arrays.fill(atHand, null);
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
    return 8 * capacity + 128L * byTime.size() + 4L * atHand.length;
  }
}
