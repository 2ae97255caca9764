package dripledger.engine.state;

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

  private byte[][] chunks = {new byte[4096]};
  private int chunkCount = 1;
  private int used = 4; // address 0 is never handed out, so that it can mean "none"
  private final int[] freeHead = new int[SMALL_CLASSES + 21];
  private long freeBytes;
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
      freeHead[sizeClass] = dripledger.engine.row.Bytes.getInt(chunk(head), offset(head));
      freeBytes -= size;
      return head;
    }
    int last = chunkCount - 1;
    if (used + size > chunks[last].length && !growLast(size)) {
      if (chunkCount == chunks.length) {
        chunks = Arrays.copyOf(chunks, chunkCount * 2);
      }
      if (chunkCount == 1 << (32 - UNITS_SHIFT)) {
        throw new IllegalStateException("operator state passed 16 GiB");
      }
      chunks[chunkCount++] = new byte[1 << CHUNK_SHIFT];
      chunkBytes += 1 << CHUNK_SHIFT;
      used = 0;
      last++;
    }
    int address = (last << UNITS_SHIFT) | (used >>> UNIT_SHIFT);
    used += size;
    return address;
  }

  private boolean growLast(int size) {
    int last = chunkCount - 1;
    int length = chunks[last].length;
    if (length == 1 << CHUNK_SHIFT || used + size > 1 << CHUNK_SHIFT) {
      return false;
    }
    int wanted = Math.max(length * 2, Integer.highestOneBit(used + size - 1) * 2);
    chunks[last] = Arrays.copyOf(chunks[last], Math.min(wanted, 1 << CHUNK_SHIFT));
    chunkBytes += chunks[last].length - length;
    return true;
  }

  /** Gives a block back; {@code bytes} is what it was allocated with. */
  public void free(int address, int bytes) {
    int sizeClass = sizeClass(bytes);
    dripledger.engine.row.Bytes.putInt(chunk(address), offset(address), freeHead[sizeClass]);
    freeHead[sizeClass] = address;
    freeBytes += classBytes(sizeClass);
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
