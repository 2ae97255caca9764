package dripledger.engine.state;

import dripledger.engine.store.Versions;
import java.util.ArrayDeque;
import java.util.Arrays;

/**
 * Immutable values of any length that states refer to. A value is written once, before the state
 * that refers to it, and stays until no version can be read any more that does. Written by one
 * thread, read by any.
 */
public final class Blobs implements Versions.Versioned {
  private static final int PIECE = 4096; // values that are noted together: no array is large

  private Versions versions;
  private final ByteArena arena = new ByteArena();
  private final ArrayDeque<Retired> retired = new ArrayDeque<>();
  private long[] going = new long[16];
  private int goingCount;
  private long retiredBytes;
  private long retiredCount;

  private record Retired(long version, long[] places) {}

  public Blobs(Versions versions) {
    this.versions = versions;
    versions.add(this);
  }

  /** Goes over to another clock. */
  public void join(Versions other) {
    versions.remove(this);
    versions = other;
    other.add(this);
  }

  /** Ends: nothing is given back any more. */
  public void close() {
    versions.remove(this);
  }

  /** Where the bytes are and how many: what a state keeps of a value; never 0. */
  public long put(byte[] bytes, int from, int length) {
    int address = arena.allocate(Math.max(1, length));
    System.arraycopy(bytes, from, arena.chunk(address), arena.offset(address), length);
    return (long) address << 32 | length;
  }

  /** The array a value is in. */
  public byte[] bytes(long place) {
    return arena.chunk((int) (place >>> 32));
  }

  /** The first byte of a value. */
  public int start(long place) {
    return arena.offset((int) (place >>> 32));
  }

  /** The length of a value in bytes. */
  public static int length(long place) {
    return (int) place;
  }

  /** Says that the version that is written refers to a value no longer. */
  public void retire(long place) {
    if (place == 0) {
      return;
    }
    if (versions.isOnce()) {
      arena.free((int) (place >>> 32), Math.max(1, (int) place));
      return;
    }
    if (goingCount == going.length) {
      if (goingCount == PIECE) {
        noteRetired(versions.writing());
      } else {
        going = Arrays.copyOf(going, goingCount * 2);
      }
    }
    going[goingCount++] = place;
  }

  private void noteRetired(long version) {
    for (int i = 0; i < goingCount; i++) {
      retiredBytes += length(going[i]);
    }
    retired.add(new Retired(version, Arrays.copyOf(going, goingCount)));
    retiredCount += goingCount;
    goingCount = 0;
  }

  @Override
  public void end(long version) {
    if (goingCount > 0) {
      noteRetired(version);
    }
  }

  @Override
  public void trim(long floor) {
    while (!retired.isEmpty() && retired.peek().version <= floor) {
      long[] places = retired.poll().places;
      retiredCount -= places.length;
      for (long place : places) {
        retiredBytes -= length(place);
        arena.free((int) (place >>> 32), Math.max(1, (int) place));
      }
    }
    arena.giveBack();
  }

  @Override
  public long heldBackBytes() {
    return retiredBytes;
  }

  /** Heap held, in bytes. */
  public long heapBytes() {
    return arena.heapBytes() + 8L * (going.length + retiredCount);
  }
}
