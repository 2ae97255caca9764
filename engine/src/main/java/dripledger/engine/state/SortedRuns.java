package dripledger.engine.state;

import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * Many ordered sets of blocks, most of them small: pairs of a sort key and a block number, ordered
 * by the first and, where that is equal, by {@link Ties}. A set of up to 512 is one sorted run of
 * 2, 4, 8, … places in an arena; a larger one is a list of sorted leaves with a directory, so that
 * a change moves at most a leaf. A set is known by a word that changes with it: 0 is the empty one.
 *
 * <p>12 bytes a place. One thread.
 */
public final class SortedRuns {
  private static final int LARGEST = 512; // places of a run, and of a leaf
  private static final int CLASSES = 9;
  private static final int CHUNK_SHIFT = 12;
  private static final int CHUNK = 1 << CHUNK_SHIFT;

  private final Ties ties;
  private long[][] keys = {new long[16]};
  private int[][] blocks = {new int[16]};
  private int chunks = 1;
  private int end = 1; // of the last chunk; place 0 is none
  private final long[] free = new long[CLASSES];
  private final List<Leaves> large = new ArrayList<>();
  private final ArrayList<Integer> largeFree = new ArrayList<>();
  private long largeBytes;

  /** Orders blocks whose sort keys are equal. */
  @FunctionalInterface
  public interface Ties {
    int compare(int block, int other);
  }

  public SortedRuns(Ties ties) {
    this.ties = ties;
  }

  // A word is place:48 | class:4 | count:12, or below zero the number of a large set.
  private static int count(long run) {
    return (int) run & 0xFFF;
  }

  private static int sizeClass(long run) {
    return (int) (run >>> 12) & 0xF;
  }

  private static long place(long run) {
    return run >>> 16;
  }

  private static long word(long place, int sizeClass, int count) {
    return place << 16 | (long) sizeClass << 12 | count;
  }

  private Leaves large(long run) {
    return large.get((int) ~run);
  }

  /** The lowest block of a set, or −1. */
  public int first(long run) {
    if (run < 0) {
      return large(run).blocks[0][0];
    }
    return run == 0 ? -1 : blocks[(int) (place(run) >>> CHUNK_SHIFT)][offset(run)];
  }

  /** The highest block of a set, or −1. */
  public int last(long run) {
    if (run < 0) {
      Leaves leaves = large(run);
      int leaf = leaves.count - 1;
      return leaves.blocks[leaf][leaves.sizes[leaf] - 1];
    }
    return run == 0 ? -1 : blocks[(int) (place(run) >>> CHUNK_SHIFT)][offset(run) + count(run) - 1];
  }

  /** How many blocks a set has; one that was put in twice counts twice. */
  public int size(long run) {
    return run < 0 ? large(run).total : count(run);
  }

  /** How many blocks of a set are below a pair. */
  public int rank(long run, long key, int block) {
    if (run < 0) {
      return large(run).rank(key, block);
    }
    if (run == 0) {
      return 0;
    }
    int chunk = (int) (place(run) >>> CHUNK_SHIFT);
    int from = offset(run);
    return find(keys[chunk], blocks[chunk], from, from + count(run), key, block) - from;
  }

  /**
   * Reads blocks in order.
   *
   * @param rank how many blocks of the set are below the first that is read
   * @return how many were read: fewer than asked for at the end of the set, or of a leaf
   */
  public int read(long run, int rank, int[] into, int at, int most) {
    if (run < 0) {
      return large(run).read(rank, into, at, most);
    }
    int count = Math.min(most, count(run) - rank);
    if (count <= 0) {
      return 0;
    }
    int chunk = (int) (place(run) >>> CHUNK_SHIFT);
    System.arraycopy(blocks[chunk], offset(run) + rank, into, at, count);
    return count;
  }

  private static int offset(long run) {
    return (int) place(run) & CHUNK - 1;
  }

  /**
   * Puts a block in; answers the set's word from now on. It may be there already: then it is there
   * once more.
   */
  public long insert(long run, long key, int block) {
    if (run < 0) {
      large(run).insert(key, block);
      return run;
    }
    int count = count(run);
    long grown = run == 0 ? word(allocate(0), 0, 0) : run;
    if (count == 2 << sizeClass(grown)) {
      if (count == LARGEST) {
        return spread(grown, key, block);
      }
      int larger = sizeClass(grown) + 1;
      grown = moved(grown, word(allocate(larger), larger, count));
    }
    int chunk = (int) (place(grown) >>> CHUNK_SHIFT);
    int from = offset(grown);
    int at = find(keys[chunk], blocks[chunk], from, from + count, key, block);
    int after = from + count - at;
    System.arraycopy(keys[chunk], at, keys[chunk], at + 1, after);
    System.arraycopy(blocks[chunk], at, blocks[chunk], at + 1, after);
    keys[chunk][at] = key;
    blocks[chunk][at] = block;
    return grown + 1;
  }

  /**
   * Takes a block out; answers the set's word from now on.
   *
   * @throws IllegalStateException if it is not there
   */
  public long remove(long run, long key, int block) {
    if (run < 0) {
      Leaves leaves = large(run);
      leaves.remove(key, block);
      return leaves.total <= LARGEST / 4 ? gathered(run, leaves) : run;
    }
    int count = count(run);
    int chunk = (int) (place(run) >>> CHUNK_SHIFT);
    int from = offset(run);
    int at = count == 0 ? 0 : find(keys[chunk], blocks[chunk], from, from + count, key, block);
    if (count == 0 || at == from + count || keys[chunk][at] != key || blocks[chunk][at] != block) {
      throw new IllegalStateException("a value was taken out that is not there");
    }
    int after = from + count - at - 1;
    System.arraycopy(keys[chunk], at + 1, keys[chunk], at, after);
    System.arraycopy(blocks[chunk], at + 1, blocks[chunk], at, after);
    if (count == 1) {
      release(place(run), sizeClass(run));
      return 0;
    }
    int smaller = sizeClass(run) - 1;
    if (smaller >= 0 && count - 1 <= 1 << smaller) {
      return moved(run - 1, word(allocate(smaller), smaller, count - 1));
    }
    return run - 1;
  }

  /** Forgets a set, whatever is in it. */
  public void drop(long run) {
    if (run < 0) {
      forget(run, large(run));
    } else if (run != 0) {
      release(place(run), sizeClass(run));
    }
  }

  private void forget(long run, Leaves leaves) {
    largeBytes -= 12L * LARGEST * leaves.count;
    large.set((int) ~run, null);
    largeFree.add((int) ~run);
  }

  /** The first place that is not below a pair. */
  private int find(long[] keys, int[] blocks, int from, int to, long key, int block) {
    int low = from;
    int high = to;
    while (low < high) {
      int middle = low + high >>> 1;
      if (isBelow(keys[middle], blocks[middle], key, block)) {
        low = middle + 1;
      } else {
        high = middle;
      }
    }
    return low;
  }

  private boolean isBelow(long key, int block, long otherKey, int otherBlock) {
    if (key != otherKey) {
      return key < otherKey;
    }
    return block != otherBlock && ties.compare(block, otherBlock) < 0;
  }

  private long moved(long run, long to) {
    int chunk = (int) (place(run) >>> CHUNK_SHIFT);
    int target = (int) (place(to) >>> CHUNK_SHIFT);
    System.arraycopy(keys[chunk], offset(run), keys[target], offset(to), count(run));
    System.arraycopy(blocks[chunk], offset(run), blocks[target], offset(to), count(run));
    release(place(run), sizeClass(run));
    return to;
  }

  private long allocate(int sizeClass) {
    long place = free[sizeClass];
    if (place != 0) {
      free[sizeClass] = keys[(int) (place >>> CHUNK_SHIFT)][(int) place & CHUNK - 1];
      return place;
    }
    int size = 2 << sizeClass;
    if (end + size > CHUNK) {
      if (chunks == keys.length) {
        keys = Arrays.copyOf(keys, chunks * 2);
        blocks = Arrays.copyOf(blocks, chunks * 2);
      }
      keys[chunks] = new long[CHUNK];
      blocks[chunks++] = new int[CHUNK];
      end = 0;
    } else if (end + size > keys[chunks - 1].length) { // only the first is smaller than a chunk
      int length = Math.min(CHUNK, Math.max(keys[0].length * 2, end + size));
      keys[0] = Arrays.copyOf(keys[0], length);
      blocks[0] = Arrays.copyOf(blocks[0], length);
    }
    place = (long) (chunks - 1) << CHUNK_SHIFT | end;
    end += size;
    return place;
  }

  private void release(long place, int sizeClass) {
    keys[(int) (place >>> CHUNK_SHIFT)][(int) place & CHUNK - 1] = free[sizeClass];
    free[sizeClass] = place;
  }

  /** A full run becomes a large set. */
  private long spread(long run, long key, int block) {
    int chunk = (int) (place(run) >>> CHUNK_SHIFT);
    Leaves leaves = new Leaves();
    leaves.add(keys[chunk], blocks[chunk], offset(run), count(run));
    release(place(run), sizeClass(run));
    leaves.insert(key, block);
    int number = largeFree.isEmpty() ? large.size() : largeFree.remove(largeFree.size() - 1);
    if (number == large.size()) {
      large.add(leaves);
    } else {
      large.set(number, leaves);
    }
    return ~(long) number;
  }

  /** A large set that has become small is a run again. */
  private long gathered(long run, Leaves leaves) {
    int sizeClass = CLASSES - 3;
    long place = allocate(sizeClass);
    int chunk = (int) (place >>> CHUNK_SHIFT);
    int at = (int) place & CHUNK - 1;
    for (int i = 0; i < leaves.count; i++) {
      System.arraycopy(leaves.keys[i], 0, keys[chunk], at, leaves.sizes[i]);
      System.arraycopy(leaves.blocks[i], 0, blocks[chunk], at, leaves.sizes[i]);
      at += leaves.sizes[i];
    }
    forget(run, leaves);
    return word(place, sizeClass, leaves.total);
  }

  /** A large set: sorted leaves, in order. */
  private final class Leaves {
    private long[] firsts = new long[4]; // the first sort key of each leaf
    private long[][] keys = new long[4][];
    private int[][] blocks = new int[4][];
    private int[] sizes = new int[4];
    private int count;
    private int total;

    void add(long[] fromKeys, int[] fromBlocks, int from, int size) {
      open(0);
      System.arraycopy(fromKeys, from, keys[0], 0, size);
      System.arraycopy(fromBlocks, from, blocks[0], 0, size);
      sizes[0] = size;
      firsts[0] = keys[0][0];
      total = size;
    }

    private void open(int at) {
      if (count == sizes.length) {
        firsts = Arrays.copyOf(firsts, count * 2);
        keys = Arrays.copyOf(keys, count * 2);
        blocks = Arrays.copyOf(blocks, count * 2);
        sizes = Arrays.copyOf(sizes, count * 2);
      }
      System.arraycopy(firsts, at, firsts, at + 1, count - at);
      System.arraycopy(keys, at, keys, at + 1, count - at);
      System.arraycopy(blocks, at, blocks, at + 1, count - at);
      System.arraycopy(sizes, at, sizes, at + 1, count - at);
      keys[at] = new long[LARGEST];
      blocks[at] = new int[LARGEST];
      sizes[at] = 0;
      count++;
      largeBytes += 12L * LARGEST;
    }

    /** The last leaf that begins at or below a pair, or the first. */
    private int leaf(long key, int block) {
      int low = 1;
      int high = count;
      while (low < high) {
        int middle = low + high >>> 1;
        boolean below =
            key == firsts[middle]
                ? isBelow(key, block, key, blocks[middle][0])
                : key < firsts[middle];
        if (below) {
          high = middle;
        } else {
          low = middle + 1;
        }
      }
      return low - 1;
    }

    int rank(long key, int block) {
      int low = 0;
      int high = count;
      while (low < high) {
        int middle = low + high >>> 1;
        if (isBelow(firsts[middle], blocks[middle][0], key, block)) {
          low = middle + 1;
        } else {
          high = middle;
        }
      }
      int rank = 0;
      for (int i = 0; i < low - 1; i++) {
        rank += sizes[i];
      }
      int leaf = low - 1; // the last that begins below the pair
      return leaf < 0 ? 0 : rank + find(keys[leaf], blocks[leaf], 0, sizes[leaf], key, block);
    }

    int read(int rank, int[] into, int at, int most) {
      int leaf = 0;
      int before = 0;
      while (leaf < count && before + sizes[leaf] <= rank) {
        before += sizes[leaf++];
      }
      if (leaf == count) {
        return 0;
      }
      int read = Math.min(most, sizes[leaf] - (rank - before));
      System.arraycopy(blocks[leaf], rank - before, into, at, read);
      return read;
    }

    void insert(long key, int block) {
      int leaf = leaf(key, block);
      int at = find(keys[leaf], blocks[leaf], 0, sizes[leaf], key, block);
      if (sizes[leaf] == LARGEST) {
        // What only ascends fills its leaves; anything else halves them.
        int kept = leaf == count - 1 && at == LARGEST ? LARGEST : LARGEST / 2;
        open(leaf + 1);
        int moved = LARGEST - kept;
        System.arraycopy(keys[leaf], kept, keys[leaf + 1], 0, moved);
        System.arraycopy(blocks[leaf], kept, blocks[leaf + 1], 0, moved);
        sizes[leaf] = kept;
        sizes[leaf + 1] = moved;
        firsts[leaf + 1] = keys[leaf + 1][0];
        if (at >= kept && (at > kept || kept == LARGEST)) {
          leaf++;
          at -= kept;
        }
      }
      System.arraycopy(keys[leaf], at, keys[leaf], at + 1, sizes[leaf] - at);
      System.arraycopy(blocks[leaf], at, blocks[leaf], at + 1, sizes[leaf] - at);
      keys[leaf][at] = key;
      blocks[leaf][at] = block;
      firsts[leaf] = keys[leaf][0];
      sizes[leaf]++;
      total++;
    }

    void remove(long key, int block) {
      int leaf = leaf(key, block);
      int at = find(keys[leaf], blocks[leaf], 0, sizes[leaf], key, block);
      if (at == sizes[leaf] || keys[leaf][at] != key || blocks[leaf][at] != block) {
        throw new IllegalStateException("a value was taken out that is not there");
      }
      System.arraycopy(keys[leaf], at + 1, keys[leaf], at, sizes[leaf] - at - 1);
      System.arraycopy(blocks[leaf], at + 1, blocks[leaf], at, sizes[leaf] - at - 1);
      firsts[leaf] = keys[leaf][0];
      sizes[leaf]--;
      total--;
      if (sizes[leaf] == 0) {
        count--;
        System.arraycopy(firsts, leaf + 1, firsts, leaf, count - leaf);
        System.arraycopy(keys, leaf + 1, keys, leaf, count - leaf);
        System.arraycopy(blocks, leaf + 1, blocks, leaf, count - leaf);
        System.arraycopy(sizes, leaf + 1, sizes, leaf, count - leaf);
        keys[count] = null;
        blocks[count] = null;
        largeBytes -= 12L * LARGEST;
      }
    }
  }

  /** Heap held, in bytes. */
  public long heapBytes() {
    long places = keys[0].length + (chunks - 1L) * CHUNK;
    return 12 * places + 40L * chunks + largeBytes + 100L * large.size();
  }
}
