package dripledger.engine.state;

import dripledger.engine.state.BagNode.Inner;
import dripledger.engine.state.BagNode.Leaf;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * An immutable ordered bag of byte strings: a B+ tree whose leaves hold their entries inline in one
 * byte array each, updated a batch at a time by copying only the paths that change. Any older
 * instance stays valid and costs nothing but the leaves it alone still holds.
 *
 * <p>An entry is a key, encoded to sort as wanted, and the bytes that belong to it (a row); entries
 * are ordered by both, so equal keys with different rows can stand side by side. Each carries a
 * weight above zero: how many times it is in the bag.
 *
 * <p>Why this form (bench {@code view-store}, figures in docs/performance.md): leaves as flat bytes
 * take less heap and time than a tree of row objects; the price, copying the neighbours of a
 * changed row, is paid back because an epoch's changes arrive sorted and each leaf is copied once
 * an epoch, not once a change.
 *
 * <p>Instances are safe from any thread. {@link #apply} takes O(c log n) for c changes; look-ups
 * take O(log n); {@link #weight} is O(1).
 */
public final class SortedBag {
  /** The bag with nothing in it. */
  public static final SortedBag EMPTY = new SortedBag(Leaf.EMPTY);

  private final BagNode root;

  private SortedBag(BagNode root) {
    this.root = root;
  }

  /** The number of distinct entries. */
  public long entries() {
    return root.entries();
  }

  /** The sum of all weights: the number of rows. */
  public long weight() {
    return root.weight();
  }

  /** Heap held by this instance, shared parts included, in bytes. */
  public long heapBytes() {
    return root.heapBytes();
  }

  /**
   * The bag after the batch, which is sorted by this call.
   *
   * @throws IllegalStateException if an entry's weight would fall below zero: the operator above
   *     has taken out what it never put in
   */
  public SortedBag apply(BagBatch batch) {
    int changes = batch.sort();
    if (changes == 0) {
      return this;
    }
    BagMerge merge = new BagMerge(batch);
    merge.apply(root, null, 0, changes);
    return new SortedBag(merge.takeRoot());
  }

  /** Walks the entries of one bag in either direction. Not thread-safe; the bag itself is. */
  public static final class Cursor {
    private final SortedBag bag;
    private final List<Inner> path = new ArrayList<>();
    private int[] places = new int[8];
    private Leaf leaf;
    private int index;

    private Cursor(SortedBag bag) {
      this.bag = bag;
    }

    /** Moves to the first entry at or behind the bytes; answers whether there is one. */
    public boolean seek(byte[] bytes, int from, int to) {
      path.clear();
      BagNode node = bag.root;
      while (node instanceof Inner inner) {
        int child = inner.childOf(bytes, from, to);
        descend(inner, child);
        node = inner.children[child];
      }
      leaf = (Leaf) node;
      index = leaf.lowerBound(bytes, from, to, 0);
      return index < leaf.size() || advanceLeaf(1);
    }

    /** Moves to the first entry; answers whether there is one. */
    public boolean first() {
      path.clear();
      edge(bag.root, 1);
      return index < leaf.size();
    }

    /** Moves to the last entry; answers whether there is one. */
    public boolean last() {
      path.clear();
      edge(bag.root, -1);
      return index >= 0;
    }

    public boolean next() {
      return ++index < leaf.size() || advanceLeaf(1);
    }

    public boolean previous() {
      return --index >= 0 || advanceLeaf(-1);
    }

    private void descend(Inner inner, int child) {
      if (path.size() == places.length) {
        places = Arrays.copyOf(places, places.length * 2);
      }
      places[path.size()] = child;
      path.add(inner);
    }

    private void edge(BagNode from, int direction) {
      BagNode node = from;
      while (node instanceof Inner inner) {
        int child = direction > 0 ? 0 : inner.children.length - 1;
        descend(inner, child);
        node = inner.children[child];
      }
      leaf = (Leaf) node;
      index = direction > 0 ? 0 : leaf.size() - 1;
    }

    private boolean advanceLeaf(int direction) {
      while (!path.isEmpty()) {
        int depth = path.size() - 1;
        Inner inner = path.get(depth);
        int child = places[depth] + direction;
        if (child >= 0 && child < inner.children.length) {
          places[depth] = child;
          edge(inner.children[child], direction);
          return true;
        }
        path.remove(depth);
      }
      return false;
    }

    /** The array the entry lives in; never written again. */
    public byte[] bytes() {
      return leaf.data;
    }

    public int start() {
      return leaf.start(index);
    }

    public int keyEnd() {
      return leaf.keyEnd(index);
    }

    public int end() {
      return leaf.start(index + 1);
    }

    public long weight() {
      return leaf.weight(index);
    }
  }

  public Cursor cursor() {
    return new Cursor(this);
  }
}
