package dripledger.engine.epoch;

import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import java.util.ArrayList;
import java.util.Comparator;
import java.util.IdentityHashMap;
import java.util.List;
import java.util.Map;
import java.util.function.LongFunction;

/**
 * The order in which nodes work: a node's rank is above those of all it reads. The nodes of a rank
 * have nothing to do with each other, but that a node feeds those that read it while it works; so
 * those that feed the same reader work one after the other, in one {@link Bundle}, and bundles
 * beside each other. Belongs to the thread that steps.
 */
final class Ranks {
  private final LongFunction<LiveNode> byId;
  private final Map<LiveNode, Integer> ranks = new IdentityHashMap<>();

  /** Nodes of one rank that work one after the other. */
  static final class Bundle {
    final List<LiveNode> nodes = new ArrayList<>();
    volatile long nanos; // of its last work
  }

  /**
   * Puts what is read before what reads it.
   *
   * @param nodes put in order
   */
  Ranks(List<LiveNode> nodes, LongFunction<LiveNode> byId) {
    this.byId = byId;
    nodes.forEach(this::rank);
    nodes.sort(Comparator.comparing(ranks::get)); // stable
  }

  private int rank(LiveNode node) {
    Integer rank = ranks.get(node);
    if (rank == null) {
      rank = 0;
      if (node instanceof QueryNode query) {
        rank = 1; // inputs have taken in everything before what is computed begins
        for (long input : query.inputs()) {
          LiveNode source = byId.apply(input);
          rank = Math.max(rank, source == null ? 1 : 1 + rank(source));
        }
      }
      ranks.put(node, rank);
    }
    return rank;
  }

  /**
   * Parts each rank into what may work beside each other.
   *
   * @param nodes in their order
   * @param readers of a node's changes
   */
  List<List<Bundle>> bundles(List<LiveNode> nodes, LongFunction<List<QueryNode>> readers) {
    List<List<Bundle>> all = new ArrayList<>();
    Map<LiveNode, Bundle> byReader = new IdentityHashMap<>();
    for (LiveNode node : nodes) {
      while (ranks.get(node) >= all.size()) {
        all.add(new ArrayList<>());
        byReader.clear();
      }
      List<Bundle> rank = all.get(all.size() - 1);
      Bundle bundle = new Bundle();
      bundle.nodes.add(node);
      for (QueryNode reader : readers.apply(node.id())) {
        Bundle other = byReader.put(reader, bundle);
        if (other != null && other != bundle && node instanceof QueryNode) {
          bundle.nodes.addAll(0, other.nodes);
          byReader.replaceAll((r, b) -> b == other ? bundle : b);
          rank.remove(other);
        }
      }
      rank.add(bundle);
    }
    return all;
  }
}
