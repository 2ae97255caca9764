package dripledger.engine.store;

import java.lang.invoke.MethodHandles;
import java.lang.invoke.VarHandle;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * The clock of all stores that change together. The writer works on version {@link #writing}; when
 * it is done, {@link #publish} makes it the one readers see, by one volatile write. A reader who
 * needs more than one read at one version pins it: as long as the pin is held, every store can tell
 * what was there then.
 *
 * <p>The <em>floor</em> is the newest version that everybody who is pinned has reached; what only
 * older versions need is given back. Pins advise and the floor decides: whoever reads checks after
 * reading that the floor has not passed the version, so a read without a pin is right or is
 * refused, never wrong.
 *
 * <p>Versions count publishes since the process started. Blocks keep 32 bits of them, which come
 * round after 49 days at one version a millisecond; stores see to it that none is mistaken.
 */
public final class Versions {
  /** Slots are this many longs apart, so that two pins never share a cache line. */
  private static final int STRIDE = 8;

  /** Pins that may be held of a graph: more than there can be readers and views to save. */
  private static final int GRAPH_SLOTS = 1024;

  private static final int OWN_SLOTS = 8;
  private static final long FREE = Long.MAX_VALUE;
  private static final long FIRM = 1; // the lowest bit of a pin; its version is above
  private static final long GRAPH_START = 1L << 24;
  private static final VarHandle SLOT = MethodHandles.arrayElementVarHandle(long[].class);

  private final long[] slots;
  private final List<Versioned> stores = new ArrayList<>();
  private volatile long published;
  private volatile long floor;
  private final boolean once;
  private volatile long maxHeldBack = Long.MAX_VALUE;
  private volatile long heldBack;
  private volatile long ended;
  private long writing;

  /** A store that changes with the others. Called by the writer. */
  public interface Versioned {
    /** The version that is written ends, and the next begins. */
    void end(long version);

    /** Gives back what only versions below the floor need. */
    void trim(long floor);

    /** What is kept for the readers of older versions alone, in bytes. */
    default long heldBackBytes() {
      return 0;
    }
  }

  /** Begins with version 1. */
  public Versions() {
    this(0, OWN_SLOTS, false);
  }

  /**
   * The clock of a graph. It begins above every version of stores that are filled by a clock of
   * their own and join it later.
   */
  public static Versions ofGraph() {
    return new Versions(GRAPH_START, GRAPH_SLOTS, false);
  }

  private Versions(long start, int pins, boolean once) {
    this.once = once;
    published = start;
    floor = start;
    writing = start + 1;
    slots = new long[pins * STRIDE];
    Arrays.fill(slots, FREE);
  }

  /** A clock that begins elsewhere, and {@link #skip}s: for tests of what happens after weeks. */
  static Versions startingAt(long version) {
    return new Versions(version, OWN_SLOTS, false);
  }

  /** Leaves versions out. The writer's thread only, when nothing is written. */
  void skip(long count) {
    writing += count;
    synchronized (stores) {
      for (Versioned store : stores) {
        store.end(writing - 1);
      }
    }
    published = writing - 1;
  }

  /** For stores that are filled in one version and thrown away: nothing older is ever read. */
  public static Versions once() {
    return new Versions(0, 0, true);
  }

  /** Whether what a version leaves behind may be given back at once. */
  public boolean isOnce() {
    return once;
  }

  /** The version the writer works on. The writer's thread only. */
  public long writing() {
    return writing;
  }

  /** The newest version that can be read. */
  public long published() {
    return published;
  }

  /** Versions below this one can no longer be read. */
  public long floor() {
    return floor;
  }

  /** Adds a store. The writer's thread only, or before it is known to others. */
  public void add(Versioned store) {
    synchronized (stores) {
      stores.add(store);
    }
  }

  /** Takes a store out; it is not told any more. */
  public void remove(Versioned store) {
    synchronized (stores) {
      stores.remove(store);
    }
  }

  /** Shows what was written, and begins the next version. The writer's thread only. */
  public void publish() {
    synchronized (stores) {
      for (Versioned store : stores) {
        store.end(writing);
      }
    }
    published = writing; // volatile: everything written before is seen by who reads it
    writing++;
    trim();
  }

  /**
   * Bounds what is kept for readers of older versions. Beyond it the oldest readers are ended, but
   * for those whose pin is firm: what they read next is refused.
   */
  public void boundHeldBack(long bytes) {
    maxHeldBack = bytes;
  }

  /** What is kept for readers of older versions, in bytes, as of the last publish. */
  public long heldBackBytes() {
    return heldBack;
  }

  /** How often a version was taken away from its readers. */
  public long endedReads() {
    return ended;
  }

  /** Gives back what no pin needs any more. The writer's thread only. */
  public void trim() {
    trimTo(lowestAbove(-1, false));
    long held = measure();
    while (held > maxHeldBack && floor < published) {
      long next = Math.min(lowestAbove(floor, false), lowestAbove(-1, true));
      if (next <= floor) {
        break; // all of it is for pins that are firm
      }
      ended++;
      trimTo(next);
      held = measure();
    }
    heldBack = held;
  }

  /** The lowest version above one that is pinned, or pinned firmly; else the newest. */
  private long lowestAbove(long above, boolean firm) {
    long lowest = published;
    for (int i = 0; i < slots.length; i += STRIDE) {
      long slot = (long) SLOT.getVolatile(slots, i);
      if (slot != FREE && slot >>> 1 > above && (!firm || (slot & FIRM) != 0)) {
        lowest = Math.min(lowest, slot >>> 1);
      }
    }
    return lowest;
  }

  private long measure() {
    if (floor == published) {
      return 0;
    }
    long held = 0;
    synchronized (stores) {
      for (Versioned store : stores) {
        held += store.heldBackBytes();
      }
    }
    return held;
  }

  private void trimTo(long lowest) {
    if (lowest <= floor) {
      return;
    }
    floor = lowest; // volatile, and before anything is used again
    VarHandle.fullFence();
    synchronized (stores) {
      for (Versioned store : stores) {
        store.trim(lowest);
      }
    }
  }

  /**
   * Pins the newest version, until too much has to be kept for it: see {@link #boundHeldBack}.
   *
   * @return to be closed, by any thread
   * @throws IllegalStateException if as many pins as may are held already
   */
  public Pin pin() {
    return pin(0);
  }

  /** Pins the newest version whatever has to be kept for it: for what must get to its end. */
  public Pin pinFirmly() {
    return pin(FIRM);
  }

  private Pin pin(long firm) {
    if (once) {
      throw new IllegalStateException("nothing older is kept here");
    }
    int start = (int) Thread.currentThread().getId() * 7;
    int count = slots.length / STRIDE;
    for (int i = 0; i < count; i++) {
      int slot = ((start + i) & (count - 1)) * STRIDE;
      long version = published;
      if (!SLOT.compareAndSet(slots, slot, FREE, version << 1 | firm)) {
        continue;
      }
      // The writer may have looked at the pins between the read and the pin: then look again.
      while (published != version) {
        version = published;
        SLOT.setVolatile(slots, slot, version << 1 | firm);
      }
      return new Pin(slot, version);
    }
    throw full();
  }

  private IllegalStateException full() {
    return new IllegalStateException(slots.length / STRIDE + " readers hold a version already");
  }

  /** A version that stays readable. */
  public final class Pin implements AutoCloseable {
    private final int slot;
    private final long version;
    private boolean closed; // if two threads close it at once, the worst is a refused read

    private Pin(int slot, long version) {
      this.slot = slot;
      this.version = version;
    }

    public long version() {
      return version;
    }

    /** Pins the same version once more, while this pin is held. */
    public Pin again() {
      for (int i = 0; i < slots.length; i += STRIDE) {
        if (SLOT.compareAndSet(slots, i, FREE, version << 1)) {
          return new Pin(i, version);
        }
      }
      throw full();
    }

    @Override
    public void close() {
      if (!closed) { // a second time the slot may be somebody else's
        closed = true;
        SLOT.setRelease(slots, slot, FREE);
      }
    }
  }
}
