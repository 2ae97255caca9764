package dripledger.engine;

import dripledger.engine.EngineException.Code;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.catalog.DefinitionStore.StoredDefinition;
import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.EpochLoop;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.SqlFrontEnd;
import dripledger.engine.view.Snapshot;
import dripledger.engine.view.ViewStore;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ExecutionException;
import java.util.function.Consumer;
import java.util.stream.Collectors;

/**
 * CREATE and DROP: durable first, then live. A new view over existing data is filled beside the
 * live work from a snapshot, caught up by the differences since, and joins the graph between two
 * epochs. Callers hold the engine's definition lock.
 */
final class Definitions {
  /** Rounds of catching up beside the live work before the last one stops it for a moment. */
  private static final int CATCH_UP_ROUNDS = 5;

  private static final int FLUSH_ROWS = 500_000;

  private final DefinitionStore store;
  private final EpochLoop loop;
  private final QueryRunner runner;
  private final SqlFrontEnd frontEnd;
  private final Map<Long, LiveNode> nodes = new HashMap<>();
  private volatile Catalog catalog = Catalog.EMPTY;

  Definitions(DefinitionStore store, EpochLoop loop, QueryRunner runner, SqlFrontEnd frontEnd) {
    this.store = store;
    this.loop = loop;
    this.runner = runner;
    this.frontEnd = frontEnd;
  }

  Catalog catalog() {
    return catalog;
  }

  /** The live node of an object, or null for a plain view. Safe from any thread. */
  LiveNode node(long id) {
    synchronized (nodes) {
      return nodes.get(id);
    }
  }

  /** Loads everything; the loop must not have been started. */
  void load() {
    for (StoredDefinition stored : store.load()) {
      SqlFrontEnd.Parsed parsed = frontEnd.parse(stored.sql()).get(0);
      Command command;
      try {
        command = frontEnd.check(parsed, catalog, Map.of(), 0);
      } catch (EngineException e) {
        throw new IllegalStateException(
            "the stored definition of \""
                + stored.name()
                + "\" is no longer understood: "
                + e.getMessage(),
            e);
      }
      CatalogObject object = object(stored.id(), stored.sql(), command);
      LiveNode node = liveNode(object);
      if (node != null) {
        keep(object.id(), node);
        loop.attach(node);
      }
      catalog = catalog.with(object);
    }
  }

  private void keep(long id, LiveNode node) {
    synchronized (nodes) {
      nodes.put(id, node);
    }
  }

  private static CatalogObject object(long id, String sql, Command command) {
    if (command instanceof Command.CreateStream c) {
      return new CatalogObject.Stream(
          id, c.name(), sql, c.schema(), c.eventTime(), c.latenessMicros(), c.meta());
    }
    if (command instanceof Command.CreateTable c) {
      return new CatalogObject.Table(id, c.name(), sql, c.schema(), c.primaryKey());
    }
    if (command instanceof Command.CreateView c) {
      return new CatalogObject.View(id, c.name(), sql, c.schema(), c.query(), c.dependsOn());
    }
    Command.CreateMaterializedView c = (Command.CreateMaterializedView) command;
    return new CatalogObject.MaterializedView(
        id,
        c.name(),
        sql,
        c.plan().schema(),
        c.plan(),
        c.key(),
        c.keyProven(),
        c.dependsOn(),
        c.warnings());
  }

  private static LiveNode liveNode(CatalogObject object) {
    RowLayout layout = new RowLayout(object.schema());
    if (object instanceof CatalogObject.Stream s) {
      return LiveNode.stream(s.id(), s.name(), layout, s.eventTime(), s.latenessMicros());
    }
    if (object instanceof CatalogObject.Table t) {
      return LiveNode.table(t.id(), t.name(), layout, new ViewStore(t.schema(), t.primaryKey()));
    }
    if (object instanceof CatalogObject.MaterializedView m) {
      return LiveNode.view(
          m.id(), m.name(), new Circuit(m.plan()), new ViewStore(m.schema(), m.key()));
    }
    return null;
  }

  private static final class Naming {
    private Naming() {}

    static String name(Command command) {
      if (command instanceof Command.CreateStream c) {
        return c.name();
      }
      if (command instanceof Command.CreateTable c) {
        return c.name();
      }
      return command instanceof Command.CreateView c
          ? c.name()
          : ((Command.CreateMaterializedView) command).name();
    }

    static Command.IfExists ifExists(Command command) {
      if (command instanceof Command.CreateStream c) {
        return c.ifExists();
      }
      if (command instanceof Command.CreateTable c) {
        return c.ifExists();
      }
      return command instanceof Command.CreateView c
          ? c.ifExists()
          : ((Command.CreateMaterializedView) command).ifExists();
    }
  }

  Result create(String sql, Command command) {
    String name = Naming.name(command);
    CatalogObject existing = catalog.find(name);
    List<CatalogObject> dropped = List.of();
    if (existing != null) {
      switch (Naming.ifExists(command)) {
        case SKIP:
          return new Result.Done(
              existing.kind() + " " + name + " is there already", loop.snapshot().epoch());
        case FAIL:
          throw new EngineException(
              Code.ALREADY_EXISTS,
              "there is a " + existing.kind() + " \"" + name + "\" already",
              "choose another name, DROP it first, or write CREATE OR REPLACE for a view");
        default:
          dropped = replaced(existing, command);
      }
    }
    CatalogObject object = object(store.nextId(), sql, command);
    LiveNode node = liveNode(object);
    Snapshot filledTo = node != null && node.circuit() != null ? fill(node) : null;
    store.apply(
        List.of(new StoredDefinition(object.id(), name, object.kind(), sql)),
        dropped.stream().map(CatalogObject::id).toList());
    List<LiveNode> going = liveNodes(dropped);
    long epoch =
        await(
            loop.between(
                () -> {
                  going.forEach(loop::detach);
                  if (node != null) {
                    if (filledTo != null) {
                      catchUp(node, filledTo, loop.snapshot());
                    }
                    loop.attach(node);
                  }
                }));
    forget(dropped);
    if (node != null) {
      keep(object.id(), node);
    }
    catalog = catalog.without(dropped).with(object);
    return new Result.Done(
        (dropped.isEmpty() ? "created " : "replaced ") + object.kind() + " " + name, epoch);
  }

  private List<CatalogObject> replaced(CatalogObject existing, Command command) {
    boolean view =
        command instanceof Command.CreateView || command instanceof Command.CreateMaterializedView;
    boolean wasView =
        existing instanceof CatalogObject.View
            || existing instanceof CatalogObject.MaterializedView;
    if (!view || !wasView) {
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
    List<CatalogObject> dependents = catalog.dependents(object);
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

  Result drop(Command.Drop command) {
    CatalogObject object = catalog.find(command.name());
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
          "\"" + object.name() + "\" is a " + object.kind(),
          command.line(),
          command.column(),
          "write DROP " + object.kind().toUpperCase(java.util.Locale.ROOT) + " " + object.name());
    }
    List<CatalogObject> going = new ArrayList<>();
    going.add(object);
    if (command.cascade()) {
      going.addAll(catalog.dependents(object));
    } else {
      refuseIfUsed(object, "dropped");
    }
    store.apply(List.of(), going.stream().map(CatalogObject::id).toList());
    List<LiveNode> live = liveNodes(going);
    catalog = catalog.without(going);
    long epoch = await(loop.between(() -> live.forEach(loop::detach)));
    forget(going);
    return new Result.Done(
        "dropped "
            + going.stream().map(o -> o.kind() + " " + o.name()).collect(Collectors.joining(", ")),
        epoch);
  }

  private List<LiveNode> liveNodes(List<CatalogObject> objects) {
    return objects.stream().map(o -> node(o.id())).filter(n -> n != null).toList();
  }

  private void forget(List<CatalogObject> objects) {
    synchronized (nodes) {
      objects.forEach(o -> nodes.remove(o.id()));
    }
  }

  // ---- filling what is new from what is there

  /** Feeds a circuit a snapshot and then the differences until little is left. */
  private Snapshot fill(LiveNode node) {
    Circuit circuit = node.circuit();
    Consumer<Page> sink = page -> node.store().apply(page);
    return fill(circuit, sink);
  }

  private Snapshot fill(Circuit circuit, Consumer<Page> sink) {
    Map<Long, RowLayout> layouts = layouts(circuit);
    Snapshot at = loop.snapshot();
    Snapshot start = at;
    long[] sinceFlush = new long[1];
    for (long input : circuit.inputs()) {
      runner.feed(
          input,
          layouts.get(input),
          start,
          page -> {
            circuit.feed(input, page);
            sinceFlush[0] += page.size();
            if (sinceFlush[0] > FLUSH_ROWS) {
              sink.accept(circuit.flush());
              circuit.clearOutput();
              sinceFlush[0] = 0;
            }
          });
    }
    sink.accept(circuit.flush());
    circuit.clearOutput();
    for (int round = 0; round < CATCH_UP_ROUNDS; round++) {
      Snapshot now = loop.snapshot();
      if (now.epoch() == at.epoch()) {
        break;
      }
      feedChanges(circuit, layouts, at, now);
      sink.accept(circuit.flush());
      circuit.clearOutput();
      at = now;
    }
    return at;
  }

  private void catchUp(LiveNode node, Snapshot from, Snapshot to) {
    feedChanges(node.circuit(), layouts(node.circuit()), from, to);
    node.store().apply(node.circuit().flush());
    node.circuit().clearOutput();
  }

  private void feedChanges(
      Circuit circuit, Map<Long, RowLayout> layouts, Snapshot from, Snapshot to) {
    for (long input : circuit.inputs()) {
      runner.feedChanges(input, layouts.get(input), from, to, page -> circuit.feed(input, page));
    }
  }

  private Map<Long, RowLayout> layouts(Circuit circuit) {
    Map<Long, RowLayout> layouts = new HashMap<>();
    for (long input : circuit.inputs()) {
      layouts.put(input, new RowLayout(catalog.find(input).schema()));
    }
    return layouts;
  }

  /** Starts following a query; the answer so far is its first batch. */
  Subscription follow(Command.QueryPlan query, int maxRows) {
    Circuit circuit = new Circuit(query.plan());
    RowLayout layout = new RowLayout(new Schema(query.columns()));
    Subscription subscription = new Subscription(query.columns(), layout, maxRows);
    // The answer is gathered in the circuit's own output until the graph is joined.
    Page gathered = new Page(layout);
    Snapshot filledTo = fill(circuit, gathered::appendAll);
    LiveNode node = LiveNode.follower(circuit, subscription::changed);
    await(
        loop.between(
            () -> {
              feedChanges(circuit, layouts(circuit), filledTo, loop.snapshot());
              circuit.flush().appendAll(gathered);
              subscription.first(loop.snapshot().epoch(), circuit);
              loop.attach(node);
            }));
    subscription.onClose(
        () -> {
          CompletableFuture<Long> ignored = loop.between(() -> loop.detach(node));
          ignored.exceptionally(e -> null);
        });
    return subscription;
  }

  private static long await(CompletableFuture<Long> done) {
    try {
      return done.get();
    } catch (ExecutionException e) {
      throw e.getCause() instanceof RuntimeException r
          ? r
          : new IllegalStateException(e.getCause());
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
  }
}
