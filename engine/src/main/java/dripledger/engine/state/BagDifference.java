package dripledger.engine.state;

import dripledger.engine.row.Bytes;
import dripledger.engine.state.BagNode.Inner;
import dripledger.engine.state.BagNode.Leaf;
import java.util.ArrayList;
import java.util.Collections;
import java.util.IdentityHashMap;
import java.util.List;
import java.util.Set;

/** The difference of two instances of a {@link SortedBag}. Stateless. */
final class BagDifference {
  private BagDifference() {}

  /** Gives what must be added to one tree to get the other; see {@link SortedBag}. */
  static void of(BagNode older, BagNode newer, SortedBag.DifferenceSink sink) {
    List<Leaf> before = leaves(older);
    List<Leaf> after = leaves(newer);
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

  private static List<Leaf> leaves(BagNode root) {
    List<Leaf> out = new ArrayList<>();
    collectLeaves(root, out);
    return out;
  }

  private static void collectLeaves(BagNode node, List<Leaf> out) {
    if (node instanceof Leaf leaf) {
      if (leaf.size() > 0) {
        out.add(leaf);
      }
    } else {
      for (BagNode child : ((Inner) node).children) {
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
