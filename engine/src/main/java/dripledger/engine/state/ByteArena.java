package dripledger.engine.state;

import dripledger.engine.row.Bytes;
import java.util.Arrays;

/**
 * Byte blocks in large chunks, addressed by an int: the block's place in units of four bytes, so
 * that 16 GiB can be addressed. A freed block is kept for the next of its size class; a block never
 * moves. The first chunk starts small and grows, so that a small state costs little. Single writer.
 */
public final class ByteArena {
  /** The largest block: one chunk. */
  public static final int MAX_BLOCK = 1 << 20;

  private static final int UNIT_SHIFT = 2;
  private static final int CHUNK_SHIFT = 20;
  private static final int UNITS_SHIFT = CHUNK_SHIFT - UNIT_SHIFT;
  private static final int UNITS_MASK = (1 << UNITS_SHIFT) - 1;
  private static final int SMALL_CLASSES = 256;
  private static final long GIVEN_BACK_FROM = 1 << 20;

  private byte[][] chunks = {new byte[4096]};
  private int chunkCount = 1;
  private int last; // the chunk that is filled
  private int[] ends = {4}; // bytes used of each chunk; address 0 is never handed out: it is "none"
  private final int[] freeHead = new int[SMALL_CLASSES + 21];
  private long freeBytes;
  private int[] used = new int[1]; // bytes of each chunk that are in use
  private int[] absent = new int[0]; // numbers of chunks that were given back to the heap
  private int absentCount;
  private long chunkBytes = 4096;

  /** The chunk that holds the block. */
  public byte[] chunk(int address) {
    return chunks[address >>> UNITS_SHIFT];
  }

  /** The block's first byte within {@link #chunk}. */
  public int offset(int address) {
    return (address & UNITS_MASK) << UNIT_SHIFT;
  }

  // Blocks up to 1 KiB are exact in units; larger ones are rounded up to a power of two.
  private static int sizeClass(int bytes) {
    int units = (bytes + 3) >>> UNIT_SHIFT;
    return units < SMALL_CLASSES
        ? Math.max(1, units)
        : SMALL_CLASSES + (32 - Integer.numberOfLeadingZeros(bytes - 1)) - 10;
  }

  private static int classBytes(int sizeClass) {
    return sizeClass < SMALL_CLASSES
        ? sizeClass << UNIT_SHIFT
        : 1 << (sizeClass - SMALL_CLASSES + 10);
  }

  /** A block of at least {@code bytes} bytes, not cleared. */
  public int allocate(int bytes) {
    if (bytes > MAX_BLOCK) {
      throw new IllegalArgumentException("block of " + bytes + " bytes; the limit is " + MAX_BLOCK);
    }
    int sizeClass = sizeClass(bytes);
    int size = classBytes(sizeClass);
    int head = freeHead[sizeClass];
    if (head != 0) {
      freeHead[sizeClass] = Bytes.getInt(chunk(head), offset(head));
      freeBytes -= size;
      used[head >>> UNITS_SHIFT] += size;
      return head;
    }
    if (ends[last] + size > chunks[last].length && !growLast(size)) {
      if (chunkCount == 1 << (32 - UNITS_SHIFT) && absentCount == 0) {
        throw new IllegalStateException("operator state passed 16 GiB");
      }
      nextChunk();
    }
    int address = (last << UNITS_SHIFT) | (ends[last] >>> UNIT_SHIFT);
    ends[last] += size;
    used[last] += size;
    return address;
  }

  /** Begins another chunk, in the place of one that was given back if there is such. */
  private void nextChunk() {
    if (absentCount == 0) {
      addChunk();
      return;
    }
    last = absent[--absentCount];
    chunks[last] = new byte[1 << CHUNK_SHIFT];
    chunkBytes += 1 << CHUNK_SHIFT;
  }

  private void addChunk() {
    if (chunkCount == chunks.length) {
      chunks = Arrays.copyOf(chunks, chunkCount * 2);
      used = Arrays.copyOf(used, chunkCount * 2);
      ends = Arrays.copyOf(ends, chunkCount * 2);
    }
    last = chunkCount;
    chunks[chunkCount++] = new byte[1 << CHUNK_SHIFT];
    chunkBytes += 1 << CHUNK_SHIFT;
  }

  /** Gives chunks of which nothing is in use back to the heap, if most of the arena is free. */
  public void giveBack() {
    if (freeBytes <= chunkBytes / 2 || freeBytes < GIVEN_BACK_FROM) {
      return;
    }
    for (int c = 0; c < freeHead.length; c++) {
      int kept = 0;
      for (int at = freeHead[c]; at != 0; ) {
        int next = Bytes.getInt(chunk(at), offset(at));
        if (isUnused(at >>> UNITS_SHIFT)) {
          freeBytes -= classBytes(c);
        } else {
          Bytes.putInt(chunk(at), offset(at), kept);
          kept = at;
        }
        at = next;
      }
      freeHead[c] = kept;
    }
    for (int c = 0; c < chunkCount; c++) {
      if (isUnused(c) && chunks[c] != null) {
        chunkBytes -= chunks[c].length;
        chunks[c] = null;
        ends[c] = 0;
        if (absentCount == absent.length) {
          absent = Arrays.copyOf(absent, absentCount * 2 + 4);
        }
        absent[absentCount++] = c;
      }
    }
  }

  private boolean isUnused(int chunk) {
    return used[chunk] == 0 && chunk != last && chunk != 0;
  }

  private boolean growLast(int size) {
    int length = chunks[last].length;
    if (length == 1 << CHUNK_SHIFT || ends[last] + size > 1 << CHUNK_SHIFT) {
      return false;
    }
    int wanted = Math.max(length * 2, Integer.highestOneBit(ends[last] + size - 1) * 2);
    chunks[last] = Arrays.copyOf(chunks[last], Math.min(wanted, 1 << CHUNK_SHIFT));
    chunkBytes += chunks[last].length - length;
    return true;
  }

  /** Gives a block back; {@code bytes} is what it was allocated with. */
  public void free(int address, int bytes) {
    int sizeClass = sizeClass(bytes);
    Bytes.putInt(chunk(address), offset(address), freeHead[sizeClass]);
    freeHead[sizeClass] = address;
    freeBytes += classBytes(sizeClass);
    used[address >>> UNITS_SHIFT] -= classBytes(sizeClass);
  }

  /** Bytes in freed blocks that wait for reuse. */
  public long freeBytes() {
    return freeBytes;
  }

  /** Heap held, in bytes. */
  public long heapBytes() {
    return chunkBytes + 16L * chunkCount + 1200;
  }
}
