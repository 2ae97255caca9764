package dripledger.engine.circuit;

import dripledger.engine.store.KeyedStore;
import java.util.Arrays;

/**
 * The groups that rows of this version went to lately, by keys of one word: where there are few
 * groups, a row's is one look away. It steps back where there are many. One thread.
 */
final class NearGroups {
  private static final int BITS = 10;
  private static final int MAX_PAUSE = 256; // blocks of rows

  private final KeyedStore groups;
  private final long[] keys = new long[1 << BITS];
  private final int[] known = new int[1 << BITS]; // the block of a key and 1; 0 is none
  private final long[] missedKeys;
  private final long[] missedHashes;
  private final int[] missedBlocks;
  private final int[] missed;
  private long version = -1;
  private int pause;
  private int nextPause = 1;

  /**
   * @param most rows looked for at once
   */
  NearGroups(KeyedStore groups, int most) {
    this.groups = groups;
    missedKeys = new long[most];
    missedHashes = new long[most];
    missedBlocks = new int[most];
    missed = new int[most];
  }

  /**
   * As {@link KeyedStore#findAhead(long[], long[], int[], int)}; only the hashes of keys whose
   * block is {@link KeyedStore#NONE} are set.
   */
  void find(long[] wanted, long[] hashes, int[] blocks, int count) {
    if (pause > 0) {
      pause--;
      groups.findAhead(wanted, hashes, blocks, count);
      return;
    }
    if (version != groups.newest()) { // what went since then may have been used again
      version = groups.newest();
      Arrays.fill(known, 0);
    }
    int misses = 0;
    for (int i = 0; i < count; i++) {
      int at = place(wanted[i]);
      blocks[i] = known[at] - 1;
      missed[misses] = i;
      misses += known[at] != 0 && keys[at] == wanted[i] ? 0 : 1;
    }
    if (misses > 0) {
      findMissed(wanted, hashes, blocks, misses);
    }
    if (misses > count / 2) {
      pause = nextPause;
      nextPause = Math.min(MAX_PAUSE, nextPause * 2);
    } else if (misses == 0) {
      nextPause = 1;
    }
  }

  private void findMissed(long[] wanted, long[] hashes, int[] blocks, int misses) {
    for (int m = 0; m < misses; m++) {
      missedKeys[m] = wanted[missed[m]];
    }
    groups.findAhead(missedKeys, missedHashes, missedBlocks, misses);
    for (int m = 0; m < misses; m++) {
      int i = missed[m];
      hashes[i] = missedHashes[m];
      blocks[i] = missedBlocks[m];
      if (blocks[i] != KeyedStore.NONE) {
        int at = place(wanted[i]);
        keys[at] = wanted[i];
        known[at] = blocks[i] + 1;
      }
    }
  }

  private static int place(long key) {
    return (int) ((key * 0x9E3779B97F4A7C15L) >>> 64 - BITS);
  }
}
