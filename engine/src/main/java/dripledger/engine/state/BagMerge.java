package dripledger.engine.state;

import dripledger.engine.row.Bytes;
import dripledger.engine.state.BagNode.Inner;
import dripledger.engine.state.BagNode.Leaf;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * One application of a batch to a {@link SortedBag}: pieces of the new level, left to right. Used
 * once.
 */
final class BagMerge {
  private static final int LEAF_ENTRIES = 32;
  private static final int LEAF_BYTES = 48 * 1024;
  private static final int FANOUT = 64;

  private final BagBatch batch;
  private final byte[] changes;
  // The entries of the leaf being rebuilt: >= 0 is an entry of the old leaf, < 0 a change's
  // ~rank.
  private int[] picks = new int[256];
  private long[] pickWeights = new long[256];
  private int picked;
  private byte[] scratch = new byte[0];
  private List<BagNode> nodes = new ArrayList<>();
  private List<byte[]> fences = new ArrayList<>();

  BagMerge(BagBatch batch) {
    this.batch = batch;
    this.changes = batch.bytes();
  }

  BagNode takeRoot() {
    while (nodes.size() > 1) {
      List<BagNode> level = nodes;
      List<byte[]> levelFences = fences;
      nodes = new ArrayList<>();
      fences = new ArrayList<>();
      packInner(level, levelFences, null);
    }
    BagNode node = nodes.isEmpty() ? Leaf.EMPTY : nodes.get(0);
    while (node instanceof Inner inner && inner.children.length == 1) {
      node = inner.children[0];
    }
    return node;
  }

  /** Appends what becomes of {@code node} under changes [from, to) to {@link #nodes}. */
  void apply(BagNode node, byte[] fence, int from, int to) {
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
    List<BagNode> outerNodes = nodes;
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
    List<BagNode> children = nodes;
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

  private void packInner(List<BagNode> children, List<byte[]> childFences, byte[] fence) {
    int count = children.size();
    int pieces = (count + FANOUT - 1) / FANOUT;
    for (int p = 0; p < pieces; p++) {
      int from = (int) ((long) count * p / pieces);
      int to = (int) ((long) count * (p + 1) / pieces);
      nodes.add(
          new Inner(
              children.subList(from, to).toArray(new BagNode[0]),
              childFences.subList(from, to).toArray(new byte[0][])));
      fences.add(p == 0 && fence != null ? fence : childFences.get(from));
    }
  }

  /** Joins neighbours that have become small, so that deletions give their space back. */
  private static void joinSmall(List<BagNode> children, List<byte[]> childFences) {
    int kept = 0;
    for (int i = 0; i < children.size(); i++) {
      BagNode node = children.get(i);
      BagNode previous = kept == 0 ? null : children.get(kept - 1);
      BagNode joined = null;
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
    BagNode[] children = Arrays.copyOf(a.children, n + b.children.length);
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
          pick >= 0 ? old.keyEnd(pick) - old.start(pick) : batch.keyEnd(~pick) - batch.start(~pick);
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
