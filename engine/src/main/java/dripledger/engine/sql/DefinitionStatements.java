package dripledger.engine.sql;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.CatalogObject.Connection.Option;
import dripledger.engine.catalog.CatalogObject.Meta;
import dripledger.engine.catalog.Origins;
import dripledger.engine.catalog.Retention;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import dripledger.grammar.ColumnDefinition;
import dripledger.grammar.SecretName;
import dripledger.grammar.Statement;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.LinkedHashSet;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.Set;
import java.util.function.Function;
import java.util.function.IntFunction;
import java.util.stream.Collectors;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.sql.SqlBasicTypeNameSpec;
import org.apache.calcite.sql.SqlDataTypeSpec;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlIntervalLiteral;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.type.SqlTypeName;

/** Checks the statements that define connections, streams and tables. Used for one statement. */
final class DefinitionStatements {
  private final Catalog catalog;
  private final Function<SqlDataTypeSpec, RelDataType> types;

  /**
   * @param types derives a declared type
   */
  DefinitionStatements(Catalog catalog, Function<SqlDataTypeSpec, RelDataType> types) {
    this.catalog = catalog;
    this.types = types;
  }

  private static EngineException invalid(SqlNode at, String message, String hint) {
    return SqlErrors.invalid(at, message, hint);
  }

  Command createConnection(Statement.CreateConnection s) {
    return new Command.CreateConnection(
        SqlFrontEnd.name(s.name()),
        SqlFrontEnd.ifExists(s.replace(), s.ifNotExists()),
        s.type().getSimple(),
        options(s.options()));
  }

  private static Map<String, Option> options(Map<String, SqlNode> given) {
    Map<String, Option> options = new LinkedHashMap<>();
    given.forEach((name, value) -> options.put(name, option(value)));
    return options;
  }

  private static Option option(SqlNode value) {
    if (value instanceof SecretName secret) {
      return new Option(secret.getSimple(), true);
    }
    return new Option(((SqlLiteral) value).toValue(), false);
  }

  Command alterOptions(Statement.AlterOptions s) {
    CatalogObject object = find(s.name(), s.kind());
    if (object instanceof CatalogObject.Table) {
      throw invalid(s.name(), "a table has no options to change", null);
    }
    return new Command.AlterOptions(s.kind(), object.name(), options(s.options()));
  }

  Command index(Statement.Index s) {
    if (s.name() != null) {
      throw invalid(
          s.name(),
          "an index has no name: it is called by what it is on",
          "write "
              + (s.drop() ? "DROP" : "CREATE")
              + " INDEX ON "
              + s.relation().getSimple()
              + " (…)");
    }
    CatalogObject object = catalog.find(SqlFrontEnd.name(s.relation()));
    if (object == null) {
      find(s.relation(), "materialized view"); // which says what there is
    }
    if (!(object instanceof CatalogObject.Table)
        && !(object instanceof CatalogObject.MaterializedView)) {
      throw invalid(
          s.relation(),
          "an index is on a table or a materialized view; \""
              + object.name()
              + "\" is "
              + object.aKind(),
          "keep what is looked up as a materialized view");
    }
    List<Integer> columns = new ArrayList<>();
    for (SqlIdentifier id : s.columns()) {
      int column = SqlFrontEnd.indexOf(object.schema(), id);
      if (columns.contains(column)) {
        throw invalid(id, "\"" + id.getSimple() + "\" is there twice", null);
      }
      columns.add(column);
    }
    SqlIdentifier first = s.columns().get(0);
    return new Command.Index(
        s.drop(),
        s.quiet(),
        object.name(),
        columns,
        first.getParserPosition().getLineNum(),
        first.getParserPosition().getColumnNum());
  }

  private CatalogObject find(SqlIdentifier id, String kind) {
    CatalogObject object = catalog.find(SqlFrontEnd.name(id));
    if (object == null) {
      String word = kind.toLowerCase(Locale.ROOT);
      String near =
          SqlErrors.nearest(
              id.getSimple(),
              catalog.all().stream()
                  .filter(o -> o.kind().equals(word))
                  .map(CatalogObject::name)
                  .toList());
      throw new EngineException(
          Code.NOT_FOUND,
          "no " + word + " \"" + id.getSimple() + "\"",
          id.getParserPosition().getLineNum(),
          id.getParserPosition().getColumnNum(),
          near == null ? null : "did you mean \"" + near + "\"?");
    }
    if (!object.kind().equalsIgnoreCase(kind)) {
      throw invalid(id, "\"" + object.name() + "\" is " + object.aKind(), null);
    }
    return object;
  }

  Command addColumn(Statement.AddColumn s) {
    CatalogObject object = find(s.name(), s.kind());
    if (!(object instanceof CatalogObject.Stream stream)) {
      throw invalid(
          s.name(),
          "columns can be added to streams only",
          "drop the table and create it again; it is read anew");
    }
    ColumnDefinition added =
        s.definition().columns().isEmpty() ? null : s.definition().columns().get(0);
    if (added == null) {
      throw invalid(s.name(), "a column is expected: ADD COLUMN name TYPE", null);
    }
    if (added.notNull()) {
      throw invalid(
          added.name(), "a column added later cannot be NOT NULL", "earlier events do not have it");
    }
    if (stream.schema().indexOf(added.name().getSimple()) >= 0) {
      throw invalid(
          added.name(), "column \"" + added.name().getSimple() + "\" is there already", null);
    }
    Column column = column(added, Set.of());
    List<String> path = path(added);
    List<Column> columns = new ArrayList<>(stream.schema().columns());
    columns.add(column);
    refuseOverlap(
        stream.origins().with(columns.size() - 1, null, path),
        new Schema(columns),
        i -> added.name());
    return new Command.AddColumn(
        stream.name(),
        column,
        added.meta() == null ? null : meta(added, column, stream.source() == null),
        path,
        s.replay());
  }

  Command refreshTable(Statement.RefreshTable s) {
    CatalogObject object = find(s.name(), "TABLE");
    if (CatalogObject.sourceOf(object) == null) {
      throw invalid(s.name(), "\"" + object.name() + "\" is changed by statements only", null);
    }
    return new Command.RefreshTable(object.name());
  }

  Command refreshView(Statement.RefreshView s) {
    return new Command.RefreshView(find(s.name(), "MATERIALIZED VIEW").name());
  }

  Command refreshSink(Statement.RefreshSink s) {
    return new Command.RefreshSink(find(s.name(), "SINK").name());
  }

  /** Where a delivery goes. */
  SourceSpec target(Statement.CreateSink s) {
    CatalogObject connection = find(s.connection(), "CONNECTION");
    return new SourceSpec(
        connection.name(),
        connection.id(),
        plain(s.target()),
        s.format() == null ? null : s.format().getSimple());
  }

  /** Options without secrets. */
  private static Map<String, String> plain(Map<String, SqlNode> given) {
    Map<String, String> options = new LinkedHashMap<>();
    given.forEach(
        (name, value) -> {
          Option option = option(value);
          if (option.secret()) {
            throw invalid(value, "secrets belong to connections", null);
          }
          options.put(name, option.text());
        });
    return options;
  }

  private SourceSpec source(Statement.Definition def) {
    if (def.connection() == null) {
      return null;
    }
    CatalogObject connection = find(def.connection(), "CONNECTION");
    Map<String, String> options = plain(def.sourceOptions());
    if (options.containsKey("retain")) {
      try {
        Retention.micros(options.get("retain"));
      } catch (IllegalArgumentException e) {
        throw invalid(def.sourceOptions().get("retain"), e.getMessage(), Retention.HINT);
      }
    }
    return new SourceSpec(
        connection.name(),
        connection.id(),
        options,
        def.format() == null ? null : def.format().getSimple());
  }

  private Column column(ColumnDefinition c, Set<String> keyColumns) {
    RelDataType sqlType;
    try {
      sqlType = types.apply(c.type());
    } catch (RuntimeException e) {
      throw invalid(
          c.type(),
          "no type \"" + c.type().toString().replace("`", "") + "\"",
          "types: BOOLEAN, SMALLINT, INTEGER, BIGINT, REAL, DOUBLE, DECIMAL(p, s), VARCHAR,"
              + " VARBINARY, DATE, TIME, TIMESTAMP, ROW(…), T ARRAY");
    }
    if (c.type().getTypeNameSpec() instanceof SqlBasicTypeNameSpec basic
        && sqlType.getSqlTypeName() == SqlTypeName.DECIMAL
        && basic.getPrecision() > sqlType.getPrecision()) {
      throw invalid(
          c.type(), "a DECIMAL has " + sqlType.getPrecision() + " digits at most", "or use DOUBLE");
    }
    ColumnType type = nullableInside(TypeMapping.fromSql(sqlType));
    String name = c.name().getSimple();
    return new Column(name, type.withNullable(!c.notNull() && !keyColumns.contains(name)));
  }

  private Schema columns(Statement.Definition def, Set<String> keyColumns) {
    List<Column> columns = new ArrayList<>();
    Set<String> names = new LinkedHashSet<>();
    for (ColumnDefinition c : def.columns()) {
      if (!names.add(c.name().getSimple())) {
        throw invalid(c.name(), "column \"" + c.name().getSimple() + "\" is declared twice", null);
      }
      columns.add(column(c, keyColumns));
    }
    return new Schema(columns);
  }

  private static EngineException noColumns(SqlIdentifier owner) {
    return invalid(owner, "no columns are declared", "write (name TYPE, …) after the name");
  }

  /** Fields of a ROW may be missing in an event unless said otherwise. */
  private static ColumnType nullableInside(ColumnType type) {
    if (type.kind() == Kind.ROW) {
      return ColumnType.row(
          type.fields().stream()
              .map(f -> new Column(f.name(), nullableInside(f.type()).withNullable(true)))
              .toList());
    }
    return type;
  }

  private static Meta meta(ColumnDefinition c, Column column, boolean pushed) {
    String word = c.meta().getSimple();
    Meta meta =
        Arrays.stream(Meta.values())
            .filter(m -> m.name().toLowerCase(Locale.ROOT).equals(word))
            .findFirst()
            .orElse(null);
    if (meta == null || pushed && meta != Meta.ARRIVED_AT) {
      throw invalid(
          c.meta(),
          "META " + word + (pushed ? " of a pushed stream" : "") + " is not known",
          pushed
              ? "a pushed stream knows arrived_at"
              : "there are "
                  + Arrays.stream(Meta.values())
                      .map(m -> m.name().toLowerCase(Locale.ROOT))
                      .collect(Collectors.joining(", ")));
    }
    Kind kind = column.type().kind();
    boolean fits =
        switch (meta) {
          case ARRIVED_AT, RECORD_TIME -> kind == Kind.TIMESTAMP;
          case PARTITION -> kind == Kind.INTEGER || kind == Kind.BIGINT;
          case POSITION -> kind == Kind.BIGINT;
          case KEY -> kind == Kind.VARCHAR || kind == Kind.VARBINARY;
          case HEADERS -> kind == Kind.VARCHAR;
        };
    if (!fits) {
      throw invalid(
          c.name(),
          word
              + switch (meta) {
                case ARRIVED_AT, RECORD_TIME -> " is a TIMESTAMP";
                case PARTITION -> " is an INTEGER";
                case POSITION -> " is a BIGINT";
                case KEY -> " is a VARCHAR or VARBINARY";
                case HEADERS -> " is a VARCHAR that holds a JSON object";
              },
          null);
    }
    return meta;
  }

  Command createStream(Statement.CreateStream s) {
    Statement.Definition def = s.definition();
    if (def.primaryKey() != null) {
      throw invalid(
          def.primaryKey().get(0),
          "a stream has no primary key",
          "use CREATE TABLE for keyed rows");
    }
    SourceSpec source = source(def);
    String name = SqlFrontEnd.name(s.name());
    Command.IfExists ifExists = SqlFrontEnd.ifExists(s.replace(), s.ifNotExists());
    if (def.columns().isEmpty()) {
      if (source == null) {
        throw noColumns(s.name());
      }
      return new Command.CreateStream(name, ifExists, null, -1, 0, Origins.NONE, source);
    }
    Schema columns = columns(def, Set.of());
    for (ColumnDefinition c : def.columns()) {
      if (c.primaryKey()) {
        throw invalid(c.name(), "a stream has no primary key", "use CREATE TABLE for keyed rows");
      }
    }
    Origins origins = origins(def, columns, source == null);
    int eventTime = -1;
    long lateness = 0;
    if (def.eventTime() != null) {
      eventTime = columns.indexOf(def.eventTime().getSimple());
      if (eventTime < 0) {
        throw invalid(
            def.eventTime(),
            "no column \"" + def.eventTime().getSimple() + "\" for EVENT TIME",
            null);
      }
      if (columns.type(eventTime).kind() != Kind.TIMESTAMP) {
        throw invalid(def.eventTime(), "EVENT TIME needs a TIMESTAMP column", null);
      }
      lateness = def.lateness() == null ? 0 : intervalMicros(def.lateness());
    }
    return new Command.CreateStream(name, ifExists, columns, eventTime, lateness, origins, source);
  }

  private static Origins origins(Statement.Definition def, Schema columns, boolean pushed) {
    Origins origins = Origins.NONE;
    for (int i = 0; i < def.columns().size(); i++) {
      ColumnDefinition c = def.columns().get(i);
      origins =
          origins.with(i, c.meta() == null ? null : meta(c, columns.column(i), pushed), path(c));
    }
    refuseOverlap(origins, columns, i -> def.columns().get(i).name());
    return origins;
  }

  /** The path a column says, or null. */
  private static List<String> path(ColumnDefinition c) {
    if (c.path() == null) {
      return null;
    }
    if (c.meta() != null) {
      throw invalid(c.path(), "a column is filled by META or by PATH, not both", null);
    }
    try {
      return Origins.parse(((SqlLiteral) c.path()).toValue());
    } catch (IllegalArgumentException e) {
      throw invalid(c.path(), e.getMessage(), Origins.PATH_HINT);
    }
  }

  private static void refuseOverlap(
      Origins origins, Schema columns, IntFunction<SqlIdentifier> name) {
    int[] two = origins.overlap(columns);
    if (two != null) {
      String other = columns.column(two[1]).name();
      throw invalid(
          name.apply(two[0]),
          "column \""
              + columns.column(two[0]).name()
              + "\" reads "
              + Origins.text(origins.path(two[0], columns))
              + ", which column \""
              + other
              + "\" has already",
          "leave one of them out, or read it from \"" + other + "\" in a view");
    }
  }

  private static long intervalMicros(SqlNode node) {
    SqlIntervalLiteral.IntervalValue value =
        ((SqlIntervalLiteral) node).getValueAs(SqlIntervalLiteral.IntervalValue.class);
    if (value.getIntervalQualifier().isYearMonth()) {
      throw invalid(node, "LATENESS is in days or less", null);
    }
    return ((SqlIntervalLiteral) node)
        .getValueAs(BigDecimal.class)
        .multiply(BigDecimal.valueOf(1000))
        .longValue();
  }

  Command createTable(Statement.CreateTable s) {
    Statement.Definition def = s.definition();
    SourceSpec source = source(def);
    List<SqlIdentifier> key = new ArrayList<>();
    for (ColumnDefinition c : def.columns()) {
      if (c.primaryKey()) {
        key.add(c.name());
      }
      if (c.meta() != null && source == null) {
        throw invalid(c.meta(), "a local table has no transport to ask for META columns", null);
      }
      if (c.path() != null && (source == null || source.format() == null)) {
        throw invalid(
            c.path(), "PATH is for messages", "the rows of this table have no fields inside");
      }
    }
    if (def.eventTime() != null) {
      throw invalid(def.eventTime(), "a table has no event time", "use CREATE STREAM for events");
    }
    if (source != null && source.option("retain") != null) {
      throw invalid(def.sourceOptions().get("retain"), "a table keeps its rows anyway", null);
    }
    if (def.primaryKey() != null) {
      if (!key.isEmpty()) {
        throw invalid(def.primaryKey().get(0), "PRIMARY KEY is declared twice", null);
      }
      key = def.primaryKey();
    }
    String name = SqlFrontEnd.name(s.name());
    Command.IfExists ifExists = SqlFrontEnd.ifExists(s.replace(), s.ifNotExists());
    if (def.columns().isEmpty()) {
      if (source == null) {
        throw noColumns(s.name());
      }
      return new Command.CreateTable(name, ifExists, null, null, Origins.NONE, source);
    }
    Set<String> keyNames = new LinkedHashSet<>();
    for (SqlIdentifier k : key) {
      if (!keyNames.add(k.getSimple())) {
        throw invalid(k, "\"" + k.getSimple() + "\" is there twice", null);
      }
    }
    Schema columns = columns(def, keyNames);
    if (key.isEmpty()) {
      throw invalid(
          s.name(),
          "a table needs a primary key",
          "add PRIMARY KEY to a column or PRIMARY KEY (…)");
    }
    return new Command.CreateTable(
        name,
        ifExists,
        columns,
        key.stream().mapToInt(k -> SqlFrontEnd.indexOf(columns, k)).toArray(),
        origins(def, columns, source == null),
        source);
  }
}
