package dripledger.engine.store;

import java.lang.invoke.MethodHandles;
import java.lang.invoke.VarHandle;

/**
 * One partition's way from a hash to blocks: open addressing with linear probing over longs of
 * {@code upper half of the hash | block + 1}. What is taken out leaves a tombstone, which the next
 * rehash drops; nothing is shifted, so that readers can probe beside the writer. A table that is
 * full is replaced by a larger one, and readers keep the one they have.
 *
 * <p>A table is its array: that is one load less on the way. The place of a hash comes from its
 * upper half alone, so a rehash does not look at keys. Stateless.
 */
final class SlotTable {
  static final VarHandle SLOT = MethodHandles.arrayElementVarHandle(long[].class);
  static final long EMPTY = 0;
  static final long TOMBSTONE = 0xFFFFFFFFL;

  private SlotTable() {}

  /** The hash bits that a slot keeps. */
  static int bits(long hash) {
    return (int) (hash >>> 32);
  }

  /** Where to begin; the six uppermost bits choose the partition and are left out. */
  static int start(long[] slots, int bits) {
    return (int) (((bits << 6) & 0xFFFFFFFFL) * slots.length >>> 32);
  }

  static long slot(int bits, int block) {
    return (long) bits << 32 | (block + 1) & 0xFFFFFFFFL;
  }

  static int block(long slot) {
    return (int) slot - 1;
  }

  /** How many slots may be in use before there must be more. */
  static int bound(long[] slots) {
    return slots.length - (slots.length >>> 2) - (slots.length >>> 5);
  }

  /**
   * Puts an entry in at the first free place from where its hash leads; the key is not there.
   * Counts one slot more in use.
   */
  static void put(long[] slots, int bits, int block) {
    int mask = slots.length - 1;
    int at = start(slots, bits);
    while (slots[at] != EMPTY) {
      at = at + 1 & mask;
    }
    SLOT.setRelease(slots, at, slot(bits, block));
  }

  /** Takes an entry out; answers how many slots are in use less. */
  static int remove(long[] slots, int bits, int block) {
    int mask = slots.length - 1;
    long wanted = slot(bits, block);
    int at = start(slots, bits);
    while (slots[at] != wanted) {
      if (slots[at] == EMPTY) {
        throw new IllegalStateException("a block is not where its hash leads");
      }
      at = at + 1 & mask;
    }
    // With an empty slot behind it, it needs no tombstone.
    boolean last = slots[at + 1 & mask] == EMPTY;
    SLOT.setRelease(slots, at, last ? EMPTY : TOMBSTONE);
    return last ? 1 : 0;
  }

  /** Counts the entries. */
  static int live(long[] slots) {
    int live = 0;
    for (long slot : slots) {
      if (slot != EMPTY && slot != TOMBSTONE) {
        live++;
      }
    }
    return live;
  }

  /** A table with room for more, with the same entries. */
  static long[] rehashed(long[] slots, int live) {
    long[] larger = new long[live > slots.length / 2 ? slots.length * 2 : slots.length];
    for (long slot : slots) {
      if (slot != EMPTY && slot != TOMBSTONE) {
        put(larger, (int) (slot >>> 32), block(slot));
      }
    }
    return larger;
  }
}
