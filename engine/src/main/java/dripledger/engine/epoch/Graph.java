package dripledger.engine.epoch;

import dripledger.engine.circuit.ColumnDelta;
import dripledger.engine.circuit.DeltaReaders;
import dripledger.engine.circuit.Epoch;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.row.Page;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import dripledger.engine.time.Watermark;
import dripledger.engine.view.RelationVersion;
import java.util.ArrayList;
import java.util.Comparator;
import java.util.HashMap;
import java.util.IdentityHashMap;
import java.util.List;
import java.util.Map;
import java.util.function.Consumer;
import java.util.function.LongPredicate;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * All live nodes, what is read before what reads it, and one clock for their stores. Whatever is
 * thrown while a node is at work takes that node out of the epochs with its reason, and everything
 * that reads from it. Belongs to the thread that steps.
 */
final class Graph {
  private static final Logger LOG = LoggerFactory.getLogger(Graph.class);

  private final Versions versions;
  private final List<LiveNode> nodes = new ArrayList<>();
  private final Map<Long, LiveNode> byId = new HashMap<>();
  private final Map<Long, List<QueryNode>> readers = new HashMap<>(); // by what they read

  Graph(Versions versions) {
    this.versions = versions;
  }

  /** The node with a number, or null. */
  LiveNode node(long id) {
    return byId.get(id);
  }

  /** Adds a node; one that is being filled takes no part yet. */
  void attach(LiveNode node) {
    nodes.add(node);
    if (node instanceof QueryNode query && query.isFilling()) {
      query.measure();
    } else {
      takesPart(node);
    }
    wire();
  }

  private void takesPart(LiveNode node) {
    node.join(versions);
    if (node.id() != LiveNode.NO_NUMBER) {
      byId.put(node.id(), node);
    }
  }

  /** A node that was attached to be filled takes part from here on. */
  void live(QueryNode node) {
    node.drain();
    takesPart(node);
    wire();
  }

  /** Takes a node out; one with the same number, attached before or not, is in its place. */
  void replace(LiveNode old, LiveNode node) {
    nodes.remove(old);
    old.leave();
    if (nodes.contains(node)) {
      byId.put(node.id(), node);
    } else {
      nodes.add(node);
      takesPart(node);
    }
    wire();
  }

  /** Removes a node, and ends whoever follows it. */
  void detach(LiveNode node) {
    nodes.remove(node);
    byId.remove(node.id(), node);
    node.leave();
    String reason = "\"" + node.name() + "\" was dropped or replaced; follow again";
    for (LiveNode each : List.copyOf(nodes)) {
      if (each instanceof QueryNode follower && follower.follows(node.id())) {
        follower.fail(reason);
        nodes.remove(follower);
        follower.leave();
      }
    }
    wire();
  }

  /** Tells each node which step it is read through, and whether its changes are read. */
  private void wire() {
    sort();
    readers.clear();
    for (int i = nodes.size() - 1; i >= 0; i--) {
      if (nodes.get(i) instanceof QueryNode query) {
        query.base(byId.get(query.baseId()));
        query.rowsWanted(query.needsOwnRows() || readers.containsKey(query.id()));
        if (query.readsChanges()) {
          for (long input : query.inputs()) {
            readers.computeIfAbsent(input, id -> new ArrayList<>()).add(query);
          }
        }
      }
    }
    for (LiveNode node : nodes) {
      if (node instanceof QueryNode query) {
        query.readBy(readers.getOrDefault(query.id(), List.of()));
      }
    }
  }

  /** Puts what is read before what reads it. */
  private void sort() {
    Map<LiveNode, Integer> depths = new IdentityHashMap<>();
    nodes.forEach(node -> depth(node, depths));
    nodes.sort(Comparator.comparing(depths::get)); // stable
  }

  private int depth(LiveNode node, Map<LiveNode, Integer> known) {
    Integer depth = known.get(node);
    if (depth == null) {
      depth = 0;
      if (node instanceof QueryNode query) {
        for (long input : query.inputs()) {
          LiveNode source = byId.get(input);
          depth = Math.max(depth, source == null ? 0 : 1 + depth(source, known));
        }
      }
      known.put(node, depth);
    }
    return depth;
  }

  // ---- epochs

  /**
   * Hands changes to an input, if it takes any.
   *
   * @return how many rows it took
   */
  int take(long id, Page page, int partition, long nowMillis) {
    if (byId.get(id) instanceof InputNode node && node.failure() == null && !node.isLoading()) {
      atWork(node, () -> node.take(page, partition, nowMillis));
      return page.size();
    }
    return 0;
  }

  /** Takes every node through an epoch. */
  void step(long epoch, long nowMillis) {
    for (LiveNode node : nodes) {
      if (node.failure() == null) {
        atWork(node, () -> step(node, epoch, nowMillis));
      }
    }
  }

  private void step(LiveNode node, long epoch, long now) {
    if (node instanceof InputNode input) {
      input.taken(epoch);
      input.advanceWatermark(now);
      return;
    }
    QueryNode query = (QueryNode) node;
    long watermark = Watermark.TIMELESS;
    for (long number : query.inputs()) {
      LiveNode source = byId.get(number);
      if (source == null) {
        continue;
      }
      if (source.failure() != null && !source.stoppedBySource()) {
        node.fail(
            number < 0 // a step of its own
                ? source.failure()
                : "\"" + source.name() + "\", which it reads, has stopped");
        return;
      }
      watermark = Math.min(watermark, source.watermarkMicros());
      if (source.delta() != null && !source.delta().isEmpty() && query.readsChanges()) {
        query.feed(number, source.delta());
      }
    }
    if (!query.isFilling()) {
      query.step(new Epoch(epoch, watermark, now), new Handing(query.id()));
    }
  }

  /** Feeds what a step changes to all who read it. */
  private final class Handing implements DeltaReaders {
    private final long id;

    Handing(long id) {
      this.id = id;
    }

    @Override
    public void rows(Page piece) {
      toEach(reader -> reader.feed(id, piece));
    }

    @Override
    public void columns(ColumnDelta piece) {
      toEach(reader -> reader.feed(id, piece));
    }

    private void toEach(Consumer<QueryNode> feed) {
      for (QueryNode reader : readers.getOrDefault(id, List.of())) {
        if (reader.failure() == null) {
          atWork(reader, () -> feed.accept(reader));
        }
      }
    }
  }

  /** The epoch is published: tells who listens, and forgets what has changed. */
  void end(long epoch) {
    for (LiveNode node : nodes) {
      if (node instanceof QueryNode query) {
        atWork(node, () -> query.tell(epoch));
      }
      atWork(node, node::endEpoch);
    }
  }

  /** Nothing has come in for a while. */
  void idle(long nowMillis) {
    for (LiveNode node : nodes) {
      if (node instanceof InputNode input) {
        atWork(node, () -> input.advanceWatermark(nowMillis));
      }
    }
  }

  /** Whatever goes wrong here is the node's trouble alone, and that of what reads it. */
  private static void atWork(LiveNode node, Runnable step) {
    try {
      step.run();
    } catch (Throwable e) {
      LOG.error("{} has stopped", node.name(), e);
      node.fail(e.getMessage() == null ? e.toString() : e.getMessage());
    }
  }

  /** No node takes part in anything any more. */
  void fail(String reason) {
    nodes.forEach(node -> node.fail(reason));
  }

  // ---- what is seen of it

  /**
   * Gives the relations as a version shows them that was just published.
   *
   * @param unreadable given the reasons of those that cannot be read
   */
  void publish(long version, Map<Long, RelationVersion> relations, Map<Long, String> unreadable) {
    for (LiveNode node : nodes) {
      if (isFilling(node)) {
        continue;
      }
      if (node.failure() != null && !node.stoppedBySource()) {
        unreadable.put(node.id(), "\"" + node.name() + "\" has stopped: " + node.failure());
      } else if (node.isLoading()) {
        unreadable.put(node.id(), "\"" + node.name() + "\" is still being loaded");
      }
      RelationVersion relation = node.version(version);
      if (relation != null) {
        relations.put(node.id(), relation);
      }
    }
  }

  private static boolean isFilling(LiveNode node) {
    return node instanceof QueryNode query && query.isFilling();
  }

  /** Heap of state and rows of all nodes, in bytes. */
  long heldBytes() {
    long held = 0;
    for (LiveNode node : nodes) {
      held += node.heldBytes();
    }
    return held;
  }

  /**
   * Notes the state of all nodes for a checkpoint.
   *
   * @param whole of which instances to save everything, and not what changed since the last time
   */
  List<CheckpointImage.Node> capture(LongPredicate whole) {
    List<CheckpointImage.Node> images = new ArrayList<>();
    for (LiveNode node : nodes) {
      if (node.id() == LiveNode.NO_NUMBER || isFilling(node)) {
        continue;
      }
      // What failed is not to be trusted: it is made again from its inputs at the next start.
      boolean trusted = !node.isLoading() && (node.failure() == null || node.stoppedBySource());
      List<Durable.Capture> parts = new ArrayList<>();
      if (trusted) {
        boolean all = whole.test(node.instance());
        node.durable().forEach(part -> parts.add(part.capture(all)));
      }
      images.add(
          new CheckpointImage.Node(
              node.id(),
              node.instance(),
              node.planPrint(),
              trusted ? node.figures() : null,
              parts));
    }
    return images;
  }
}
