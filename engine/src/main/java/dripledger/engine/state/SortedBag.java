package dripledger.engine.state;

import dripledger.engine.row.Bytes;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collections;
import java.util.IdentityHashMap;
import java.util.List;
import java.util.Set;

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
  private static final int LEAF_ENTRIES = 32;
  private static final int LEAF_BYTES = 48 * 1024;
  private static final int FANOUT = 64;

  /** The bag with nothing in it. */
  public static final SortedBag EMPTY = new SortedBag(Leaf.EMPTY);

  private final Node root;

  private SortedBag(Node root) {
    this.root = root;
  }

  private abstract static sealed class Node permits Leaf, Inner {
    abstract long entries();

    abstract long weight();

    abstract long heapBytes();
  }

  /**
   * Entries in one byte array. If all have the same lengths (rows of fixed-size columns) their
   * places are multiples of {@code stride}; else {@code starts} and {@code keyEnds} hold them.
   */
  private static final class Leaf extends Node {
    static final Leaf EMPTY = new Leaf(new byte[0], 0, 0, new int[1], null, null);

    final byte[] data;
    final int stride; // 0 if entries differ in length
    final int keyLength; // of every key, if keyEnds is null
    final int[] starts; // n + 1 of them; null if stride is not 0
    final int[] keyEnds;
    final long[] weights; // null if all are 1

    Leaf(byte[] data, int stride, int keyLength, int[] starts, int[] keyEnds, long[] weights) {
      this.data = data;
      this.stride = stride;
      this.keyLength = keyLength;
      this.starts = starts;
      this.keyEnds = keyEnds;
      this.weights = weights;
    }

    int size() {
      return stride > 0 ? data.length / stride : starts.length - 1;
    }

    int start(int i) {
      return stride > 0 ? i * stride : starts[i];
    }

    int keyEnd(int i) {
      return keyEnds == null ? start(i) + keyLength : keyEnds[i];
    }

    long weight(int i) {
      return weights == null ? 1 : weights[i];
    }

    @Override
    long entries() {
      return size();
    }

    @Override
    long weight() {
      if (weights == null) {
        return size();
      }
      long sum = 0;
      for (long w : weights) {
        sum += w;
      }
      return sum;
    }

    @Override
    long heapBytes() {
      return 64L
          + data.length
          + (starts == null ? 0 : 16 + 4L * starts.length)
          + (keyEnds == null ? 0 : 16 + 4L * keyEnds.length)
          + (weights == null ? 0 : 16 + 8L * weights.length);
    }

    /** The first entry at or behind the bytes given, not looking before {@code low}. */
    int lowerBound(byte[] bytes, int from, int to, int low) {
      int lo = low;
      int hi = size();
      // Changes to one key come one after the other, so the answer is often where we stand.
      if (lo < hi && Bytes.compare(data, start(lo), start(lo + 1), bytes, from, to) >= 0) {
        return lo;
      }
      while (lo < hi) {
        int middle = (lo + hi) >>> 1;
        if (Bytes.compare(data, start(middle), start(middle + 1), bytes, from, to) < 0) {
          lo = middle + 1;
        } else {
          hi = middle;
        }
      }
      return lo;
    }

    /** The same for entries of one length of at least eight bytes, whose first eight are known. */
    int lowerBound(long prefix, byte[] bytes, int from, int low, int n) {
      int lo = low;
      int hi = n;
      int middle = lo;
      while (lo < hi) {
        int at = middle * stride;
        long here = Bytes.getLongBigEndian(data, at);
        int order =
            here != prefix
                ? Long.compareUnsigned(here, prefix)
                : Bytes.compare(data, at + 8, at + stride, bytes, from + 8, from + stride);
        if (order < 0) {
          lo = middle + 1;
        } else {
          hi = middle;
        }
        middle = (lo + hi) >>> 1;
      }
      return lo;
    }
  }

  private static final class Inner extends Node {
    final Node[] children;
    final byte[][] fences; // fences[i]: at or below every entry of child i; fences[0] is unused
    private final long[] fencePrefixes; // the first eight bytes of each, so that few are looked at
    final long entries;
    final long weight;
    final long heapBytes;

    Inner(Node[] children, byte[][] fences) {
      this.children = children;
      this.fences = fences;
      long entrySum = 0;
      long weightSum = 0;
      long byteSum = 100L + 16L * children.length;
      fencePrefixes = new long[children.length];
      for (int i = 0; i < children.length; i++) {
        fencePrefixes[i] = i == 0 ? 0 : prefix(fences[i], 0, fences[i].length);
        entrySum += children[i].entries();
        weightSum += children[i].weight();
        byteSum += children[i].heapBytes() + (fences[i] == null ? 0 : 16 + fences[i].length);
      }
      entries = entrySum;
      weight = weightSum;
      heapBytes = byteSum;
    }

    @Override
    long entries() {
      return entries;
    }

    @Override
    long weight() {
      return weight;
    }

    @Override
    long heapBytes() {
      return heapBytes;
    }

    int childOf(byte[] bytes, int from, int to) {
      int lo = 1;
      int hi = children.length;
      long wanted = prefix(bytes, from, to);
      while (lo < hi) {
        int middle = (lo + hi) >>> 1;
        long here = fencePrefixes[middle];
        byte[] fence = fences[middle];
        int order =
            here != wanted
                ? Long.compareUnsigned(here, wanted)
                : Bytes.compare(fence, 0, fence.length, bytes, from, to);
        if (order <= 0) {
          lo = middle + 1;
        } else {
          hi = middle;
        }
      }
      return lo - 1;
    }
  }

  /** The first eight bytes, padded with zeroes, as an unsigned number. */
  private static long prefix(byte[] bytes, int from, int to) {
    if (to - from >= 8) {
      return Bytes.getLongBigEndian(bytes, from);
    }
    long value = 0;
    for (int i = 0; i < 8; i++) {
      value = value << 8 | (from + i < to ? bytes[from + i] & 0xFF : 0);
    }
    return value;
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
    Merge merge = new Merge(batch);
    merge.apply(root, null, 0, changes);
    return new SortedBag(merge.takeRoot());
  }

  /** One application of a batch: pieces of the new level, left to right. */
  private static final class Merge {
    private final BagBatch batch;
    private final byte[] changes;
    // The entries of the leaf being rebuilt: >= 0 is an entry of the old leaf, < 0 a change's
    // ~rank.
    private int[] picks = new int[256];
    private long[] pickWeights = new long[256];
    private int picked;
    private byte[] scratch = new byte[0];
    private List<Node> nodes = new ArrayList<>();
    private List<byte[]> fences = new ArrayList<>();

    Merge(BagBatch batch) {
      this.batch = batch;
      this.changes = batch.bytes();
    }

    Node takeRoot() {
      while (nodes.size() > 1) {
        List<Node> level = nodes;
        List<byte[]> levelFences = fences;
        nodes = new ArrayList<>();
        fences = new ArrayList<>();
        packInner(level, levelFences, null);
      }
      Node node = nodes.isEmpty() ? Leaf.EMPTY : nodes.get(0);
      while (node instanceof Inner inner && inner.children.length == 1) {
        node = inner.children[0];
      }
      return node;
    }

    /** Appends what becomes of {@code node} under changes [from, to) to {@link #nodes}. */
    void apply(Node node, byte[] fence, int from, int to) {
      if (from == to) {
        nodes.add(node);
        fences.add(fence);
      } else if (node instanceof Leaf leaf) {
        applyLeaf(leaf, fence, from, to);
      } else {
        applyInner((Inner) node, fence, from, to);
      }
    }

    private void applyInner(Inner inner, byte[] fence, int from, int to) {
      List<Node> outerNodes = nodes;
      List<byte[]> outerFences = fences;
      nodes = new ArrayList<>(inner.children.length + 8);
      fences = new ArrayList<>(inner.children.length + 8);
      int at = from;
      int last = inner.children.length - 1;
      for (int i = 0; i <= last; i++) {
        int stop = i == last ? to : firstAtOrBehind(inner.fences[i + 1], at, to);
        apply(inner.children[i], i == 0 ? fence : inner.fences[i], at, stop);
        at = stop;
      }
      List<Node> children = nodes;
      List<byte[]> childFences = fences;
      nodes = outerNodes;
      fences = outerFences;
      joinSmall(children, childFences);
      packInner(children, childFences, fence);
    }

    private int firstAtOrBehind(byte[] fence, int from, int to) {
      int lo = from;
      int hi = to;
      while (lo < hi) {
        int middle = (lo + hi) >>> 1;
        if (Bytes.compare(changes, batch.start(middle), batch.end(middle), fence, 0, fence.length)
            < 0) {
          lo = middle + 1;
        } else {
          hi = middle;
        }
      }
      return lo;
    }

    private void packInner(List<Node> children, List<byte[]> childFences, byte[] fence) {
      int count = children.size();
      int pieces = (count + FANOUT - 1) / FANOUT;
      for (int p = 0; p < pieces; p++) {
        int from = (int) ((long) count * p / pieces);
        int to = (int) ((long) count * (p + 1) / pieces);
        nodes.add(
            new Inner(
                children.subList(from, to).toArray(new Node[0]),
                childFences.subList(from, to).toArray(new byte[0][])));
        fences.add(p == 0 && fence != null ? fence : childFences.get(from));
      }
    }

    /** Joins neighbours that have become small, so that deletions give their space back. */
    private static void joinSmall(List<Node> children, List<byte[]> childFences) {
      int kept = 0;
      for (int i = 0; i < children.size(); i++) {
        Node node = children.get(i);
        Node previous = kept == 0 ? null : children.get(kept - 1);
        Node joined = null;
        if (previous instanceof Leaf a && node instanceof Leaf b) {
          joined = joinLeaves(a, b);
        } else if (previous instanceof Inner a && node instanceof Inner b) {
          joined = joinInner(a, b, childFences.get(i));
        }
        if (joined != null) {
          children.set(kept - 1, joined);
        } else {
          children.set(kept, node);
          childFences.set(kept, childFences.get(i));
          kept++;
        }
      }
      children.subList(kept, children.size()).clear();
      childFences.subList(kept, childFences.size()).clear();
    }

    private static Leaf joinLeaves(Leaf a, Leaf b) {
      int n = a.size();
      int m = b.size();
      boolean small = Math.min(n, m) < LEAF_ENTRIES / 4;
      if (!small
          || n + m > LEAF_ENTRIES * 3 / 4
          || a.data.length + b.data.length > LEAF_BYTES
          || a.stride != b.stride
          || a.keyLength != b.keyLength
          || (a.keyEnds == null) != (b.keyEnds == null)) {
        return null;
      }
      byte[] data = Arrays.copyOf(a.data, a.data.length + b.data.length);
      System.arraycopy(b.data, 0, data, a.data.length, b.data.length);
      int[] starts = null;
      if (a.stride == 0) {
        starts = Arrays.copyOf(a.starts, n + m + 1);
        for (int i = 0; i <= m; i++) {
          starts[n + i] = a.data.length + b.starts[i];
        }
      }
      int[] keyEnds = null;
      if (a.keyEnds != null) {
        keyEnds = Arrays.copyOf(a.keyEnds, n + m);
        for (int i = 0; i < m; i++) {
          keyEnds[n + i] = a.data.length + b.keyEnds[i];
        }
      }
      long[] weights = null;
      if (a.weights != null || b.weights != null) {
        weights = new long[n + m];
        for (int i = 0; i < n + m; i++) {
          weights[i] = i < n ? a.weight(i) : b.weight(i - n);
        }
      }
      return new Leaf(data, a.stride, a.keyLength, starts, keyEnds, weights);
    }

    private static Inner joinInner(Inner a, Inner b, byte[] fence) {
      boolean small = Math.min(a.children.length, b.children.length) < FANOUT / 4;
      if (!small || a.children.length + b.children.length > FANOUT * 3 / 4) {
        return null;
      }
      int n = a.children.length;
      Node[] children = Arrays.copyOf(a.children, n + b.children.length);
      System.arraycopy(b.children, 0, children, n, b.children.length);
      byte[][] fences = Arrays.copyOf(a.fences, n + b.children.length);
      System.arraycopy(b.fences, 0, fences, n, b.children.length);
      fences[n] = fence;
      return new Inner(children, fences);
    }

    private void pick(int entry, long weight) {
      if (picked == picks.length) {
        picks = Arrays.copyOf(picks, picked * 2);
        pickWeights = Arrays.copyOf(pickWeights, picked * 2);
      }
      picks[picked] = entry;
      pickWeights[picked++] = weight;
    }

    /**
     * The common case, a leaf and changes of one entry length and weights of one: runs of untouched
     * entries are copied whole. Answers false, having done nothing, if the case is another.
     */
    private boolean applyUniformLeaf(Leaf leaf, byte[] fence, int from, int to) {
      int stride = batch.stride();
      int n = leaf.size();
      boolean fits = leaf.stride == stride && leaf.keyLength == batch.keyStride() || n == 0;
      if (!fits || stride < 8 || leaf.weights != null || stride * 2L > LEAF_BYTES / LEAF_ENTRIES) {
        return false;
      }
      int most = (n + to - from) * stride;
      if (scratch.length < most) {
        scratch = new byte[most * 2];
      }
      int at = 0;
      int length = 0;
      for (int rank = from; rank < to; rank++) {
        int start = batch.start(rank);
        long prefix = batch.prefixAt(rank);
        int place = leaf.lowerBound(prefix, changes, start, at, n);
        int run = (place - at) * stride;
        System.arraycopy(leaf.data, at * stride, scratch, length, run);
        length += run;
        at = place;
        boolean there = at < n && Bytes.equal(leaf.data, at * stride, changes, start, stride);
        long now = (there ? 1 : 0) + batch.weight(rank);
        if (now < 0 || now > 1) {
          return false; // the general way counts, or complains
        }
        at += there ? 1 : 0;
        if (now == 1) {
          Bytes.copy(changes, start, scratch, length, stride);
          length += stride;
        }
      }
      int run = (n - at) * stride;
      System.arraycopy(leaf.data, at * stride, scratch, length, run);
      length += run;
      int count = length / stride;
      int pieces = (count + LEAF_ENTRIES - 1) / LEAF_ENTRIES;
      for (int p = 0; p < pieces; p++) {
        int first = (int) ((long) count * p / pieces) * stride;
        int last = (int) ((long) count * (p + 1) / pieces) * stride;
        byte[] data = Arrays.copyOfRange(scratch, first, last);
        nodes.add(new Leaf(data, stride, batch.keyStride(), null, null, null));
        fences.add(p == 0 ? fence : Arrays.copyOf(data, stride));
      }
      return true;
    }

    private void applyLeaf(Leaf leaf, byte[] fence, int from, int to) {
      if (applyUniformLeaf(leaf, fence, from, to)) {
        return;
      }
      picked = 0;
      int at = 0;
      int n = leaf.size();
      for (int rank = from; rank < to; rank++) {
        int start = batch.start(rank);
        int end = batch.end(rank);
        int place = leaf.lowerBound(changes, start, end, at);
        for (; at < place; at++) {
          pick(at, leaf.weight(at));
        }
        long old = 0;
        if (at < n
            && leaf.start(at + 1) - leaf.start(at) == end - start
            && Bytes.equal(leaf.data, leaf.start(at), changes, start, end - start)) {
          old = leaf.weight(at);
          at++;
        }
        long now = Math.addExact(old, batch.weight(rank));
        if (now < 0) {
          throw new IllegalStateException(
              "a row was taken out " + -now + " times more than it was put in");
        }
        if (now > 0) {
          pick(old > 0 ? at - 1 : ~rank, now);
        }
      }
      for (; at < n; at++) {
        pick(at, leaf.weight(at));
      }
      cutLeaves(leaf, fence);
    }

    private int pickBytes(Leaf leaf, int pick) {
      return pick >= 0
          ? leaf.start(pick + 1) - leaf.start(pick)
          : batch.end(~pick) - batch.start(~pick);
    }

    private void cutLeaves(Leaf leaf, byte[] fence) {
      long bytes = 0;
      for (int i = 0; i < picked; i++) {
        bytes += pickBytes(leaf, picks[i]);
      }
      int pieces =
          (int)
              Math.max(
                  (picked + LEAF_ENTRIES - 1) / LEAF_ENTRIES,
                  Math.min(picked, (bytes + LEAF_BYTES - 1) / LEAF_BYTES));
      for (int p = 0; p < pieces; p++) {
        int from = (int) ((long) picked * p / pieces);
        int to = (int) ((long) picked * (p + 1) / pieces);
        Leaf piece = buildLeaf(leaf, from, to);
        nodes.add(piece);
        // The first piece keeps the old fence: it may lie below the first entry, never above.
        fences.add(p == 0 ? fence : Arrays.copyOf(piece.data, piece.start(1)));
      }
    }

    private Leaf buildLeaf(Leaf old, int from, int to) {
      int n = to - from;
      int[] starts = new int[n + 1];
      int[] keyLengths = new int[n];
      boolean sameKeyLength = true;
      boolean allOne = true;
      int total = 0;
      for (int i = 0; i < n; i++) {
        int pick = picks[from + i];
        starts[i] = total;
        total += pickBytes(old, pick);
        keyLengths[i] =
            pick >= 0
                ? old.keyEnd(pick) - old.start(pick)
                : batch.keyEnd(~pick) - batch.start(~pick);
        sameKeyLength &= keyLengths[i] == keyLengths[0];
        allOne &= pickWeights[from + i] == 1;
      }
      starts[n] = total;
      byte[] data = new byte[total];
      for (int i = 0; i < n; ) {
        int pick = picks[from + i];
        if (pick < 0) {
          System.arraycopy(changes, batch.start(~pick), data, starts[i], starts[i + 1] - starts[i]);
          i++;
        } else {
          int run = i + 1;
          while (run < n && picks[from + run] == pick + (run - i)) {
            run++;
          }
          System.arraycopy(old.data, old.start(pick), data, starts[i], starts[run] - starts[i]);
          i = run;
        }
      }
      int[] keyEnds = null;
      if (!sameKeyLength) {
        keyEnds = keyLengths;
        for (int i = 0; i < n; i++) {
          keyEnds[i] += starts[i];
        }
      }
      long[] weights = allOne ? null : Arrays.copyOfRange(pickWeights, from, to);
      int keyLength = sameKeyLength ? keyLengths[0] : 0;
      int stride = starts[1];
      for (int i = 0; i < n && stride > 0; i++) {
        stride = starts[i + 1] - starts[i] == stride && sameKeyLength ? stride : 0;
      }
      return new Leaf(data, stride, keyLength, stride > 0 ? null : starts, keyEnds, weights);
    }
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
      Node node = bag.root;
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

    private void edge(Node from, int direction) {
      Node node = from;
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

    /** Whether the entry starts with the bytes given. */
    public boolean startsWith(byte[] prefix, int from, int length) {
      return end() - start() >= length && Bytes.equal(bytes(), start(), prefix, from, length);
    }
  }

  public Cursor cursor() {
    return new Cursor(this);
  }

  /** Receives the difference of two bags; the arrays are never written again. */
  @FunctionalInterface
  public interface DifferenceSink {
    void difference(byte[] bytes, int from, int keyEnd, int to, long weight);
  }

  /**
   * What must be added to {@code older} to get this bag, in ascending order. Leaves that both share
   * are passed over, so the cost follows the changes between the two.
   */
  public void differenceFrom(SortedBag older, DifferenceSink sink) {
    if (older.root == root) {
      return;
    }
    List<Leaf> before = older.leaves();
    List<Leaf> after = leaves();
    Set<Leaf> shared = Collections.newSetFromMap(new IdentityHashMap<>());
    Set<Leaf> beforeSet = Collections.newSetFromMap(new IdentityHashMap<>());
    beforeSet.addAll(before);
    for (Leaf l : after) {
      if (beforeSet.contains(l)) {
        shared.add(l);
      }
    }
    before.removeIf(shared::contains);
    after.removeIf(shared::contains);
    Walk a = new Walk(before);
    Walk b = new Walk(after);
    while (a.present() || b.present()) {
      int order = !a.present() ? 1 : !b.present() ? -1 : a.compareTo(b);
      long weight = (order >= 0 ? b.weight() : 0) - (order <= 0 ? a.weight() : 0);
      Walk at = order >= 0 ? b : a;
      if (weight != 0) {
        int i = at.index;
        sink.difference(
            at.leaf.data, at.leaf.start(i), at.leaf.keyEnd(i), at.leaf.start(i + 1), weight);
      }
      if (order <= 0) {
        a.next();
      }
      if (order >= 0) {
        b.next();
      }
    }
  }

  private List<Leaf> leaves() {
    List<Leaf> out = new ArrayList<>();
    collectLeaves(root, out);
    return out;
  }

  private static void collectLeaves(Node node, List<Leaf> out) {
    if (node instanceof Leaf leaf) {
      if (leaf.size() > 0) {
        out.add(leaf);
      }
    } else {
      for (Node child : ((Inner) node).children) {
        collectLeaves(child, out);
      }
    }
  }

  private static final class Walk {
    private final List<Leaf> leaves;
    private int leafIndex;
    private Leaf leaf;
    private int index;

    Walk(List<Leaf> leaves) {
      this.leaves = leaves;
      leaf = leaves.isEmpty() ? null : leaves.get(0);
    }

    boolean present() {
      return leaf != null;
    }

    long weight() {
      return leaf.weight(index);
    }

    int compareTo(Walk other) {
      return Bytes.compare(
          leaf.data,
          leaf.start(index),
          leaf.start(index + 1),
          other.leaf.data,
          other.leaf.start(other.index),
          other.leaf.start(other.index + 1));
    }

    void next() {
      if (++index == leaf.size()) {
        leafIndex++;
        leaf = leafIndex < leaves.size() ? leaves.get(leafIndex) : null;
        index = 0;
      }
    }
  }
}
