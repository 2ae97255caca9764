package dripledger.engine.introspection;

import dripledger.engine.access.Access;
import dripledger.engine.access.Caller;
import dripledger.engine.advice.StepStates;
import dripledger.engine.advice.Trial;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LateRows;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.definition.Definitions;
import dripledger.engine.delivery.Deliveries;
import dripledger.engine.error.EngineException;
import dripledger.engine.expr.Casts;
import dripledger.engine.intake.Sources;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.query.QueryReads;
import dripledger.engine.query.QueryRunner;
import dripledger.engine.query.Result;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.FeedStatus;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.Listing;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.DefinitionText;
import dripledger.engine.time.Watermark;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.stream.Collectors;

/** SHOW, DESCRIBE and EXPLAIN: what is there, and how it does. Safe from any thread. */
public final class Introspection {
  private static final Column NAME = text("name");
  private final Definitions definitions;
  private final Ledger ledger;
  private final Connectors connectors;
  private final Sources sources;
  private final QueryRunner runner;
  private final SinkFigures sinks;
  private final Access access;

  public Introspection(
      Definitions definitions,
      Ledger ledger,
      Connectors connectors,
      Sources sources,
      Deliveries deliveries,
      QueryRunner runner,
      Access access) {
    this.access = access;
    this.definitions = definitions;
    this.ledger = ledger;
    this.connectors = connectors;
    this.sources = sources;
    this.runner = runner;
    sinks = new SinkFigures(deliveries, definitions::node);
  }

  /** Changes a stream or table has been given, all time. */
  public long events(CatalogObject object) {
    LiveNode node = definitions.node(object.id());
    return CatalogObject.sourceOf(object) != null && node != null
        ? node.changes()
        : ledger.position(object.id());
  }

  private static Column text(String name) {
    return new Column(name, ColumnType.varchar(-1));
  }

  private static Column number(String name) {
    return new Column(name, ColumnType.of(Kind.BIGINT));
  }

  private static Column time(String name) {
    return new Column(name, ColumnType.of(Kind.TIMESTAMP));
  }

  /** What there is of a kind, as far as somebody sees it. */
  public Result.Rows show(Command.Show command, Snapshot snapshot, Caller caller) {
    Catalog catalog = caller.catalog(definitions.catalog());
    List<Object[]> rows = new ArrayList<>();
    if (command.from() != null) {
      return behind(command, snapshot);
    }
    switch (command.kind()) {
      case "CONNECTIONS" -> {
        for (CatalogObject o : catalog.all()) {
          if (o instanceof CatalogObject.Connection c) {
            String health = connectors.health(c);
            rows.add(
                new Object[] {
                  c.name(),
                  c.type(),
                  options(c),
                  catalog.dependents(c).stream()
                      .filter(d -> Catalog.dependsOn(d).contains(c.id()))
                      .map(CatalogObject::name)
                      .collect(Collectors.joining(", ")),
                  health == null ? "ok" : health
                });
          }
        }
        return new Result.Rows(
            List.of(NAME, text("type"), text("options"), text("used_by"), text("health")),
            rows,
            snapshot.epoch());
      }
      case "ROLES" -> {
        return AccessFigures.shownRoles(access, caller, snapshot.epoch());
      }
      case "GRANTS" -> {
        return AccessFigures.shownGrants(access, caller, snapshot.epoch());
      }
      case "ENDPOINTS" -> {
        return EndpointFigures.show(catalog, snapshot.epoch());
      }
      case "SINKS" -> {
        return sinks.show(catalog, snapshot.epoch());
      }
      case "TOPICS", "FILES" ->
          throw new EngineException(
              EngineException.Code.INVALID,
              "which connection's?",
              "write SHOW " + command.kind() + " FROM and the name of a connection");
      case "STREAMS" -> {
        for (CatalogObject o : catalog.all()) {
          if (o instanceof CatalogObject.Stream s) {
            InputNode node = (InputNode) definitions.node(s.id());
            rows.add(
                new Object[] {
                  s.name(),
                  events(s),
                  watermark(node),
                  node.late(),
                  node.rejected(),
                  columns(s),
                  from(s),
                  health(node, s)
                });
          }
        }
        return new Result.Rows(
            List.of(
                NAME,
                number("events"),
                time("watermark"),
                number("late"),
                number("rejects"),
                text("columns"),
                text("source"),
                text("health")),
            rows,
            snapshot.epoch());
      }
      case "TABLES" -> {
        for (CatalogObject o : catalog.all()) {
          if (o instanceof CatalogObject.Table t) {
            rows.add(
                new Object[] {
                  t.name(),
                  count(snapshot, t.id()),
                  names(t.schema(), t.primaryKey()),
                  columns(t),
                  from(t),
                  health(definitions.node(t.id()), t)
                });
          }
        }
        return new Result.Rows(
            List.of(
                NAME, number("rows"), text("key"), text("columns"), text("source"), text("health")),
            rows,
            snapshot.epoch());
      }
      default -> {
        for (CatalogObject o : catalog.all()) {
          if (o instanceof CatalogObject.View v) {
            rows.add(
                new Object[] {v.name(), v.kind(), null, null, null, null, null, null, null, "ok"});
          } else if (o instanceof CatalogObject.MaterializedView m) {
            LiveNode node = definitions.node(m.id());
            rows.add(
                new Object[] {
                  m.name(),
                  m.kind(),
                  count(snapshot, m.id()),
                  m.key() == null ? null : names(m.schema(), m.key()),
                  node.lastEpoch(),
                  watermark(node),
                  definitions.state(m).late(),
                  definitions.state(m).rejects(),
                  definitions.state(m).bytes(),
                  health(node)
                });
          }
        }
        return new Result.Rows(
            List.of(
                NAME,
                text("kind"),
                number("rows"),
                text("key"),
                number("changed_epoch"),
                time("watermark"),
                number("late"),
                number("rejects"),
                number("state_bytes"),
                text("health")),
            rows,
            snapshot.epoch());
      }
    }
  }

  static String health(LiveNode node) {
    return node.isLoading()
        ? "loading"
        : node.failure() == null ? "ok" : "stopped: " + node.failure();
  }

  /** The health of what has a source: its own, then its input's. */
  String health(LiveNode node, CatalogObject object) {
    FeedStatus input = sources.status(object);
    if (node.failure() != null || input == null || input.state().equals("reading")) {
      return health(node);
    }
    return input.state() + ": " + input.reason();
  }

  /** Options with secrets by name; a secret itself is never here. */
  private static String options(CatalogObject.Connection connection) {
    return new java.util.TreeMap<>(connection.options())
        .entrySet().stream()
            .map(
                e ->
                    e.getKey()
                        + " "
                        + (e.getValue().secret()
                            ? "SECRET " + e.getValue().text()
                            : "'" + e.getValue().text() + "'"))
            .collect(Collectors.joining(", "));
  }

  private static String from(CatalogObject object) {
    SourceSpec source = CatalogObject.sourceOf(object);
    if (source == null) {
      return object instanceof CatalogObject.Stream ? "pushed" : "statements";
    }
    String what = source.option("topic", source.option("table", source.option("files", "")));
    return source.connection()
        + ": "
        + what
        + (source.format() == null ? "" : ", " + source.format());
  }

  private Result.Rows behind(Command.Show command, Snapshot snapshot) {
    if (!(definitions.catalog().find(command.from()) instanceof CatalogObject.Connection c)) {
      throw new EngineException(
          EngineException.Code.INVALID, "\"" + command.from() + "\" is not a connection", null);
    }
    List<Object[]> rows = new ArrayList<>();
    for (Listing l : connectors.list(c)) {
      rows.add(
          new Object[] {
            l.name(),
            l.kind(),
            (long) l.partitions(),
            l.messages() < 0 ? null : l.messages(),
            l.bytes() < 0 ? null : l.bytes(),
            l.perSecond() < 0 ? null : Math.round(l.perSecond() * 10) / 10.0,
            l.key().isEmpty() ? null : String.join(", ", l.key()),
            l.note()
          });
    }
    return new Result.Rows(
        List.of(
            NAME,
            text("kind"),
            number("partitions"),
            number("messages"),
            number("bytes"),
            new Column("per_second", ColumnType.of(Kind.DOUBLE)),
            text("key"),
            text("note")),
        rows,
        snapshot.epoch());
  }

  private static Object watermark(LiveNode node) {
    return node.watermarkMicros() == Watermark.NONE || node.watermarkMicros() == Watermark.TIMELESS
        ? null
        : BoxedRows.timestamp(node.watermarkMicros());
  }

  private static Long count(Snapshot snapshot, long id) {
    RelationVersion version = snapshot.relation(id);
    return version == null ? null : version.count();
  }

  static String names(Schema schema, int[] columns) {
    return Arrays.stream(columns)
        .mapToObj(i -> schema.column(i).name())
        .collect(Collectors.joining(", "));
  }

  private static String columns(CatalogObject object) {
    return object.schema().columns().stream().map(Column::name).collect(Collectors.joining(", "));
  }

  public Result.Rows showCreate(String name, Snapshot snapshot) {
    CatalogObject object = definitions.catalog().find(name);
    return new Result.Rows(
        List.of(text("statement")),
        List.<Object[]>of(new Object[] {statement(object)}),
        snapshot.epoch());
  }

  private String statement(CatalogObject object) {
    StringBuilder out = new StringBuilder(object.sql().strip().replaceFirst(";$", "")).append(';');
    for (int[] index : orders(object)) {
      String columns =
          Arrays.stream(index)
              .mapToObj(i -> DefinitionText.name(object.schema().column(i).name()))
              .collect(Collectors.joining(", ", " (", ");"));
      out.append("\nCREATE INDEX ON ").append(DefinitionText.name(object.name())).append(columns);
    }
    return out.toString();
  }

  private List<int[]> orders(CatalogObject object) {
    LiveNode node = definitions.node(object.id());
    return node == null ? List.of() : node.orders();
  }

  public Result.Rows describe(String name, Snapshot snapshot) {
    CatalogObject object = definitions.catalog().find(name);
    if (object instanceof CatalogObject.Endpoint endpoint) {
      return EndpointFigures.describe(endpoint, snapshot.epoch());
    }
    int[] key =
        object instanceof CatalogObject.Table t
            ? t.primaryKey()
            : object instanceof CatalogObject.MaterializedView m
                ? m.key()
                : object instanceof CatalogObject.Sink sink ? sink.key() : null;
    List<Object[]> rows = new ArrayList<>();
    for (int i = 0; i < object.schema().size(); i++) {
      Column c = object.schema().column(i);
      rows.add(new Object[] {c.name(), c.type().sql(), c.type().nullable(), note(object, key, i)});
    }
    return new Result.Rows(
        List.of(
            text("column"),
            text("type"),
            new Column("nullable", ColumnType.of(Kind.BOOLEAN)),
            text("notes")),
        rows,
        snapshot.epoch(),
        object.kind()
            + "; SHOW CREATE "
            + object.name()
            + " is its definition"
            + UpkeepFigures.note(object, definitions.node(object.id()))
            + sinks.note(object));
  }

  private String note(CatalogObject object, int[] key, int column) {
    List<String> notes = new ArrayList<>();
    for (int[] index : orders(object)) {
      if (Arrays.stream(index).anyMatch(i -> i == column)) {
        notes.add("in index (" + names(object.schema(), index) + ")");
      }
    }
    for (int k = 0; key != null && k < key.length; k++) {
      if (key[k] == column) {
        String part = key.length == 1 ? "key" : "key part " + (k + 1);
        boolean declared = object instanceof CatalogObject.MaterializedView m && !m.keyProven();
        notes.add(declared ? part + " (declared, not proven)" : part);
      }
    }
    if (object instanceof CatalogObject.Stream s) {
      if (s.eventTime() == column) {
        notes.add("event time, lateness " + Casts.text(s.latenessMicros() / 1e6) + " s");
      }
    }
    Origins origins = CatalogObject.originsOf(object);
    if (origins.meta().containsKey(column)) {
      notes.add("META " + origins.meta().get(column).name().toLowerCase(java.util.Locale.ROOT));
    }
    if (origins.paths().containsKey(column)) {
      notes.add("PATH " + Origins.text(origins.paths().get(column)));
    }
    return notes.isEmpty() ? null : String.join("; ", notes);
  }

  public Result.Rows explain(Command.Explain command, Snapshot snapshot) {
    CatalogObject view = command.view() == null ? null : definitions.catalog().find(command.view());
    if (command.planned()) {
      PlanCut planned = definitions.cut(command.plan(), null);
      return ForecastRows.of(
          Trial.of(command.plan(), definitions.catalog(), runner, snapshot),
          command.plan(),
          planned,
          definitions.missing(planned),
          snapshot.epoch());
    }
    boolean analyze = command.analyze() && view != null;
    PlanCut cut = definitions.cut(command.plan(), view);
    StepStates states = view == null ? null : states(definitions, cut, view.id());
    Map<Long, Integer> lines = new HashMap<>();
    List<Object[]> rows = new ArrayList<>();
    for (PlanPrinter.Line line : PlanPrinter.print(command.plan(), cut::run)) {
      Long step = cut.numbers().get(line.node());
      String keeps = line.state();
      if (step != null) {
        Integer first = lines.putIfAbsent(step, rows.size() + 1);
        keeps += first != null ? "; the same as in line " + first : shared(step, view);
      }
      List<Object> row = new ArrayList<>(List.of(line.step(), keeps, line.bound()));
      if (command.view() == null) {
        row.add(1, QueryReads.text(line.node(), command.plan(), snapshot));
      }
      if (analyze) {
        Circuit.State state = states.of(line.node());
        row.add(state == null ? 0L : state.keys());
        row.add(state == null ? 0L : state.bytes());
        LateRows late = states.late(line.node());
        row.add(late == null ? null : late.saved());
      }
      rows.add(row.toArray());
    }
    List<Column> columns = new ArrayList<>(List.of(text("step"), text("keeps"), text("bound")));
    if (command.view() == null) {
      columns.add(1, text("asked once"));
    }
    if (analyze) {
      columns.add(number("keys"));
      columns.add(number("bytes"));
      columns.add(text("late"));
    }
    return new Result.Rows(columns, rows, snapshot.epoch());
  }

  /** What the steps of a view that is there keep. */
  static StepStates states(Definitions definitions, PlanCut cut, long view) {
    QueryNode own = definitions.node(view) instanceof QueryNode node ? node : null;
    return new StepStates(cut, definitions.steps()::node, own);
  }

  /** Which other views have a step, as EXPLAIN says it. */
  private String shared(long step, CatalogObject self) {
    List<String> others = new ArrayList<>();
    for (CatalogObject object : definitions.catalog().all()) {
      if (definitions.cut(object) != null
          && (self == null || object.id() != self.id())
          && definitions.cut(object).steps().stream().anyMatch(s -> s.id() == step)) {
        others.add(object.name());
      }
    }
    return others.isEmpty() ? "" : "; shared with " + String.join(", ", others);
  }
}
