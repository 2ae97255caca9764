package dripledger.engine.store;

import java.lang.invoke.MethodHandles;
import java.lang.invoke.VarHandle;

/**
 * The ways from hashes to blocks, one {@link SlotTable} a partition of the hashes. Written by one
 * thread; {@link #table} is for any.
 */
final class PartitionedSlots {
  private static final VarHandle TABLE = MethodHandles.arrayElementVarHandle(long[][].class);

  private final int partitionShift;
  private final long[][] tables; // an element is replaced when it is full
  private final int[] used;

  /**
   * @param partitions a power of two up to 64
   */
  PartitionedSlots(int partitions) {
    tables = new long[partitions][16];
    used = new int[partitions];
    partitionShift = 64 - Integer.numberOfTrailingZeros(partitions);
  }

  private int partition(long hash) {
    return partitionShift == 64 ? 0 : (int) (hash >>> partitionShift);
  }

  /** The table a hash leads into. The writer's thread only. */
  long[] own(long hash) {
    return tables[partition(hash)];
  }

  /** The table a hash leads into, with everything that was in it when a version was published. */
  long[] table(long hash) {
    return (long[]) TABLE.getAcquire(tables, partition(hash));
  }

  /** Reads where each of many hashes leads first, so that their loads wait together. */
  void first(long[] hashes, int count, long[] into) {
    for (int i = 0; i < count; i++) {
      long[] slots = tables[partition(hashes[i])];
      into[i] = slots[SlotTable.start(slots, (int) (hashes[i] >>> 32))];
    }
  }

  /** The first slot with the hash's bits, from where it leads on, or one that is empty. */
  long follow(long slot, long hash) {
    int bits = (int) (hash >>> 32);
    if ((int) (slot >>> 32) == bits && slot != SlotTable.TOMBSTONE || slot == SlotTable.EMPTY) {
      return slot;
    }
    long[] slots = tables[partition(hash)];
    int mask = slots.length - 1;
    int at = SlotTable.start(slots, bits);
    do {
      at = at + 1 & mask;
      slot = slots[at];
    } while (slot != SlotTable.EMPTY
        && ((int) (slot >>> 32) != bits || slot == SlotTable.TOMBSTONE));
    return slot;
  }

  /** Puts a block in that is not there. */
  void insert(long hash, int block) {
    int partition = partition(hash);
    long[] slots = tables[partition];
    if (used[partition] >= SlotTable.bound(slots)) {
      int entries = SlotTable.live(slots);
      slots = SlotTable.rehashed(slots, entries);
      used[partition] = entries;
      TABLE.setRelease(tables, partition, slots);
    }
    used[partition]++;
    SlotTable.put(slots, SlotTable.bits(hash), block);
  }

  /** Takes a block out. */
  void remove(long hash, int block) {
    int partition = partition(hash);
    used[partition] -= SlotTable.remove(tables[partition], SlotTable.bits(hash), block);
  }

  /** Heap held, in bytes. */
  long heapBytes() {
    long bytes = 0;
    for (long[] slots : tables) {
      bytes += 8L * slots.length + 16;
    }
    return bytes;
  }
}
