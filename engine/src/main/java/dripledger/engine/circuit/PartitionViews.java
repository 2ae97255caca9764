package dripledger.engine.circuit;

import java.util.Arrays;

/**
 * The rows of one partition in order, as they were before the changes of an epoch and as they are
 * after, read on from some place as they are asked for. What is walked is the run with the rows of
 * both; the rows that change are known by their places in it. One thread, used again for the next
 * partition.
 */
final class PartitionViews {
  private static final int CHUNK = 256;

  final View before = new View();
  final View after = new View();
  private final OrderedRows rows;

  // The changes: places in the run, in order, and how often each row was and is there.
  int count;
  int[] blocks = new int[16];
  long[] keys = new long[16];
  int[] places = new int[16];
  int[] was = new int[16];
  int[] is = new int[16];

  private long run;
  private int size; // of the run
  private int next; // the place that is read next
  private int nextChange;
  private final int[] chunk = new int[CHUNK];
  private final int[] near = new int[CHUNK]; // what was read last out of order
  private int nearFrom;
  private int nearCount;

  PartitionViews(OrderedRows rows) {
    this.rows = rows;
  }

  /** The rows as they were, or as they are. */
  final class View {
    private int first; // the rank of the first row that was read
    private int count;
    private int total;
    private int[] blocks = new int[64];
    private int[] places = new int[64];

    /** How many rows the partition has. */
    int total() {
      return total;
    }

    int first() {
      return first;
    }

    /** The row of a rank. One from before the place reading began at is the same in both views. */
    int block(int rank) {
      if (rank < first) {
        return at(rank);
      }
      while (rank - first >= count) {
        extend();
      }
      return blocks[rank - first];
    }

    /** The place in the run of a rank that was or is read. */
    int place(int rank) {
      while (rank - first >= count) {
        extend();
      }
      return places[rank - first];
    }

    private void add(int block, int place) {
      if (count == blocks.length) {
        blocks = Arrays.copyOf(blocks, count * 2);
        places = Arrays.copyOf(places, count * 2);
      }
      blocks[count] = block;
      places[count++] = place;
    }
  }

  /** Adds a change, which must come in order. */
  void addChange(int block, long key, long before, long now) {
    if (before > Integer.MAX_VALUE || now > Integer.MAX_VALUE) {
      throw new IllegalStateException("a row is there more than 2^31 times");
    }
    if (count == blocks.length) {
      int larger = count * 2;
      blocks = Arrays.copyOf(blocks, larger);
      keys = Arrays.copyOf(keys, larger);
      places = Arrays.copyOf(places, larger);
      was = Arrays.copyOf(was, larger);
      is = Arrays.copyOf(is, larger);
    }
    blocks[count] = block;
    keys[count] = key;
    was[count] = (int) before;
    is[count++] = (int) now;
  }

  /** Says that the run now has the rows of both views. */
  void begin(long theRun) {
    run = theRun;
    size = rows.runs.size(run);
    nearCount = 0;
    int came = 0;
    int went = 0;
    for (int c = 0; c < count; c++) {
      places[c] = rows.runs.rank(run, keys[c], blocks[c]);
      came += Math.max(0, is[c] - was[c]);
      went += Math.max(0, was[c] - is[c]);
    }
    before.total = size - came;
    after.total = size - went;
  }

  /** How many places the run has. */
  int size() {
    return size;
  }

  /** The row at a place of the run. */
  int at(int place) {
    if (place < nearFrom || place >= nearFrom + nearCount || nearCount == 0) {
      nearFrom = Math.max(0, place - CHUNK / 2);
      nearCount = 0;
      while (nearCount < CHUNK && nearFrom + nearCount < size) {
        nearCount += rows.runs.read(run, nearFrom + nearCount, near, nearCount, CHUNK - nearCount);
      }
    }
    return near[place - nearFrom];
  }

  /** The last change at or before a place, or −1. */
  private int changeAt(int place) {
    int at = Arrays.binarySearch(places, 0, count, place);
    return at >= 0 ? at : -at - 2;
  }

  /** At how many places a row that changes stands. */
  int copies(int change) {
    return Math.max(was[change], is[change]);
  }

  /** Whether the row at a place is in a view. */
  private boolean isIn(int place, boolean after) {
    int c = changeAt(place);
    if (c < 0 || place >= places[c] + copies(c)) {
      return true;
    }
    return place - places[c] < (after ? is[c] : was[c]);
  }

  /** Steps back from a place over some rows of both views; answers the place it comes to. */
  int back(int from, long steps) {
    int place = from;
    long old = 0;
    long now = 0;
    while (place > 0 && (old < steps || now < steps)) {
      place--;
      old += isIn(place, false) ? 1 : 0;
      now += isIn(place, true) ? 1 : 0;
    }
    return place;
  }

  /** Steps on in the same way. */
  int forth(int from, long steps) {
    int place = from;
    long old = 0;
    long now = 0;
    while (place < size - 1 && (old < steps || now < steps)) {
      place++;
      old += isIn(place, false) ? 1 : 0;
      now += isIn(place, true) ? 1 : 0;
    }
    return place;
  }

  /** Begins to read at a place, or a little before it. */
  void readFrom(int place) {
    int from = place;
    int c = changeAt(from);
    if (c >= 0 && from < places[c] + copies(c)) {
      from = places[c]; // not amid the copies of a row that changes
    }
    int came = 0;
    int went = 0;
    nextChange = 0;
    while (nextChange < count && places[nextChange] < from) {
      came += Math.max(0, is[nextChange] - was[nextChange]);
      went += Math.max(0, was[nextChange] - is[nextChange]);
      nextChange++;
    }
    next = from;
    before.first = from - came;
    before.count = 0;
    after.first = from - went;
    after.count = 0;
  }

  private void extend() {
    int read = rows.runs.read(run, next, chunk, 0, CHUNK);
    if (read == 0) {
      throw new IllegalStateException("a partition has fewer rows than it should");
    }
    for (int i = 0; i < read; i++) {
      int place = next + i;
      while (nextChange < count && place >= places[nextChange] + copies(nextChange)) {
        nextChange++;
      }
      boolean changes = nextChange < count && place >= places[nextChange];
      if (!changes || place - places[nextChange] < was[nextChange]) {
        before.add(chunk[i], place);
      }
      if (!changes || place - places[nextChange] < is[nextChange]) {
        after.add(chunk[i], place);
      }
    }
    next += read;
  }
}
