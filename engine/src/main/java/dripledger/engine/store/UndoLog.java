package dripledger.engine.store;

import java.util.ArrayDeque;
import java.util.Arrays;

/**
 * What blocks looked like before: one segment a version that changed anything, each a list of pages
 * with records of one size, written one after the other. Segments are given back whole, oldest
 * first, and their pages are used again.
 *
 * <p>A place is {@code page number << PAGE_SHIFT | offset in longs}; 0 is none. Written by one
 * thread; {@link #page} may be asked by any, and what it finds is only right as long as the floor
 * has not passed the segment's version.
 */
final class UndoLog {
  static final int PAGE_SHIFT = 12;
  static final int PAGE_LONGS = 1 << PAGE_SHIFT;
  private static final int OFFSET_MASK = PAGE_LONGS - 1;
  private static final int SPARE_PAGES = 4;
  private static final int HELD_DECAY = 12; // half of them are let go after 2,800 versions
  private static final int MAX_PAGES = 1 << (31 - PAGE_SHIFT);

  private record Segment(long version, int[] pages) {}

  private final int recordLongs;
  private final int lastStart; // of a record that still fits into a page
  private final ArrayDeque<Segment> segments = new ArrayDeque<>();
  private volatile long[][] pages = new long[4][];
  private int pageCount;
  private int[] free = new int[4];
  private int freeCount;
  private int[] empty = new int[4]; // numbers whose pages were given back to the heap
  private int emptyCount;
  private int most; // pages a version has needed lately
  private long held; // pages readers have held lately, in parts
  private int[] open = new int[4];
  private int openCount;
  private int at; // where the next record goes, within the last open page
  private long[] openPage;

  UndoLog(int recordLongs) {
    this.recordLongs = recordLongs;
    // Offset 0 of a page stays unused, so that no record has place 0.
    lastStart = PAGE_LONGS - recordLongs;
    if (recordLongs > PAGE_LONGS - 1) {
      throw new IllegalArgumentException("a state of " + recordLongs + " words is too large");
    }
    at = PAGE_LONGS;
  }

  /** Makes room for a record of the version that is written; answers its place. */
  int append() {
    if (at > lastStart) {
      openPage();
    }
    int place = open[openCount - 1] << PAGE_SHIFT | at;
    at += recordLongs;
    return place;
  }

  private void openPage() {
    int number;
    if (freeCount > 0) {
      number = free[--freeCount];
    } else if (emptyCount > 0) {
      number = empty[--emptyCount];
      pages[number] = new long[PAGE_LONGS];
    } else {
      if (pageCount == MAX_PAGES) {
        throw new IllegalStateException("undo passed its bound; a reader holds a version too long");
      }
      if (pageCount == pages.length) {
        pages = Arrays.copyOf(pages, pageCount * 2);
      }
      number = pageCount++;
      pages[number] = new long[PAGE_LONGS];
    }
    if (openCount == open.length) {
      open = Arrays.copyOf(open, openCount * 2);
    }
    open[openCount++] = number;
    openPage = pages[number];
    at = 1;
  }

  /** The page being written. */
  long[] openPageLongs() {
    return openPage;
  }

  /** The page of a place. */
  long[] page(int place) {
    return pages[place >>> PAGE_SHIFT];
  }

  static int offset(int place) {
    return place & OFFSET_MASK;
  }

  /** Takes records of one version, in the order they were written, a page at a time. */
  interface Walk {
    /** Records from {@code from} on, {@code step} longs apart, before {@code end}. */
    void records(long[] page, int from, int end, int step);
  }

  /** Visits the records of the version that is written. */
  void walk(Walk sink) {
    for (int p = 0; p < openCount; p++) {
      sink.records(pages[open[p]], 1, p + 1 < openCount ? lastStart + 1 : at, recordLongs);
    }
  }

  /** Records of the version that is written. */
  long count() {
    int perPage = (PAGE_LONGS - 1) / recordLongs;
    return openCount == 0 ? 0 : (long) (openCount - 1) * perPage + (at - 1) / recordLongs;
  }

  /** Whether the version that is written has changed anything. */
  boolean isEmpty() {
    return openCount == 0;
  }

  /** Ends the version that is written. */
  void close(long version) {
    most = Math.max(openCount, most - (most >>> 4) - 1);
    if (openCount > 0) {
      segments.add(new Segment(version, Arrays.copyOf(open, openCount)));
      openCount = 0;
      at = PAGE_LONGS;
    }
  }

  /** Gives back the segments up to a version. */
  void trim(long floor) {
    // The next scan holds as many as the last: made anew they would be what the collector copies.
    held = Math.max((long) heldPages() << HELD_DECAY, held - (held >>> HELD_DECAY));
    while (!segments.isEmpty() && segments.peek().version <= floor) {
      for (int page : segments.poll().pages) {
        if (freeCount == free.length) {
          free = Arrays.copyOf(free, freeCount * 2);
        }
        free[freeCount++] = page;
      }
    }
    // What one large version needed, such as the first filling, is not kept for ever.
    int keep = 2 * most + SPARE_PAGES + (int) (held >>> HELD_DECAY);
    while (freeCount > keep) {
      int number = free[--freeCount];
      pages[number] = null;
      if (emptyCount == empty.length) {
        empty = Arrays.copyOf(empty, emptyCount * 2);
      }
      empty[emptyCount++] = number;
    }
  }

  /** Pages that are not of the last version: somebody reads what was before it. */
  private int heldPages() {
    return segments.isEmpty() ? 0 : usedPages() - segments.getLast().pages.length;
  }

  /** Pages that hold records somebody may still need. */
  int usedPages() {
    return pageCount - freeCount - emptyCount;
  }

  /** Heap held, in bytes. */
  long heapBytes() {
    return (long) (pageCount - emptyCount) * (PAGE_LONGS * 8 + 16)
        + 4L * (pages.length + free.length + empty.length);
  }
}
