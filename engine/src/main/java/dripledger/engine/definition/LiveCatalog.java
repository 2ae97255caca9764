package dripledger.engine.definition;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.DefinitionStore.StoredDefinition;
import dripledger.engine.catalog.Retention;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.KeptRows;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.QueryNodes;
import dripledger.engine.circuit.Refresher;
import dripledger.engine.delivery.Deliveries;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.RowLayout;
import dripledger.engine.sql.Command;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.ConcurrentHashMap;

/**
 * What is defined, each with its node in the graph and the way the graph runs it. Read by any
 * thread; changed under the engine's definition lock.
 */
final class LiveCatalog {
  private static final long DEFAULT_IDLE_MILLIS = 60_000;

  private final Map<Long, LiveNode> nodes = new HashMap<>();
  private final Map<Long, PlanCut> cuts = new ConcurrentHashMap<>(); // of materialized views
  private volatile Catalog catalog = Catalog.EMPTY;
  private final Refresher.Bounds waiting;
  private volatile Runnable onDefined = () -> {};

  private final Deliveries deliveries;

  LiveCatalog(Refresher.Bounds waiting, Deliveries deliveries) {
    this.waiting = waiting;
    this.deliveries = deliveries;
  }

  Catalog catalog() {
    return catalog;
  }

  /** What to run when something was defined whose state should soon be safe. */
  void onDefined(Runnable action) {
    onDefined = action;
  }

  /** Something was defined whose state should soon be safe. */
  void defined() {
    onDefined.run();
  }

  /** The live node of an object, or null for a plain view or connection. */
  LiveNode node(long id) {
    synchronized (nodes) {
      return nodes.get(id);
    }
  }

  /** The nodes of those objects that have one. */
  List<LiveNode> nodes(List<CatalogObject> objects) {
    return objects.stream().map(o -> node(o.id())).filter(n -> n != null).toList();
  }

  void keep(long id, LiveNode node) {
    synchronized (nodes) {
      LiveNode old = nodes.put(id, node);
      if (old != null && old != node && !old.orders().isEmpty()) {
        node.orders(old.orders());
      }
    }
  }

  /** A plan as the graph runs it. */
  PlanCut cut(PlanNode plan) {
    return PlanCut.of(
        plan,
        id -> {
          PlanCut view = cuts.get(id);
          return view == null ? null : view.alias();
        });
  }

  /** How the graph runs a view that is about to be there. */
  PlanCut newCut(CatalogObject object) {
    if (object instanceof CatalogObject.MaterializedView view) {
      return view.upkeep().isContinuous() ? cut(view.plan()) : PlanCut.whole(view.plan());
    }
    return object instanceof CatalogObject.Sink sink ? cut(sink.plan()) : null;
  }

  /** How the graph runs a materialized view that is there. */
  PlanCut cut(CatalogObject object) {
    return cuts.get(object.id());
  }

  void keep(CatalogObject object, PlanCut cut) {
    cuts.put(object.id(), cut);
  }

  /** From now on statements find the object, and others its node. */
  void publish(CatalogObject object, LiveNode node) {
    keep(object.id(), node);
    publish(object);
  }

  /** From now on statements find the object, in the place of one with the same number. */
  void publish(CatalogObject object) {
    catalog = catalog.with(object);
  }

  /** From now on statements find the object, and the others no more. */
  void publish(CatalogObject object, List<CatalogObject> gone) {
    catalog = catalog.without(gone).with(object);
  }

  /** Statements find the objects no more. */
  void withdraw(List<CatalogObject> gone) {
    catalog = catalog.without(gone);
  }

  /**
   * Forgets what has left the graph.
   *
   * @return how the graph ran those of it that have a plan
   */
  Map<CatalogObject, PlanCut> forget(List<CatalogObject> objects) {
    synchronized (nodes) {
      objects.forEach(o -> nodes.remove(o.id()));
    }
    Map<CatalogObject, PlanCut> planned = new LinkedHashMap<>();
    for (CatalogObject object : objects) {
      PlanCut cut = cuts.remove(object.id());
      if (cut != null) {
        planned.put(object, cut);
      }
    }
    return planned;
  }

  // ---- new nodes

  /** A new node of an object, or null of one that has none. */
  LiveNode newNode(CatalogObject object) {
    if (object instanceof CatalogObject.Sink sink) {
      return Sinks.node(sink, cuts.get(sink.id()), deliveries.newOutbox(sink));
    }
    return object instanceof CatalogObject.MaterializedView m
        ? newView(m, cuts.get(m.id()))
        : newInput(object);
  }

  QueryNode newView(CatalogObject.MaterializedView m, PlanCut cut) {
    QueryNode node =
        m.upkeep().isContinuous()
            ? QueryNodes.view(m.id(), m.name(), cut, m.schema(), m.key())
            : QueryNodes.refreshed(m.id(), m.name(), cut.top(), m.schema(), m.key(), waiting);
    if (m.keepsLate()) {
      node.circuit().keepLate(Set.of(m.id()));
    }
    return node;
  }

  /** A new node for a stream or table; null for other objects. */
  static InputNode newInput(CatalogObject object) {
    RowLayout layout = new RowLayout(object.schema());
    if (object instanceof CatalogObject.Stream s) {
      return InputNode.stream(
          s.id(), s.name(), layout, s.eventTime(), s.latenessMicros(), idleMillis(s));
    }
    if (object instanceof CatalogObject.Table t) {
      KeptRows rows = KeptRows.unique(t.schema(), t.primaryKey());
      return t.source() == null
          ? InputNode.table(t.id(), t.name(), layout, rows)
          : InputNode.keyedTable(t.id(), t.name(), layout, t.primaryKey(), rows);
    }
    return null;
  }

  private static long idleMillis(CatalogObject.Stream stream) {
    String option = stream.source() == null ? null : stream.source().option("idle_after");
    return option == null ? DEFAULT_IDLE_MILLIS : Retention.micros(option) / 1000;
  }

  /** What a CREATE makes. */
  static CatalogObject object(long id, String sql, Command command) {
    if (command instanceof Command.CreateConnection c) {
      return new CatalogObject.Connection(id, c.name(), sql, c.type(), c.options());
    }
    if (command instanceof Command.CreateStream c) {
      return new CatalogObject.Stream(
          id,
          c.name(),
          sql,
          c.schema(),
          c.eventTime(),
          c.latenessMicros(),
          c.origins(),
          c.source(),
          Map.of());
    }
    if (command instanceof Command.CreateTable c) {
      return new CatalogObject.Table(
          id, c.name(), sql, c.schema(), c.primaryKey(), c.origins(), c.source());
    }
    if (command instanceof Command.CreateView c) {
      return new CatalogObject.View(id, c.name(), sql, c.schema(), c.query(), c.dependsOn());
    }
    if (command instanceof Command.CreateEndpoint c) {
      return new CatalogObject.Endpoint(
          id,
          c.name(),
          sql,
          c.schema(),
          c.parameters(),
          c.description(),
          c.maxRows(),
          c.maxRead(),
          c.pageRows(),
          c.cacheMillis(),
          c.query(),
          c.dependsOn());
    }
    if (command instanceof Command.CreateSink c) {
      return new CatalogObject.Sink(
          id,
          c.name(),
          sql,
          c.schema(),
          c.plan(),
          c.key(),
          c.rows(),
          c.snapshot(),
          c.dependsOn(),
          c.target(),
          c.upkeep());
    }
    Command.CreateMaterializedView c = (Command.CreateMaterializedView) command;
    return new CatalogObject.MaterializedView(
        id,
        c.name(),
        sql,
        c.schema(),
        c.plan(),
        c.key(),
        c.keyProven(),
        c.dependsOn(),
        c.upkeep(),
        c.keepsLate());
  }

  /** A definition as it is stored. */
  static StoredDefinition stored(CatalogObject object, SourcePosition begin) {
    return new StoredDefinition(object.id(), object.name(), object.kind(), 0, object.sql(), begin);
  }
}
