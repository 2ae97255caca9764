package dripledger.engine.definition;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.catalog.DefinitionStore.StoredDefinition;
import dripledger.engine.catalog.Origins;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.catalog.Upkeep;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.delivery.Deliveries;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.epoch.EpochWait;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.intake.Sources;
import dripledger.engine.intake.StreamHistory;
import dripledger.engine.query.Result;
import dripledger.engine.row.Column;
import dripledger.engine.row.Schema;
import dripledger.engine.source.Connectors;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.DefinitionText;
import dripledger.engine.time.Watermark;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.TreeSet;

/**
 * ALTER: kept as statements behind the one that made the thing, and applied in their order at a
 * start. What reads through the thing stands still while it changes. Callers hold the definition
 * lock.
 */
public final class Alterations {
  /** Of a target, what may change without anything having to be carried again. */
  private static final Set<String> SINK_OPTIONS =
      new TreeSet<>(Set.of("deletes", "headers", "path", "batch_rows", "file_rows", "file_mb"));

  private final LiveCatalog live;
  private final DefinitionStore store;
  private final EpochLoop loop;
  private final StreamHistory history;
  private final Connectors connectors;
  private final Sources sources;
  private final OngoingWork ongoing;
  private final Deliveries deliveries;

  Alterations(
      LiveCatalog live,
      DefinitionStore store,
      EpochLoop loop,
      StreamHistory history,
      Connectors connectors,
      Sources sources,
      Deliveries deliveries,
      OngoingWork ongoing) {
    this.deliveries = deliveries;
    this.live = live;
    this.store = store;
    this.loop = loop;
    this.history = history;
    this.connectors = connectors;
    this.sources = sources;
    this.ongoing = ongoing;
  }

  /** What an object is after an ALTER; {@code at} is how far its input had been read then. */
  static CatalogObject altered(CatalogObject object, Command command, SourcePosition at) {
    if (command instanceof Command.AddColumn add) {
      CatalogObject.Stream s = (CatalogObject.Stream) object;
      List<Column> columns = new ArrayList<>(s.schema().columns());
      columns.add(add.column());
      Map<Integer, SourcePosition> addedAt = new HashMap<>(s.addedAt());
      if (!add.replay() && at != null) {
        addedAt.put(columns.size() - 1, at);
      }
      return defined(
          s,
          new Schema(columns),
          s.origins().with(columns.size() - 1, add.meta(), add.path()),
          s.source(),
          addedAt);
    }
    Command.AlterOptions alter = (Command.AlterOptions) command;
    if (object instanceof CatalogObject.Connection c) {
      Map<String, CatalogObject.Connection.Option> options = new HashMap<>(c.options());
      options.putAll(alter.options());
      CatalogObject.Connection now =
          new CatalogObject.Connection(c.id(), c.name(), c.sql(), c.type(), options);
      return new CatalogObject.Connection(
          c.id(), c.name(), DefinitionText.of(now), c.type(), options);
    }
    if (object instanceof CatalogObject.Sink sink) {
      return altered(sink, alter);
    }
    CatalogObject.Stream s = (CatalogObject.Stream) object;
    Map<String, String> options = new HashMap<>(s.source().options());
    alter.options().forEach((name, value) -> options.put(name, value.text()));
    SourceSpec source =
        new SourceSpec(
            s.source().connection(), s.source().connectionId(), options, s.source().format());
    return defined(s, s.schema(), s.origins(), source, s.addedAt());
  }

  /** Its definition is the statement that made it, then what changed it. */
  private static CatalogObject.Sink altered(CatalogObject.Sink s, Command.AlterOptions alter) {
    Map<String, String> options = new HashMap<>(s.target().options());
    Upkeep upkeep = s.upkeep();
    StringBuilder sql = new StringBuilder(s.sql().strip().replaceFirst(";$", ""));
    for (Map.Entry<String, CatalogObject.Connection.Option> o : alter.options().entrySet()) {
      String value = o.getValue().text();
      if (o.getKey().equals("upkeep")) {
        try {
          upkeep = Upkeep.of(value, 0);
        } catch (IllegalArgumentException e) {
          throw new EngineException(Code.INVALID, e.getMessage(), Upkeep.HINT);
        }
      } else if (SINK_OPTIONS.contains(o.getKey())) {
        options.put(o.getKey(), value);
      } else {
        throw new EngineException(
            Code.INVALID,
            "option \"" + o.getKey() + "\" of a sink cannot be changed",
            "upkeep can, and of the target " + String.join(", ", SINK_OPTIONS));
      }
      sql.append(";\nALTER SINK ").append(DefinitionText.name(s.name())).append(" SET (");
      sql.append(o.getKey()).append(' ').append(DefinitionText.text(value)).append(')');
    }
    SourceSpec target =
        new SourceSpec(
            s.target().connection(), s.target().connectionId(), options, s.target().format());
    return new CatalogObject.Sink(
        s.id(),
        s.name(),
        sql.toString(),
        s.schema(),
        s.plan(),
        s.key(),
        s.rows(),
        s.snapshot(),
        s.dependsOn(),
        target,
        upkeep);
  }

  private Result alterSink(String sql, CatalogObject.Sink sink, Command.AlterOptions command) {
    CatalogObject.Sink changed = altered(sink, command);
    connectors.prepare(
        (CatalogObject.Connection) live.catalog().find(sink.target().connectionId()), changed);
    store.apply(
        List.of(new StoredDefinition(store.nextId(), sink.name(), "alter", sink.id(), sql, null)),
        List.of());
    live.publish(changed);
    deliveries.start(changed);
    return new Result.Done("altered sink " + sink.name(), loop.snapshot().epoch());
  }

  /** A stream with other columns or options, and the statement that would make it so. */
  private static CatalogObject.Stream defined(
      CatalogObject.Stream s,
      Schema schema,
      Origins origins,
      SourceSpec source,
      Map<Integer, SourcePosition> addedAt) {
    CatalogObject.Stream now = stream(s, s.sql(), schema, origins, source, addedAt);
    return stream(s, DefinitionText.of(now), schema, origins, source, addedAt);
  }

  private static CatalogObject.Stream stream(
      CatalogObject.Stream s,
      String sql,
      Schema schema,
      Origins origins,
      SourceSpec source,
      Map<Integer, SourcePosition> addedAt) {
    return new CatalogObject.Stream(
        s.id(), s.name(), sql, schema, s.eventTime(), s.latenessMicros(), origins, source, addedAt);
  }

  /** Carries an ALTER out. */
  public Result alter(String sql, Command command) {
    String name =
        command instanceof Command.AddColumn a ? a.name() : ((Command.AlterOptions) command).name();
    CatalogObject object = live.catalog().find(name);
    ongoing.refuseIfUsed(object, "altered");
    if (object instanceof CatalogObject.Connection connection) {
      return alterConnection(sql, connection, command);
    }
    if (object instanceof CatalogObject.Sink sink) {
      return alterSink(sql, sink, (Command.AlterOptions) command);
    }
    CatalogObject.Stream stream = (CatalogObject.Stream) object;
    refuseAlter(stream, command);
    CatalogObject.Connection connection = live.catalog().connectionOf(stream);
    if (connection != null) {
      sources.close(stream, connection);
    }
    try {
      sources.settle();
      SourcePosition at =
          loop.snapshot().positions().getOrDefault(stream.id(), history.begin(stream.id()));
      CatalogObject.Stream changed = (CatalogObject.Stream) altered(stream, command, at);
      if (connection != null) {
        connectors.begin(connection, changed);
      }
      InputNode node = LiveCatalog.newInput(changed);
      LiveNode old = live.node(stream.id());
      store.apply(
          List.of(new StoredDefinition(store.nextId(), name, "alter", stream.id(), sql, at)),
          List.of());
      live.publish(changed, node);
      EpochWait.await(
          loop.between(
              () -> {
                node.takeOver(old, Watermark.clock());
                loop.replace(old, node);
              }));
      if (command instanceof Command.AddColumn add && add.replay()) {
        history.widening().widen(changed);
      }
    } finally {
      if (connection != null) {
        sources.open(live.catalog().find(name));
      }
    }
    return new Result.Done("altered stream " + name, loop.snapshot().epoch());
  }

  private void refuseAlter(CatalogObject.Stream stream, Command command) {
    if (command instanceof Command.AddColumn add) {
      if (add.replay() && stream.inLedger()) {
        history.widening().check(stream);
      }
      return;
    }
    for (String option : ((Command.AlterOptions) command).options().keySet()) {
      boolean fits =
          option.equals("idle_after")
              || option.equals("gaps")
              || option.equals("retain") && stream.source() != null && stream.inLedger();
      if (stream.source() == null || !fits) {
        throw new EngineException(
            Code.INVALID,
            "option \"" + option + "\" of a stream cannot be changed",
            option.equals("retain")
                ? "only a stream created with retain can be told to retain longer or shorter"
                : "DROP the stream and create it again");
      }
    }
  }

  private Result alterConnection(String sql, CatalogObject.Connection connection, Command command) {
    CatalogObject.Connection changed =
        (CatalogObject.Connection) altered(connection, command, null);
    connectors.check(changed);
    store.apply(
        List.of(
            new StoredDefinition(
                store.nextId(), connection.name(), "alter", connection.id(), sql, null)),
        List.of());
    sources.closeConnection(connection);
    live.publish(changed);
    String left = "";
    try {
      connectors.altered(connection, changed);
    } catch (EngineException e) {
      left = "; what was kept there for us is still there: " + e.getMessage();
    }
    sources.reopen(changed);
    deliveries.reopen(changed);
    return new Result.Done(
        "altered connection " + connection.name() + left, loop.snapshot().epoch());
  }
}
