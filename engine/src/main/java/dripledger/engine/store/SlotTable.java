package dripledger.engine.store;

import java.lang.invoke.MethodHandles;
import java.lang.invoke.VarHandle;

/**
 * One partition's way from a hash to blocks: open addressing with linear probing over longs of
 * {@code upper half of the hash | block + 1}. What is taken out leaves a tombstone, which the next
 * rehash drops; nothing is shifted, so that readers can probe beside the writer. A table that is
 * full is replaced by a larger one, and readers keep the one they have.
 *
 * <p>The place of a hash comes from its upper half alone, so a rehash does not look at keys.
 */
final class SlotTable {
  static final VarHandle SLOT = MethodHandles.arrayElementVarHandle(long[].class);
  static final long EMPTY = 0;
  static final long TOMBSTONE = 0xFFFFFFFFL;

  final long[] slots;
  final int shift; // of the 32 upper bits, to a place
  final int mask;
  private int used; // slots that are not empty

  SlotTable(int bits) {
    slots = new long[1 << bits];
    mask = slots.length - 1;
    shift = 32 - bits;
  }

  /** The hash bits that a slot keeps. */
  static int bits(long hash) {
    return (int) (hash >>> 32);
  }

  /** Where to begin; the six uppermost bits choose the partition and are left out. */
  int start(int bits) {
    return (bits << 6) >>> shift & mask;
  }

  static long slot(int bits, int block) {
    return (long) bits << 32 | (block + 1) & 0xFFFFFFFFL;
  }

  static int block(long slot) {
    return (int) slot - 1;
  }

  /** Whether one more entry needs a larger table. */
  boolean isFull() {
    return used >= slots.length - (slots.length >>> 2) - (slots.length >>> 5);
  }

  /** Puts an entry in at the first free place from where its hash leads; the key is not there. */
  void put(int bits, int block) {
    int at = start(bits);
    while (slots[at] != EMPTY) {
      at = at + 1 & mask;
    }
    used++;
    SLOT.setRelease(slots, at, slot(bits, block));
  }

  /** Takes an entry out. */
  void remove(int bits, int block) {
    long wanted = slot(bits, block);
    int at = start(bits);
    while (slots[at] != wanted) {
      if (slots[at] == EMPTY) {
        throw new IllegalStateException("a block is not where its hash leads");
      }
      at = at + 1 & mask;
    }
    // An empty slot behind it needs no tombstone before it.
    if (slots[at + 1 & mask] == EMPTY) {
      used--;
      SLOT.setRelease(slots, at, EMPTY);
    } else {
      SLOT.setRelease(slots, at, TOMBSTONE);
    }
  }

  /** A table with room for more, with the same entries. */
  SlotTable rehashed() {
    int live = 0;
    for (long slot : slots) {
      if (slot != EMPTY && slot != TOMBSTONE) {
        live++;
      }
    }
    int bits = 32 - shift;
    SlotTable larger = new SlotTable(live > slots.length / 2 ? bits + 1 : bits);
    for (long slot : slots) {
      if (slot != EMPTY && slot != TOMBSTONE) {
        larger.put((int) (slot >>> 32), block(slot));
      }
    }
    return larger;
  }

  long heapBytes() {
    return 8L * slots.length + 48;
  }
}
