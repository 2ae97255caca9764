package dripledger.engine.state;

import dripledger.engine.row.Bytes;

/**
 * A hash table from byte keys to values of one fixed size, both inline in a {@link ByteArena} of
 * its own: open addressing with linear probing and backward-shift deletion (Knuth, TAOCP 3, 6.4,
 * algorithm R).
 *
 * <p>A slot is a long: 32 hash bits above the entry's address, so that a probe touches an entry
 * only if its hash matches, and growing touches none. Load is kept at or below 0.7; {@code drip
 * bench aggregation} prints what a key costs. An entry is {@code [key length:int] | key | value}.
 * Entries do not move. Single writer.
 */
public final class KeyedArena {
  private static final double MAX_LOAD = 0.7;

  private final ByteArena arena = new ByteArena();
  private final int fixedKeyLength;
  private final int valueLength;
  private long[] slots = new long[64];
  private int mask = slots.length - 1;
  private int size;
  private int growAt = (int) (slots.length * MAX_LOAD);

  /**
   * @param fixedKeyLength the length of every key, or −1 if it varies
   * @param valueLength the length of every value
   */
  public KeyedArena(int fixedKeyLength, int valueLength) {
    this.fixedKeyLength = fixedKeyLength;
    this.valueLength = valueLength;
  }

  public int size() {
    return size;
  }

  private int keyOffset(int entryOffset) {
    return entryOffset + (fixedKeyLength < 0 ? 4 : 0);
  }

  private int keyLength(byte[] chunk, int entryOffset) {
    return fixedKeyLength >= 0 ? fixedKeyLength : Bytes.getInt(chunk, entryOffset);
  }

  public byte[] chunk(int entry) {
    return arena.chunk(entry);
  }

  /** Where the key starts within {@link #chunk}. */
  public int keyAt(int entry) {
    return keyOffset(arena.offset(entry));
  }

  public int keyLength(int entry) {
    return keyLength(arena.chunk(entry), arena.offset(entry));
  }

  /** Where the value starts within {@link #chunk}. */
  public int valueAt(int entry) {
    int at = arena.offset(entry);
    return keyOffset(at) + keyLength(arena.chunk(entry), at);
  }

  /** The entry of the key, or 0. */
  public int find(byte[] key, int from, int length) {
    long hash = Bytes.hash(key, from, length);
    int tag = (int) (hash >>> 32);
    int at = tag & mask;
    for (long slot; (slot = slots[at]) != 0; at = (at + 1) & mask) {
      if ((int) (slot >>> 32) == tag && matches((int) slot, key, from, length)) {
        return (int) slot;
      }
    }
    return 0;
  }

  /** The entry of the key, made with a value of zeroes if there was none. */
  public int findOrInsert(byte[] key, int from, int length) {
    return findOrInsert(key, from, length, Bytes.hash(key, from, length));
  }

  /** As {@link #findOrInsert(byte[], int, int)} with the key's {@link Bytes#hash}. */
  public int findOrInsert(byte[] key, int from, int length, long hash) {
    int tag = (int) (hash >>> 32);
    int at = tag & mask;
    for (long slot; (slot = slots[at]) != 0; at = (at + 1) & mask) {
      if ((int) (slot >>> 32) == tag && matches((int) slot, key, from, length)) {
        return (int) slot;
      }
    }
    int bytes = entryBytes(length);
    int entry = arena.allocate(bytes);
    byte[] chunk = arena.chunk(entry);
    int offset = arena.offset(entry);
    clear(chunk, offset, bytes);
    if (fixedKeyLength < 0) {
      Bytes.putInt(chunk, offset, length);
    }
    System.arraycopy(key, from, chunk, keyOffset(offset), length);
    slots[at] = ((long) tag << 32) | (entry & 0xFFFFFFFFL);
    if (++size > growAt) {
      grow();
    }
    return entry;
  }

  private static void clear(byte[] chunk, int from, int length) {
    int i = 0;
    for (; i + 8 <= length; i += 8) {
      Bytes.putLong(chunk, from + i, 0);
    }
    for (; i < length; i++) {
      chunk[from + i] = 0;
    }
  }

  private int entryBytes(int keyLength) {
    return (fixedKeyLength < 0 ? 4 : 0) + keyLength + valueLength;
  }

  private boolean matches(int entry, byte[] key, int from, int length) {
    byte[] chunk = arena.chunk(entry);
    int offset = arena.offset(entry);
    return keyLength(chunk, offset) == length
        && Bytes.equal(chunk, keyOffset(offset), key, from, length);
  }

  /** Removes an entry and frees its block. */
  public void remove(int entry) {
    byte[] chunk = arena.chunk(entry);
    int offset = arena.offset(entry);
    int length = keyLength(chunk, offset);
    int tag = (int) (Bytes.hash(chunk, keyOffset(offset), length) >>> 32);
    int at = tag & mask;
    while ((int) slots[at] != entry) {
      at = (at + 1) & mask;
    }
    int hole = at;
    for (int next = (hole + 1) & mask; slots[next] != 0; next = (next + 1) & mask) {
      int home = (int) (slots[next] >>> 32) & mask;
      if (((next - home) & mask) >= ((next - hole) & mask)) {
        slots[hole] = slots[next];
        hole = next;
      }
    }
    slots[hole] = 0;
    size--;
    arena.free(entry, entryBytes(length));
  }

  private void grow() {
    if (slots.length == 1 << 30) {
      throw new IllegalStateException("an operator holds at most 700 million keys");
    }
    long[] larger = new long[slots.length * 2];
    int largerMask = larger.length - 1;
    for (long slot : slots) {
      if (slot != 0) {
        int at = (int) (slot >>> 32) & largerMask;
        while (larger[at] != 0) {
          at = (at + 1) & largerMask;
        }
        larger[at] = slot;
      }
    }
    slots = larger;
    mask = largerMask;
    growAt = (int) (larger.length * MAX_LOAD);
  }

  /** Heap held by table and entries, in bytes. */
  public long heapBytes() {
    return 8L * slots.length + 64 + arena.heapBytes();
  }
}
