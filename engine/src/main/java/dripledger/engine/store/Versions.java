package dripledger.engine.store;

import java.lang.invoke.MethodHandles;
import java.lang.invoke.VarHandle;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.concurrent.atomic.AtomicBoolean;

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
 * <p>Versions count publishes since the process started and are kept in blocks as 32 bits, which
 * last 49 days at one version a millisecond; {@link #publish} refuses to go on beyond.
 */
public final class Versions {
  /** Slots are this many longs apart, so that two pins never share a cache line. */
  private static final int STRIDE = 8;

  /** Pins that may be held of a graph: more than there can be readers and views to save. */
  private static final int GRAPH_SLOTS = 1024;

  private static final int OWN_SLOTS = 8;
  private static final long FREE = Long.MAX_VALUE;
  private static final long GRAPH_START = 1L << 24;
  private static final long LAST = (1L << 32) - 2;
  private static final VarHandle SLOT = MethodHandles.arrayElementVarHandle(long[].class);

  private final long[] slots;
  private final List<Versioned> stores = new ArrayList<>();
  private volatile long published;
  private volatile long floor;
  private final boolean once;
  private long writing;

  /** A store that changes with the others. Called by the writer. */
  public interface Versioned {
    /** The version that is written ends, and the next begins. */
    void end(long version);

    /** Gives back what only versions below the floor need. */
    void trim(long floor);
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
    if (writing >= LAST) {
      throw new IllegalStateException("versions are used up; restart the service");
    }
    synchronized (stores) {
      for (Versioned store : stores) {
        store.end(writing);
      }
    }
    published = writing; // volatile: everything written before is seen by who reads it
    writing++;
    trim();
  }

  /** Gives back what no pin needs any more. The writer's thread only. */
  public void trim() {
    long lowest = published;
    for (int i = 0; i < slots.length; i += STRIDE) {
      lowest = Math.min(lowest, (long) SLOT.getVolatile(slots, i));
    }
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
   * Pins the newest version.
   *
   * @return to be closed, by any thread
   * @throws IllegalStateException if as many pins as may are held already
   */
  public Pin pin() {
    if (once) {
      throw new IllegalStateException("nothing older is kept here");
    }
    int start = (int) Thread.currentThread().getId() * 7;
    int count = slots.length / STRIDE;
    for (int i = 0; i < count; i++) {
      int slot = ((start + i) & (count - 1)) * STRIDE;
      long version = published;
      if (!SLOT.compareAndSet(slots, slot, FREE, version)) {
        continue;
      }
      // The writer may have looked at the pins between the read and the pin: then look again.
      while (published != version) {
        version = published;
        SLOT.setVolatile(slots, slot, version);
      }
      return new Pin(slot, version);
    }
    throw new IllegalStateException(count + " readers hold a version already");
  }

  /** A version that stays readable. */
  public final class Pin implements AutoCloseable {
    private final int slot;
    private final long version;
    private final AtomicBoolean closed = new AtomicBoolean();

    private Pin(int slot, long version) {
      this.slot = slot;
      this.version = version;
    }

    public long version() {
      return version;
    }

    @Override
    public void close() {
      if (closed.compareAndSet(false, true)) { // a second time the slot may be somebody else's
        SLOT.setRelease(slots, slot, FREE);
      }
    }
  }
}
