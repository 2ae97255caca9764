package dripledger.engine.epoch;

import dripledger.engine.circuit.ColumnDelta;
import dripledger.engine.circuit.DeltaReaders;
import dripledger.engine.circuit.Epoch;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LateRows;
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
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.TimeUnit;
import java.util.function.BiConsumer;
import java.util.function.Consumer;
import java.util.function.LongPredicate;
import java.util.function.LongSupplier;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * All live nodes, what is read before what reads it, and one clock for their stores. Whatever is
 * thrown while a node is at work takes that node out of the epochs with its reason, and everything
 * that reads from it. Belongs to the thread that steps.
 *
 * <p>An epoch goes rank by rank, see {@link Ranks}, and the bundles of a rank work beside each
 * other. What comes out is the same however many work.
 */
final class Graph implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(Graph.class);

  /** The current time goes on by this, in microseconds. */
  private static final long CURRENT_STEP = TimeUnit.SECONDS.toMicros(1);

  private final Versions versions;
  private final List<LiveNode> nodes = new ArrayList<>();
  private final Refreshes refreshes = new Refreshes(nodes);
  private final Map<Long, LiveNode> byId = new HashMap<>();
  private final Map<Long, List<QueryNode>> readers = new HashMap<>(); // by what they read
  private final Workers workers;
  private final int togetherRows;
  private List<List<Ranks.Bundle>> ranks = List.of();
  private long taken; // rows since the last epoch
  private final LongSupplier clock;
  private long currentMicros = Epoch.NEVER;

  /**
   * @param clock the time of day, in microseconds since 1970
   * @param workerCount how many threads step together
   * @param togetherRows an epoch of fewer rows is not worth calling the others for
   */
  Graph(Versions versions, LongSupplier clock, int workerCount, int togetherRows) {
    this.clock = clock;
    this.versions = versions;
    workers = new Workers(workerCount);
    this.togetherRows = togetherRows;
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
    if (node instanceof QueryNode query) {
      currentMicros = Math.max(currentMicros, query.currentMicros());
    }
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

  /** Has a node look rows up in tables, and in what is computed, as they are. */
  void tables(LiveNode node) {
    if (node instanceof QueryNode query) {
      boolean wait = query.lookedUp().stream().anyMatch(id -> byId.get(id) instanceof QueryNode);
      atWork(
          query,
          () -> query.tables(id -> byId.containsKey(id) ? byId.get(id).byKey() : null, wait));
    }
  }

  private List<QueryNode> readers(long id) {
    return readers.getOrDefault(id, List.of());
  }

  /** Tells each node which step it is read through, and whether its changes are read. */
  private void wire() {
    Ranks order = new Ranks(nodes, byId::get);
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
    nodes.forEach(this::tables);
    Set<Long> histories = new HashSet<>();
    for (LiveNode node : nodes) {
      if (node instanceof QueryNode query) {
        histories.addAll(query.circuit().histories());
        query.readBy(readers(query.id()));
      }
    }
    for (LiveNode node : nodes) {
      if (node instanceof InputNode input) {
        input.versioned(histories.contains(input.id()));
      }
    }
    ranks = order.bundles(nodes, this::readers);
  }

  // ---- epochs

  /**
   * Hands changes to an input, if it takes any.
   *
   * @return how many rows it took
   */
  int take(EpochInput.Change change, long nowMillis) {
    if (byId.get(change.relationId()) instanceof InputNode node
        && node.failure() == null
        && !node.isLoading()) {
      int rows = change.rows();
      atWork(node, () -> take(node, change, nowMillis));
      change.done();
      taken += rows;
      return rows;
    }
    return 0;
  }

  private static void take(InputNode node, EpochInput.Change change, long nowMillis) {
    if (change.spooled() != null) {
      change
          .spooled()
          .read(p -> node.take(p, change.partition(), nowMillis, change.arrivedMicros()));
    }
    node.take(change.page(), change.partition(), nowMillis, change.arrivedMicros());
  }

  /** Takes every node through an epoch. */
  void step(long epoch, long nowMillis) {
    currentMicros = Math.max(currentMicros, stepOfClock());
    boolean together = workers.count() > 1 && taken >= togetherRows;
    taken = 0;
    for (List<Ranks.Bundle> rank : ranks) {
      if (together && rank.size() > 1) {
        rank.sort(Comparator.comparingLong(bundle -> -bundle.nanos));
        workers.run(rank.stream().map(b -> (Runnable) () -> step(b, epoch, nowMillis)).toList());
      } else {
        rank.forEach(bundle -> step(bundle, epoch, nowMillis));
      }
    }
  }

  private void step(Ranks.Bundle bundle, long epoch, long now) {
    long began = System.nanoTime();
    for (LiveNode node : bundle.nodes) {
      if (node.failure() == null) {
        atWork(node, () -> step(node, epoch, now));
      }
    }
    bundle.nanos = System.nanoTime() - began;
  }

  private void step(LiveNode node, long epoch, long now) {
    if (node instanceof InputNode input) {
      input.taken(epoch);
      input.advanceWatermark(now);
      return;
    }
    QueryNode query = (QueryNode) node;
    begin(query);
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
      query.arrival().add(source.arrival());
      if (source.delta() != null && !source.delta().isEmpty() && query.readsChanges()) {
        query.feed(number, source.delta());
      }
    }
    if (!query.isFilling()) {
      Epoch as = new Epoch(epoch, watermark, now, currentMicros);
      if (query.refresher() == null) {
        query.step(as, new Handing(query.id()));
      } else {
        query.refresh(as, clock.getAsLong(), refreshes.mayBegin());
      }
    }
  }

  /** What tables have changed comes before anything else that a node is fed. */
  private void begin(QueryNode query) {
    if (!query.isFilling()) {
      query.begin(
          id -> {
            LiveNode table = byId.get(id);
            return table == null ? null : table.delta();
          });
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
      for (QueryNode reader : readers(id)) {
        if (reader.failure() == null) {
          atWork(
              reader,
              () -> {
                begin(reader);
                feed.accept(reader);
              });
        }
      }
    }
  }

  /**
   * The epoch is published: tells who listens, and forgets what has changed.
   *
   * @param late given what views keep of what they left out as too late
   */
  void end(long epoch, BiConsumer<Long, LateRows.Left> late) {
    for (LiveNode node : nodes) {
      if (node instanceof QueryNode query) {
        atWork(node, () -> query.tell(epoch));
        if (!query.isFilling()) {
          query.circuit().takeLate(late);
        }
      }
      atWork(node, node::endEpoch);
    }
  }

  private long stepOfClock() {
    long now = clock.getAsLong();
    return now - Math.floorMod(now, CURRENT_STEP);
  }

  /** The current time of the next epoch to be filled for, see {@link Epoch#currentMicros}. */
  long currentMicros() {
    return Math.max(currentMicros, stepOfClock());
  }

  /**
   * Nothing has come in for a while; answers whether time has gone on nevertheless: that of events,
   * or the current time past something that waits for it.
   */
  boolean idle(long nowMillis) {
    boolean[] moved = new boolean[1];
    long current = stepOfClock();
    for (LiveNode node : nodes) {
      if (node instanceof InputNode input) {
        atWork(node, () -> moved[0] |= input.advanceWatermark(nowMillis));
      } else if (node instanceof QueryNode query && node.failure() == null) {
        moved[0] |= query.dueMicros() <= current;
      }
    }
    return moved[0];
  }

  /** The views that are refreshed from time to time. */
  Refreshes refreshes() {
    return refreshes;
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

  /** Lets go of the threads; nothing is stepped any more. */
  @Override
  public void close() {
    workers.close();
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
      boolean sound = node.failure() == null || node.stoppedBySource();
      boolean trusted =
          !node.isLoading() && (sound || node instanceof QueryNode q && q.isDelivery());
      List<Durable.Capture> parts = new ArrayList<>();
      if (trusted) {
        boolean all = whole.test(node.instance());
        List<Durable> durable = node.durable();
        for (int i = 0; i < durable.size(); i++) {
          // Of a delivery that has ended only what waits is of use, the last of its parts.
          boolean useful = sound || i == durable.size() - 1;
          parts.add(useful ? durable.get(i).capture(all) : null);
        }
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
