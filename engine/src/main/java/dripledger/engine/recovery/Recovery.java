package dripledger.engine.recovery;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.checkpoint.CheckpointStore;
import dripledger.engine.checkpoint.CheckpointStore.Saved;
import dripledger.engine.checkpoint.CheckpointStore.SavedNode;
import dripledger.engine.checkpoint.Checkpointer;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.definition.Definitions;
import dripledger.engine.epoch.EpochInput;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.error.EngineException;
import dripledger.engine.intake.Sources;
import dripledger.engine.intake.StreamHistory;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.Ledger;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateFormatException;
import dripledger.engine.time.Watermark;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.Supplier;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Brings the graph back: state from the last checkpoint, then the ledger from there on. What has no
 * saved state that this release reads (because it was defined after the checkpoint, or was saved by
 * another plan or release) is made again from its inputs as of the checkpoint. Used once, before
 * the loop starts.
 */
public final class Recovery {
  private static final String GIVEN_UP = "it could not be made again from its inputs yet: ";
  private static final Logger LOG = LoggerFactory.getLogger(Recovery.class);
  private static final int REPLAY_ROWS = 50_000;

  private final Definitions definitions;
  private final EpochLoop loop;
  private final Ledger ledger;
  private final CheckpointStore store;
  private final StreamHistory history;
  private final Sources sources;
  private final Checkpointer checkpointer;
  private final List<CatalogObject.MaterializedView> toMake = new ArrayList<>();
  private final Map<Long, String> unreachable = new HashMap<>();
  private final List<CatalogObject.Table> toLoad = new ArrayList<>();
  private final Set<Long> attached = new HashSet<>(); // steps
  private final Set<Long> changed = new HashSet<>(); // whose rows are not those of the checkpoint
  private Saved saved;
  private long sequence;
  private int restored;

  public Recovery(
      Definitions definitions,
      EpochLoop loop,
      Ledger ledger,
      CheckpointStore store,
      StreamHistory history,
      Sources sources,
      Checkpointer checkpointer) {
    this.definitions = definitions;
    this.loop = loop;
    this.ledger = ledger;
    this.store = store;
    this.history = history;
    this.sources = sources;
    this.checkpointer = checkpointer;
  }

  /**
   * Recovers.
   *
   * @return what could not be made and must be tried again once feeds are open: tables of shared
   *     feeds without saved rows, and views whose inputs could not be read, inputs first
   */
  public List<CatalogObject> run() {
    long began = System.nanoTime();
    Saved saved = store.latest();
    long sequence = saved == null ? 0 : saved.sequence();
    Map<Long, SourcePosition> positions = new HashMap<>();
    if (saved != null) {
      positions.putAll(saved.positions());
      checkpointer.loaded(saved.epoch());
    }
    loop.positions(sequence, positions);
    this.saved = saved;
    this.sequence = sequence;
    for (CatalogObject object : definitions.catalog().all()) {
      if (object instanceof CatalogObject.MaterializedView view) {
        view(view);
      } else if (object instanceof CatalogObject.Sink sink) {
        sink(sink);
      } else if (definitions.node(object.id()) instanceof InputNode node) {
        input(object, node, positions);
      }
      loop.positions(sequence, positions);
    }
    replay(sequence);
    loop.positions(ledger.lastSequence(), ledger.positions());
    LOG.info(
        "recovered {} relations and steps of {} objects from the checkpoint of epoch {} in {} ms",
        restored,
        definitions.catalog().all().size(),
        saved == null ? "none" : saved.epoch(),
        (System.nanoTime() - began) / 1_000_000);
    List<CatalogObject> left = new ArrayList<>(toLoad);
    left.addAll(toMake);
    return left;
  }

  private void input(CatalogObject object, InputNode node, Map<Long, SourcePosition> positions) {
    if (restore(object.name(), node)) {
      loop.attach(node);
      return;
    }
    InputNode fresh = (InputNode) definitions.renew(object);
    if (object instanceof CatalogObject.Table table) {
      changed.add(object.id());
      make(table, fresh, positions);
    }
    loop.attach(fresh);
  }

  /** Makes the rows of a table again, as of the checkpoint. */
  private void make(CatalogObject.Table table, InputNode node, Map<Long, SourcePosition> at) {
    if (table.source() == null) {
      Page page = new Page(new RowLayout(table.schema()));
      try {
        ledger.read(
            table.id(), page, 0, sequence, (changes, partition) -> node.store().apply(changes));
      } catch (IllegalStateException e) {
        LOG.error("the changes of {} do not fit together", table.name(), e);
        node.fail("its changes do not fit together: " + e.getMessage());
      }
    } else if (sources.shared(definitions.catalog().connectionOf(table))) {
      node.loading(true);
      toLoad.add(table);
    } else {
      at.put(table.id(), history.begin(table.id())); // its topic is read again
    }
  }

  /** The steps of an object's plan; answers one of them that has failed, or null. */
  private QueryNode steps(CatalogObject object) {
    QueryNode failed = null;
    for (PlanCut.Step step : definitions.cut(object).steps()) {
      QueryNode node = definitions.steps().node(step.id());
      if (attached.add(step.id())) {
        node = attach(object.name(), node, () -> definitions.steps().renew(step.id()));
        definitions.steps().isMade(step.id());
      }
      failed = failed == null && node.failure() != null ? node : failed;
    }
    return failed;
  }

  /**
   * What a delivery has carried cannot be told from its inputs, so it is not made again once it has
   * been in a checkpoint; before that, nothing has been carried. One that has ended goes on to
   * carry what waited, and nothing more.
   */
  private void sink(CatalogObject.Sink sink) {
    QueryNode failed = steps(sink);
    QueryNode node = (QueryNode) definitions.node(sink.id());
    boolean known = saved != null && saved.nodes().containsKey(sink.id());
    boolean inputsChanged = node.inputs().stream().anyMatch(changed::contains);
    if (!known && failed == null) {
      definitions.fillAtStart(sink, node);
      loop.attach(node);
      loop.live(node);
      return;
    }
    if (known && !restore(sink.name(), node)) {
      node = (QueryNode) definitions.renew(sink);
      node.fail("what waited for it is of another release; make it again");
    } else if (definitions.over(sink) != null) {
      node.fail(definitions.over(sink));
    } else if (failed != null) {
      node.fail(failed.failure() + "; make the sink again");
    } else if (inputsChanged) {
      node.fail("what it reads was read anew, and may differ from what was carried; make it again");
    }
    loop.attach(node);
  }

  private void view(CatalogObject.MaterializedView view) {
    QueryNode failed = steps(view);
    QueryNode node = (QueryNode) definitions.node(view.id());
    if (failed != null) {
      node.fail(failed.failure());
      loop.attach(node);
    } else {
      node = attach(view.name(), node, () -> (QueryNode) definitions.renew(view));
    }
    if (node.failure() != null) {
      toMake.add(view);
    }
  }

  /** Attaches a node with its saved rows, or made again from its inputs. */
  private QueryNode attach(String name, QueryNode node, Supplier<QueryNode> renewed) {
    boolean inputsChanged = node.inputs().stream().anyMatch(changed::contains);
    if (!inputsChanged && restore(name, node)) {
      loop.attach(node);
      return node;
    }
    QueryNode fresh = renewed.get();
    changed.add(node.id());
    try {
      refuseIfUnreachable(fresh);
      definitions.backfill().fillAtStart(fresh);
    } catch (RuntimeException e) {
      LOG.error("{} cannot be made again yet: {}", name, e.getMessage());
      fresh.fail(GIVEN_UP + e.getMessage());
      connections(fresh).forEach(c -> unreachable.putIfAbsent(c, e.getMessage()));
    }
    loop.attach(fresh);
    loop.positions(sequence, Map.of());
    return fresh;
  }

  /** Whether the node has become what the checkpoint says; if not, it is of no use. */
  private boolean restore(String name, LiveNode node) {
    SavedNode state = saved == null ? null : saved.nodes().get(node.id());
    if (state == null) {
      return false;
    }
    if (!state.plan().equals(node.planPrint())) {
      LOG.warn("the saved state of {} is of another plan; it is made again", name);
      return false;
    }
    try {
      List<Durable.Chunks> parts = new ArrayList<>();
      for (int part = 0; part < state.parts(); part++) {
        int number = part;
        parts.add(sink -> store.read(node.id(), number, sink));
      }
      node.restore(state.figures(), parts, Watermark.clock());
      checkpointer.restored(node.instance());
      restored++;
      return true;
    } catch (StateFormatException e) {
      LOG.warn("the saved state of {} cannot be used ({}); it is made again", name, e.getMessage());
      return false;
    }
  }

  /** A source that did not answer once is not waited for again while nobody is served. */
  private void refuseIfUnreachable(QueryNode node) {
    for (long connection : connections(node)) {
      if (unreachable.containsKey(connection)) {
        throw new EngineException(EngineException.Code.FAILED, unreachable.get(connection));
      }
    }
  }

  /** The connections that must be read to make a node: those of streams that are not kept. */
  private Set<Long> connections(QueryNode node) {
    Set<Long> connections = new HashSet<>();
    for (long input : node.inputs()) {
      if (definitions.catalog().find(input) instanceof CatalogObject.Stream s && !s.inLedger()) {
        connections.add(s.source().connectionId());
      }
    }
    return connections;
  }

  private void replay(long after) {
    List<EpochInput.Change> gathered = new ArrayList<>();
    int[] rows = new int[1];
    long[] last = new long[1];
    Map<Long, RowLayout> layouts = new HashMap<>();
    for (CatalogObject o : definitions.catalog().all()) {
      layouts.put(o.id(), new RowLayout(o.schema()));
    }
    ledger.replay(
        after,
        id -> layouts.containsKey(id) ? new Page(layouts.get(id)) : null,
        (sequence, entries, ignored) -> {
          for (Ledger.Entry e : entries) {
            gathered.add(EpochInput.Change.of(e));
            rows[0] += e.changes().size();
          }
          last[0] = sequence;
          if (rows[0] >= REPLAY_ROWS) {
            loop.stepNow(sequence, gathered);
            gathered.clear();
            rows[0] = 0;
          }
        });
    // Also of nothing: views without input have rows, and the first epoch is published.
    loop.stepNow(Math.max(last[0], ledger.lastSequence()), gathered);
  }
}
