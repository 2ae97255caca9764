package dripledger.engine.circuit;

import dripledger.engine.row.RowLayout;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.state.BagBatch;
import dripledger.engine.state.SortedBag;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.concurrent.TimeUnit;

/**
 * The blocks of a relation in the order of some columns of its key, as a persistent tree: a reader
 * that has one can go on reading it for ever. Touched by keys that come and go, never by changes of
 * value.
 *
 * <p>Made when a reader first asks, on the reader's thread and from what it reads. The writer is
 * told that an order is wanted, and notes what comes and goes from then on; a tree that was made
 * after that it takes over, and keeps it up to date from epoch to epoch. An order that nobody asked
 * for in ten minutes is given up.
 */
final class OrderedIndex {
  private static final long UNUSED_NANOS = TimeUnit.MINUTES.toNanos(10);
  private static final int MAX_NOTED = 2_000_000;
  private static final int PIECE = 1_000_000;

  private final SortKeyCodec codec;
  private final SortKeyCodec.ByteSink sink = new SortKeyCodec.ByteSink();

  // the writer's
  private SortedBag tree; // up to date, or null
  private BagBatch batch = new BagBatch();
  private List<Noted> noted; // since notedFrom, or null
  private long notedFrom;
  private int notedRows;

  // between the two
  private volatile int declared; // by how many relations
  private volatile boolean wanted;
  private volatile Made made;
  private volatile long usedNanos;
  private volatile boolean asked;
  private volatile long askedNanos;

  private record Noted(long version, BagBatch changes) {}

  /** A tree, and the version and keys it is of. */
  private record Made(SortedBag tree, long version, long membership) {}

  /** Gives all keys with their blocks, for a reader that makes the order. */
  @FunctionalInterface
  interface Keys {
    void give(KeySink sink);
  }

  /** Takes a key: the row of its columns, and its block. */
  @FunctionalInterface
  interface KeySink {
    void key(byte[] bytes, int row, int block);
  }

  OrderedIndex(RowLayout keyLayout, int[] columns) {
    codec = new SortKeyCodec(keyLayout, columns);
  }

  /** Says whether it is kept although nobody asks for it. */
  synchronized void declared(boolean value) {
    declared += value ? 1 : -1;
  }

  boolean isDeclared() {
    return declared > 0;
  }

  // ---- the writer

  boolean needsChanges() {
    return tree != null || noted != null;
  }

  void changed(byte[] bytes, int row, int block, int weight) {
    add(batch, sink, bytes, row, block, weight);
  }

  private void add(
      BagBatch to, SortKeyCodec.ByteSink key, byte[] bytes, int row, int block, int weight) {
    key.clear();
    codec.encode(bytes, row, key);
    add(to, key, block, weight);
  }

  /** Adds an entry: an encoded key and its block. */
  static void add(BagBatch to, SortKeyCodec.ByteSink key, int block, int weight) {
    byte[] number = {
      (byte) (block >>> 24), (byte) (block >>> 16), (byte) (block >>> 8), (byte) block
    };
    to.add(key.bytes(), 0, key.size(), number, 0, 4, weight);
  }

  /**
   * The tree of the version that was just published, or null if there is none.
   *
   * @param membership the state of keys at that version
   */
  SortedBag at(long version, long membership) {
    if (tree != null) {
      if (!batch.isEmpty()) {
        tree = tree.apply(batch);
        batch.clear();
      }
      if (declared <= 0 && System.nanoTime() - usedNanos > UNUSED_NANOS) {
        giveUp();
      }
      return tree;
    }
    if (noted != null && !batch.isEmpty()) {
      noted.add(new Noted(version, batch));
      notedRows += batch.size();
      batch = new BagBatch();
    }
    Made offered = made;
    if (noted != null && offered != null && offered.version >= notedFrom) {
      adopt(offered);
    } else if (wanted && offered != null && offered.membership == membership) {
      adopt(new Made(offered.tree, version, membership)); // nothing has come or gone since
    } else if (wanted && noted == null) {
      noted = new ArrayList<>();
      notedFrom = version;
      notedRows = 0;
    } else if (notedRows > MAX_NOTED) {
      giveUp();
    }
    return tree;
  }

  private void adopt(Made offered) {
    tree = offered.tree;
    if (noted != null) {
      for (Noted each : noted) {
        if (each.version > offered.version) {
          tree = tree.apply(each.changes);
        }
      }
    }
    noted = null;
    made = null;
  }

  private void giveUp() {
    tree = null;
    noted = null;
    made = null;
    wanted = false;
    batch.clear();
  }

  // ---- readers

  /** Whether somebody has asked lately for what a tree would be of use for; now somebody has. */
  boolean wasAskedFor() {
    long now = System.nanoTime();
    boolean before = asked && now - askedNanos < UNUSED_NANOS;
    askedNanos = now;
    asked = true;
    return before;
  }

  /** Whether there is a tree for this state of keys already. */
  boolean isMade(SortedBag published, long membership) {
    Made known = made;
    return published != null || known != null && known.membership == membership;
  }

  /**
   * The tree of what a reader sees.
   *
   * @param published the one the writer gave to the reader's version, or null
   */
  SortedBag tree(SortedBag published, long version, long membership, Keys keys) {
    usedNanos = System.nanoTime();
    if (published != null) {
      return published;
    }
    synchronized (this) {
      Made known = made;
      if (known != null && known.membership == membership) {
        return known.tree;
      }
      SortedBag own = sorted(keys);
      made = new Made(own, version, membership);
      wanted = true;
      return own;
    }
  }

  private SortedBag sorted(Keys keys) {
    SortedBag[] all = {SortedBag.EMPTY};
    BagBatch piece = new BagBatch();
    SortKeyCodec.ByteSink key = new SortKeyCodec.ByteSink();
    keys.give(
        (bytes, row, block) -> {
          add(piece, key, bytes, row, block, 1);
          if (piece.size() >= PIECE) {
            all[0] = all[0].apply(piece);
            piece.clear();
          }
        });
    return all[0].apply(piece);
  }

  /** Takes the blocks of a range in order. */
  @FunctionalInterface
  interface BlockVisitor {
    /** Answers whether to go on. */
    boolean visit(int block);
  }

  /**
   * Gives the blocks whose keys are in a range.
   *
   * @param from encoded, or null for the start
   * @param to encoded, or null for the end
   */
  static void range(
      SortedBag order, byte[] from, byte[] to, boolean descending, BlockVisitor visitor) {
    SortedBag.Cursor cursor = order.cursor();
    boolean there;
    if (!descending) {
      there = from == null ? cursor.first() : cursor.seek(from, 0, from.length);
    } else if (to == null) {
      there = cursor.last();
    } else {
      there = cursor.seek(to, 0, to.length) ? cursor.previous() : cursor.last();
    }
    byte[] bound = descending ? from : to;
    while (there && (bound == null || isWithin(cursor, bound, descending))) {
      if (!visitor.visit(block(cursor))) {
        return;
      }
      there = descending ? cursor.previous() : cursor.next();
    }
  }

  private static boolean isWithin(SortedBag.Cursor cursor, byte[] bound, boolean descending) {
    int order =
        Arrays.compareUnsigned(
            cursor.bytes(), cursor.start(), cursor.keyEnd(), bound, 0, bound.length);
    return descending ? order >= 0 : order < 0;
  }

  /** The block of an entry. */
  private static int block(SortedBag.Cursor entry) {
    byte[] bytes = entry.bytes();
    int at = entry.keyEnd();
    return (bytes[at] & 0xFF) << 24
        | (bytes[at + 1] & 0xFF) << 16
        | (bytes[at + 2] & 0xFF) << 8
        | (bytes[at + 3] & 0xFF);
  }

  long heapBytes() {
    SortedBag kept = tree;
    Made known = made;
    return (kept != null ? kept.heapBytes() : known != null ? known.tree.heapBytes() : 0)
        + batch.heapBytes();
  }
}
