package dripledger.engine.definition;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.catalog.DefinitionStore.StoredDefinition;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.Refresher;
import dripledger.engine.delivery.Deliveries;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.epoch.EpochWait;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.intake.Sources;
import dripledger.engine.intake.StreamHistory;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.query.QueryRunner;
import dripledger.engine.query.Result;
import dripledger.engine.query.Subscription;
import dripledger.engine.recovery.Recovery;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Proposal;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.SqlFrontEnd;
import java.util.ArrayList;
import java.util.HashSet;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.locks.ReentrantLock;
import java.util.function.Supplier;
import java.util.stream.Collectors;

/**
 * CREATE, ALTER and DROP: durable first, then live. A new view over existing data is filled beside
 * the live work by {@link Backfill} and joins the graph between two epochs. Callers hold the
 * engine's definition lock.
 */
public final class Definitions {
  private final LiveCatalog live;
  private final DefinitionStore store;
  private final EpochLoop loop;
  private final SqlFrontEnd frontEnd;
  private final Backfill backfill;
  private final StreamHistory history;
  private final Connectors connectors;
  private final Sources sources;
  private final OngoingWork ongoing;
  private final TableLoads loads;
  private final Alterations alterations;
  private final Indexes indexes;
  private final Sinks sinks;
  private final SourceColumns sourceColumns;
  private final Deliveries deliveries;
  private final SharedSteps steps;
  private final Followers followers;

  public Definitions(
      DefinitionStore store,
      EpochLoop loop,
      QueryRunner runner,
      SqlFrontEnd frontEnd,
      StreamHistory history,
      Connectors connectors,
      Sources sources,
      Refresher.Bounds waiting,
      Deliveries deliveries,
      Supplier<CompletableFuture<Void>> checkpoint,
      ReentrantLock lock) {
    this.store = store;
    this.loop = loop;
    this.frontEnd = frontEnd;
    this.history = history;
    this.connectors = connectors;
    this.sources = sources;
    this.deliveries = deliveries;
    live = new LiveCatalog(waiting, deliveries);
    backfill = new Backfill(loop, runner, this::catalog);
    steps = new SharedSteps(loop, backfill);
    ongoing = new OngoingWork(lock, this::catalog);
    followers = new Followers(loop, backfill, steps, ongoing, this::cut);
    loads = new TableLoads(live, store, loop, history, connectors, sources, ongoing);
    alterations =
        new Alterations(live, store, loop, history, connectors, sources, deliveries, ongoing);
    indexes = new Indexes(live, store, loop, ongoing);
    sourceColumns = new SourceColumns(connectors, this::catalog);
    sinks =
        new Sinks(live, store, loop, backfill, steps, ongoing, connectors, deliveries, checkpoint);
  }

  /** What is defined now. Safe from any thread. */
  public Catalog catalog() {
    return live.catalog();
  }

  public Backfill backfill() {
    return backfill;
  }

  public SharedSteps steps() {
    return steps;
  }

  /** A plan as the graph runs it. Safe from any thread. */
  public PlanCut cut(PlanNode plan) {
    return live.cut(plan);
  }

  /**
   * How the graph runs a plan, or would. Safe from any thread.
   *
   * @param view that has the plan, or null
   */
  public PlanCut cut(PlanNode plan, CatalogObject view) {
    boolean whole = view instanceof CatalogObject.MaterializedView m && !m.upkeep().isContinuous();
    return whole ? PlanCut.whole(plan) : live.cut(plan);
  }

  /** How the graph runs a view or sink that is there. Safe from any thread. */
  public PlanCut cut(CatalogObject object) {
    return live.cut(object);
  }

  /** What a view keeps and fails on, with all of its steps. Safe from any thread. */
  public ViewState state(CatalogObject.MaterializedView view) {
    List<QueryNode> parts = new ArrayList<>();
    PlanCut cut = live.cut(view);
    if (cut != null) {
      cut.steps().forEach(step -> parts.add(steps.node(step.id())));
    }
    parts.add((QueryNode) node(view.id()));
    return new ViewState(parts);
  }

  public TableLoads loads() {
    return loads;
  }

  public Alterations alterations() {
    return alterations;
  }

  public Indexes indexes() {
    return indexes;
  }

  /** What to run when something was defined whose state should soon be safe. */
  public void onDefined(Runnable action) {
    live.onDefined(action);
  }

  /** The live node of an object, or null for a plain view or connection. Safe from any thread. */
  public LiveNode node(long id) {
    return live.node(id);
  }

  /** Loads everything and makes the nodes; attaching them is for {@link Recovery}. */
  public void load() {
    for (StoredDefinition stored : store.load()) {
      Command command;
      try {
        command = frontEnd.check(frontEnd.parse(stored.sql()).get(0), catalog(), Map.of(), 0);
      } catch (EngineException e) {
        throw new IllegalStateException(
            "the stored definition of \""
                + stored.name()
                + "\" is no longer understood: "
                + e.getMessage(),
            e);
      }
      if (command instanceof Command.Index index) {
        indexes.restore(index);
        continue;
      }
      CatalogObject object =
          stored.alters() != 0
              ? Alterations.altered(catalog().find(stored.alters()), command, stored.begin())
              : LiveCatalog.object(stored.id(), stored.sql(), command);
      live.publish(object);
      if (stored.begin() != null && stored.alters() == 0) {
        history.begin(sources.inputId(object), stored.begin());
      }
      PlanCut cut = live.newCut(object);
      if (cut != null) {
        live.keep(object, cut);
        steps.use(object, cut);
      }
      LiveNode node = live.newNode(object);
      if (node != null) {
        live.keep(object.id(), node);
      }
    }
  }

  /** Makes a new, empty node for an object, in the place of one that is of no use. */
  public LiveNode renew(CatalogObject object) {
    LiveNode node = live.newNode(object);
    live.keep(object.id(), node);
    return node;
  }

  /** Why a delivery has ended for ever, or null. */
  public String over(CatalogObject.Sink sink) {
    return deliveries.over(sink);
  }

  /** Fills a delivery that was not there in the checkpoint; before the loop runs. */
  public void fillAtStart(CatalogObject.Sink sink, QueryNode node) {
    node.fill(page -> deliveries.filled(sink, page));
    backfill.fillAtStart(node);
  }

  /** Carries a CREATE out. */
  public Result create(String sql, Command.Create create) {
    Command command = create;
    String name = create.name();
    CatalogObject existing = catalog().find(name);
    List<CatalogObject> dropped = List.of();
    if (ongoing.has(name)) {
      throw new EngineException(
          Code.ALREADY_EXISTS,
          "\"" + name + "\" is being made already",
          "wait until that is done, or DROP it, which stops it");
    }
    if (existing != null) {
      switch (create.ifExists()) {
        case SKIP:
          return new Result.Done(
              existing.kind() + " " + name + " is there already", loop.snapshot().epoch());
        case FAIL:
          throw new EngineException(
              Code.ALREADY_EXISTS,
              "there is " + existing.aKind() + " \"" + name + "\" already",
              "choose another name, DROP it first, or write CREATE OR REPLACE for a view or an endpoint");
        default:
          dropped = replaced(existing, command);
      }
    }
    if (command instanceof Command.CreateConnection c) {
      return createConnection(sql, c);
    }
    if (command instanceof Command.CreateStream || command instanceof Command.CreateTable) {
      return createRelation(sql, command);
    }
    return command instanceof Command.CreateSink sink
        ? sinks.create(sql, sink)
        : createView(sql, command, dropped);
  }

  private Result createConnection(String sql, Command.CreateConnection command) {
    CatalogObject.Connection connection =
        (CatalogObject.Connection) LiveCatalog.object(store.nextId(), sql, command);
    connectors.check(connection);
    store.apply(List.of(LiveCatalog.stored(connection, null)), List.of());
    live.publish(connection);
    return new Result.Done("created connection " + connection.name(), loop.snapshot().epoch());
  }

  /** What the source of a definition proposes as its columns. */
  public Proposal propose(SourceSpec source, boolean keyed) {
    return sourceColumns.propose(source, keyed);
  }

  private Result createRelation(String sql, Command command) {
    String text = sourceColumns.completed(sql, command);
    Command complete =
        text.equals(sql)
            ? command
            : frontEnd.check(frontEnd.parse(text).get(0), catalog(), Map.of(), 0);
    CatalogObject object = LiveCatalog.object(store.nextId(), text, complete);
    InputNode node = LiveCatalog.newInput(object);
    SourceSpec source = CatalogObject.sourceOf(object);
    if (source == null) {
      store.apply(List.of(LiveCatalog.stored(object, null)), List.of());
      long epoch = EpochWait.await(loop.between(() -> loop.attach(node)));
      live.publish(object, node);
      return created(object, epoch);
    }
    CatalogObject.Connection connection =
        (CatalogObject.Connection) catalog().find(source.connectionId());
    SourcePosition begin = connectors.begin(connection, object);
    if (sources.shared(connection)) {
      loads.load((CatalogObject.Table) object, node, connection, begin);
    } else {
      history.begin(object.id(), begin);
      store.apply(List.of(LiveCatalog.stored(object, begin)), List.of());
      EpochWait.await(loop.between(() -> loop.attach(node)));
      live.publish(object, node);
      sources.open(object);
    }
    live.defined();
    return created(object, loop.snapshot().epoch());
  }

  private static Result created(CatalogObject object, long epoch) {
    return new Result.Done("created " + object.kind() + " " + object.name(), epoch);
  }

  /**
   * One step or none: the view is filled and takes part before its definition is stored, unseen,
   * and what it replaces goes once that is done.
   */
  private Result createView(String sql, Command command, List<CatalogObject> dropped) {
    CatalogObject object = LiveCatalog.object(store.nextId(), sql, command);
    String missing = null;
    if (object instanceof CatalogObject.MaterializedView view) {
      PlanCut cut = live.newCut(view);
      QueryNode node = live.newView(view, cut);
      steps.use(view, cut);
      boolean stored = false;
      try {
        missing = missing(cut);
        fill(view, cut, node);
        backfill.live(node, () -> {});
        replaceStored(object, dropped);
        stored = true;
      } finally {
        if (!stored) {
          backfill.leave(node);
          steps.release(view, cut);
        }
      }
      live.keep(view, cut);
      live.keep(object.id(), node);
    } else {
      replaceStored(object, dropped);
    }
    List<LiveNode> going = live.nodes(dropped);
    live.publish(object, dropped);
    long epoch = EpochWait.await(loop.between(() -> going.forEach(loop::detach)));
    forget(dropped);
    live.defined();
    String made = dropped.isEmpty() ? "created " : "replaced ";
    return new Result.Done(
        made + object.kind() + " " + object.name() + (missing == null ? "" : "; " + missing),
        epoch);
  }

  /** What a view, made now, would be without, because it is gone; or null. */
  public String missing(PlanCut cut) {
    return history.missing(steps.toRead(cut), loop.snapshot());
  }

  private void replaceStored(CatalogObject object, List<CatalogObject> dropped) {
    store.apply(
        List.of(LiveCatalog.stored(object, null)),
        dropped.stream().map(CatalogObject::id).toList());
  }

  /** Makes a view that is attached and failed again from its inputs. */
  public void remake(CatalogObject.MaterializedView view) {
    PlanCut cut = live.cut(view);
    QueryNode fresh = live.newView(view, cut);
    fill(view, cut, fresh);
    LiveNode old = node(view.id());
    backfill.live(fresh, () -> loop.replace(old, fresh));
    live.keep(view.id(), fresh);
  }

  /** Fills a new view, and the steps it needs first, while other definitions go on. */
  private void fill(CatalogObject.MaterializedView view, PlanCut cut, QueryNode node) {
    Set<Long> uses = new HashSet<>(Catalog.dependsOn(view));
    Followers.relations(view.plan(), uses);
    boolean filled = false;
    try {
      ongoing.beside(
          view.name(),
          view.kind() + " " + view.name(),
          uses,
          check -> {
            steps.make(cut, check);
            backfill.fill(node, check);
          });
      filled = true;
    } finally {
      if (!filled) {
        backfill.leave(node);
      }
    }
  }

  private List<CatalogObject> replaced(CatalogObject existing, Command command) {
    boolean view =
        command instanceof Command.CreateView || command instanceof Command.CreateMaterializedView;
    boolean wasView =
        existing instanceof CatalogObject.View
            || existing instanceof CatalogObject.MaterializedView;
    boolean endpoint =
        command instanceof Command.CreateEndpoint && existing instanceof CatalogObject.Endpoint;
    if (!endpoint && (!view || !wasView)) {
      throw new EngineException(
          Code.INVALID,
          "CREATE OR REPLACE would lose what "
              + existing.kind()
              + " \""
              + existing.name()
              + "\" holds",
          "DROP it first if that is what you want");
    }
    refuseIfUsed(existing, "replaced");
    return List.of(existing);
  }

  private void refuseIfUsed(CatalogObject object, String done) {
    ongoing.refuseIfUsed(object, done);
    List<CatalogObject> dependents = catalog().dependents(object);
    if (!dependents.isEmpty()) {
      throw new EngineException(
          Code.IN_USE,
          object.name()
              + " cannot be "
              + done
              + ": "
              + dependents.stream()
                  .map(d -> d.kind() + " " + d.name())
                  .collect(Collectors.joining(", "))
              + (dependents.size() == 1 ? " reads" : " read")
              + " from it",
          done.equals("dropped") ? "DROP … CASCADE drops them too" : "drop them first");
    }
  }

  /** Carries a DROP out, or stops what is being made under the name. */
  public Result drop(Command.Drop command) {
    CatalogObject object = catalog().find(command.name());
    if (ongoing.stop(command.name()) && object == null) {
      return new Result.Done("stopped making " + command.name(), loop.snapshot().epoch());
    }
    if (object == null) {
      if (command.ifExists()) {
        return new Result.Done("there is no \"" + command.name() + "\"", loop.snapshot().epoch());
      }
      throw new EngineException(
          Code.NOT_FOUND,
          "no " + command.kind().toLowerCase(java.util.Locale.ROOT) + " \"" + command.name() + "\"",
          command.line(),
          command.column(),
          null);
    }
    if (!object.kind().equalsIgnoreCase(command.kind())) {
      throw new EngineException(
          Code.INVALID,
          "\"" + object.name() + "\" is " + object.aKind(),
          command.line(),
          command.column(),
          "write DROP " + object.kind().toUpperCase(java.util.Locale.ROOT) + " " + object.name());
    }
    List<CatalogObject> going = new ArrayList<>();
    going.add(object);
    if (command.cascade()) {
      going.addAll(catalog().dependents(object));
      going.forEach(o -> ongoing.refuseIfUsed(o, "dropped"));
    } else {
      refuseIfUsed(object, "dropped");
    }
    Map<CatalogObject, CatalogObject.Connection> fed = new LinkedHashMap<>();
    for (CatalogObject o : going) {
      if (CatalogObject.sourceOf(o) != null) {
        fed.put(o, catalog().connectionOf(o));
      }
    }
    fed.forEach(sources::close);
    store.apply(List.of(), going.stream().map(CatalogObject::id).toList());
    List<LiveNode> nodes = live.nodes(going);
    live.withdraw(going);
    fed.values().stream().distinct().filter(sources::shared).forEach(loads::closeIfUnused);
    long epoch = EpochWait.await(loop.between(() -> nodes.forEach(loop::detach)));
    forget(going);
    fed.keySet().forEach(o -> sources.forget(o.id()));
    return new Result.Done(
        "dropped " + going.stream().map(CatalogObject::dropped).collect(Collectors.joining(", ")),
        epoch);
  }

  /** What was dropped has left the graph; so do the steps that nothing else needs. */
  private void forget(List<CatalogObject> objects) {
    live.forget(objects).forEach(steps::release);
    for (CatalogObject object : objects) {
      if (object instanceof CatalogObject.Sink sink) {
        deliveries.drop(sink);
      }
    }
  }

  /** Starts following a query; the answer so far is its first batch. */
  public Subscription follow(Command.QueryPlan query, int maxRows) {
    return followers.follow(query, maxRows);
  }
}
