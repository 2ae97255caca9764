package dripledger.engine.sql;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.Schema;
import dripledger.engine.sql.QueryShape.Kept;
import dripledger.grammar.DistinctOnSelect;
import dripledger.grammar.Statement;
import dripledger.grammar.StatementNode;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.LinkedHashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import org.apache.calcite.config.CalciteConnectionConfigImpl;
import org.apache.calcite.config.CalciteConnectionProperty;
import org.apache.calcite.jdbc.CalciteSchema;
import org.apache.calcite.plan.Contexts;
import org.apache.calcite.plan.ConventionTraitDef;
import org.apache.calcite.plan.RelOptCluster;
import org.apache.calcite.plan.RelOptTable;
import org.apache.calcite.plan.volcano.VolcanoPlanner;
import org.apache.calcite.prepare.CalciteCatalogReader;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.RelRoot;
import org.apache.calcite.rel.core.TableModify;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.sql.SqlDataTypeSpec;
import org.apache.calcite.sql.SqlDelete;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlInsert;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlOrderBy;
import org.apache.calcite.sql.SqlUpdate;
import org.apache.calcite.sql.parser.SqlParseException;
import org.apache.calcite.sql.parser.SqlParserPos;
import org.apache.calcite.sql.validate.SqlValidator;
import org.apache.calcite.sql2rel.SqlToRelConverter;

/** The checking of one statement against a catalog. Used once, by one thread. */
final class StatementCheck {
  private final Catalog catalog;
  private final String script;
  private final Map<String, Object> arguments;
  private final long nowMicros;
  private final RelDataTypeFactory types = Dialect.typeFactory();
  private final Set<Long> used = new LinkedHashSet<>();
  private final CalciteCatalogReader reader;
  private final CalciteCatalogReader inViews; // which read as whoever made them could
  private final SqlValidator validator;
  private final RelOptCluster cluster;

  StatementCheck(Catalog catalog, String script, Map<String, Object> arguments, long nowMicros) {
    this.catalog = catalog;
    this.script = script;
    this.arguments = arguments;
    this.nowMicros = nowMicros;
    reader = reader(catalog);
    inViews = catalog.isPart() ? reader(catalog.whole()) : reader;
    validator = newValidator();
    VolcanoPlanner planner = new VolcanoPlanner(Contexts.empty());
    planner.addRelTraitDef(ConventionTraitDef.INSTANCE);
    // The library would work out constants by functions of its own; ours decide, for all rows.
    planner.setExecutor((rexBuilder, constants, results) -> results.addAll(constants));
    cluster = RelOptCluster.create(planner, new RexBuilder(types));
    PlanFacts.use(cluster);
  }

  private CalciteCatalogReader reader(Catalog of) {
    CatalogSchema schema = new CatalogSchema(of, this::expandView, used);
    CalciteSchema root = CalciteSchema.createRootSchema(false, false, "", schema);
    TypeMapping.aliases().forEach(root::add);
    return new CalciteCatalogReader(
        root,
        List.of(""),
        types,
        CalciteConnectionConfigImpl.DEFAULT.set(CalciteConnectionProperty.CASE_SENSITIVE, "true"));
  }

  SqlValidator newValidator() {
    return new DialectValidator(reader, types);
  }

  /** The objects that what was checked reads, and those they read. */
  Set<Long> used() {
    return Set.copyOf(used);
  }

  Command check(SqlNode node) {
    if (node instanceof StatementNode own) {
      return own(own);
    }
    if (node instanceof SqlInsert || node instanceof SqlUpdate || node instanceof SqlDelete) {
      return modification(node);
    }
    if (node.isA(SqlKind.QUERY) || node.getKind() == SqlKind.ORDER_BY) {
      return new Command.Query(query(node, QueryClock.at(nowMicros), null));
    }
    SqlParserPos at = node.getParserPosition();
    throw SyntaxRewriter.unsupported("this statement", at, "ask with SELECT or FOLLOW");
  }

  private Command own(StatementNode node) {
    Statement statement = node.statement();
    SqlParserPos pos = node.getParserPosition();
    DefinitionStatements definitions = new DefinitionStatements(catalog, this::type);
    if (statement instanceof Statement.CreateConnection s) {
      return definitions.createConnection(s);
    }
    if (statement instanceof Statement.CreateStream s) {
      return definitions.createStream(s);
    }
    if (statement instanceof Statement.CreateTable s) {
      return definitions.createTable(s);
    }
    Command access = new AccessStatements(catalog).check(statement);
    if (access != null) {
      return access;
    }
    if (statement instanceof Statement.AlterOptions s) {
      return definitions.alterOptions(s);
    }
    if (statement instanceof Statement.AddColumn s) {
      return definitions.addColumn(s);
    }
    if (statement instanceof Statement.RefreshTable s) {
      return definitions.refreshTable(s);
    }
    if (statement instanceof Statement.RefreshView s) {
      return definitions.refreshView(s);
    }
    if (statement instanceof Statement.RefreshSink s) {
      return definitions.refreshSink(s);
    }
    if (statement instanceof Statement.Cancel s) {
      return new Command.Cancel(((SqlLiteral) s.number()).longValue(true));
    }
    if (statement instanceof Statement.CreateSink s) {
      return createSink(s, definitions);
    }
    if (statement instanceof Statement.CreateEndpoint s) {
      return new EndpointStatements(catalog, script, nowMicros, this::type).create(s);
    }
    if (statement instanceof Statement.Index s) {
      return definitions.index(s);
    }
    if (statement instanceof Statement.CreateView s) {
      return createView(s);
    }
    if (statement instanceof Statement.Drop s) {
      SqlParserPos at = s.name().getParserPosition();
      return new Command.Drop(
          s.kind(),
          SqlFrontEnd.name(s.name()),
          s.ifExists(),
          s.cascade(),
          at.getLineNum(),
          at.getColumnNum());
    }
    if (statement instanceof Statement.Follow s) {
      Command.QueryPlan plan = query(s.query(), null, Kept.PROVISIONAL);
      refuseFigures(s.query());
      return new Command.Follow(plan);
    }
    if (statement instanceof Statement.Explain s) {
      return explain(s);
    }
    if (statement instanceof Statement.Describe s) {
      return new Command.Describe(existing(s.name()).name());
    }
    if (statement instanceof Statement.Show s && s.kind().equals("CREATE")) {
      return new Command.ShowCreate(existing(s.from()).name());
    }
    if (statement instanceof Statement.Show s) {
      return new Command.Show(s.kind(), s.from() == null ? null : existing(s.from()).name());
    }
    if (statement instanceof Statement.Transaction s) {
      return new Command.Transaction(Command.Transaction.Step.valueOf(s.step().name()));
    }
    throw SyntaxRewriter.unsupported(((Statement.Unsupported) statement).what(), pos, null);
  }

  private CatalogObject existing(SqlIdentifier id) {
    CatalogObject object = catalog.find(SqlFrontEnd.name(id));
    if (object == null) {
      List<String> names = catalog.all().stream().map(CatalogObject::name).toList();
      String near = SqlErrors.nearest(id.getSimple(), names);
      throw new EngineException(
          Code.NOT_FOUND,
          "no stream, table or view \"" + id.getSimple() + "\"",
          id.getParserPosition().getLineNum(),
          id.getParserPosition().getColumnNum(),
          near == null ? null : "did you mean \"" + near + "\"?");
    }
    return object;
  }

  private Command createView(Statement.CreateView s) {
    if (!s.materialized() && !s.options().isEmpty()) {
      throw SqlErrors.invalid(
          s.options().values().iterator().next(),
          "a view that keeps nothing has no options",
          "CREATE MATERIALIZED VIEW has");
    }
    String query = SqlFrontEnd.textOf(s.query(), script);
    Command.QueryPlan plan = query(s.query(), null, ViewOptions.kept(s.options()));
    Schema columns =
        new Schema(
            s.columns() == null ? plan.columns() : OutputNames.named(s.columns(), plan.columns()));
    checkKept(columns, s.query());
    if (!s.materialized()) {
      return new Command.CreateView(
          SqlFrontEnd.name(s.name()),
          SqlFrontEnd.ifExists(s.replace(), s.ifNotExists()),
          columns,
          query,
          Set.copyOf(used));
    }
    PlanNode root = ViewOptions.apply(s.options(), plan.plan(), s.query());
    int[] key =
        root.key() == null ? null : root.key().stream().mapToInt(Integer::intValue).toArray();
    boolean proven = key != null;
    if (s.key() != null) {
      int[] declared = s.key().stream().mapToInt(k -> SqlFrontEnd.indexOf(columns, k)).toArray();
      int[] sortedDeclared = Arrays.stream(declared).sorted().toArray();
      proven =
          key != null
              && Arrays.stream(key).allMatch(k -> Arrays.binarySearch(sortedDeclared, k) >= 0);
      key = declared;
    }
    return new Command.CreateMaterializedView(
        SqlFrontEnd.name(s.name()),
        SqlFrontEnd.ifExists(s.replace(), s.ifNotExists()),
        columns,
        root,
        key,
        proven,
        Set.copyOf(used),
        ViewOptions.upkeep(s.options()),
        ViewOptions.keepsLate(s.options()));
  }

  /** Refuses what cannot be kept: columns that no name tells apart, and figures. */
  private void checkKept(Schema columns, SqlNode query) {
    Set<String> names = new LinkedHashSet<>();
    for (Column c : columns.columns()) {
      if (c.name().equals(OutputNames.NONE)) {
        throw SqlErrors.invalid(
            query, "column " + (names.size() + 1) + " has no name", "give it one with AS");
      }
      if (!names.add(c.name())) {
        throw SqlErrors.invalid(
            query, "column \"" + c.name() + "\" appears twice", "rename one with AS");
      }
    }
    refuseFigures(query);
  }

  private Command.CreateSink createSink(Statement.CreateSink s, DefinitionStatements definitions) {
    Command.QueryPlan plan = query(s.query(), null, Kept.PROVISIONAL);
    checkKept(new Schema(plan.columns()), s.query());
    return SinkOptions.of(s, plan, Set.copyOf(used), definitions.target(s), catalog);
  }

  private void refuseFigures(SqlNode query) {
    if (used.stream().anyMatch(id -> id < 0)) {
      throw SqlErrors.invalid(
          query, "the tables of schema drip are figures of the moment", "read them with SELECT");
    }
  }

  private Command explain(Statement.Explain s) {
    if (s.target() instanceof SqlIdentifier id) {
      CatalogObject object = existing(id);
      if (object instanceof CatalogObject.MaterializedView m) {
        return new Command.Explain(s.analyze(), m.plan(), m.name(), false);
      }
      if (object instanceof CatalogObject.View v) {
        return new Command.Explain(
            s.analyze(),
            query(parseQuery(v.query()), QueryClock.at(nowMicros), null).plan(),
            null,
            false);
      }
      if (object instanceof CatalogObject.Endpoint e) {
        return new Command.Explain(
            s.analyze(), EndpointStatements.plan(catalog, e, nowMicros), null, false);
      }
      throw SqlErrors.invalid(
          id, object.aKind() + " has no plan", "EXPLAIN takes a view or a query");
    }
    if (s.target() instanceof StatementNode made) {
      if (!s.analyze()
          && made.statement() instanceof Statement.CreateView create
          && createView(create) instanceof Command.CreateMaterializedView view) {
        return new Command.Explain(false, view.plan(), view.name(), true);
      }
      if (!s.analyze() && made.statement() instanceof Statement.CreateSink create) {
        return new Command.ExplainSink(
            createSink(create, new DefinitionStatements(catalog, this::type)));
      }
      throw SyntaxRewriter.unsupported(
          "EXPLAIN of this statement",
          made.getParserPosition(),
          "EXPLAIN CREATE MATERIALIZED VIEW name AS … says what it would keep");
    }
    if (s.analyze()) {
      throw SyntaxRewriter.unsupported(
          "EXPLAIN ANALYZE of a query",
          s.target().getParserPosition(),
          "EXPLAIN ANALYZE name takes a materialized view");
    }
    return new Command.Explain(
        false, query(s.target(), QueryClock.at(nowMicros), null).plan(), null, false);
  }

  // ---- queries

  private SqlNode parseQuery(String text) {
    try {
      return ScriptParser.parse(text).get(0);
    } catch (SqlParseException e) {
      throw SqlErrors.parse(e, text);
    }
  }

  private RelNode expandView(CatalogObject.View view, RelOptTable.ToRelContext context) {
    SqlNode query = parseQuery(view.query()).accept(new SyntaxRewriter(Map.of()));
    SqlValidator inner = new DialectValidator(inViews, types);
    SqlNode validated = inner.validate(query);
    return relations(inner, inViews, validated).project();
  }

  /** A query as relations; simplified, unless the SQL library fails on what is never true. */
  private RelRoot relations(SqlValidator over, CalciteCatalogReader tables, SqlNode validated) {
    try {
      return converter(over, tables, true).convertQuery(validated, false, true);
    } catch (AssertionError e) {
      return converter(over, tables, false).convertQuery(validated, false, true);
    }
  }

  private SqlToRelConverter converter(
      SqlValidator over, CalciteCatalogReader tables, boolean simplify) {
    RelOptTable.ViewExpander none =
        (rowType, queryString, schemaPath, viewPath) -> {
          throw new IllegalStateException("views expand themselves");
        };
    return new SqlToRelConverter(
        none,
        over,
        tables,
        cluster,
        new Convertlets(),
        SqlToRelConverter.config()
            .withExpand(false)
            .withTrimUnusedFields(false)
            .withRelBuilderConfigTransform(
                c ->
                    c.withPushJoinCondition(true)
                        .withAggregateUnique(true)
                        .withSimplify(simplify)));
  }

  private RelDataType type(SqlDataTypeSpec type) {
    return TypeMapping.known(type).deriveType(validator, true);
  }

  private PlanBuilder builder(QueryClock now) {
    return new PlanBuilder(cluster.getRexBuilder(), now);
  }

  /**
   * @param now null where the clock must not be asked
   * @param kept whether the answer is kept up to date, so that order and limit have no meaning
   */
  Command.QueryPlan query(SqlNode node, QueryClock now, Kept how) {
    boolean kept = how != null;
    List<String> names = OutputNames.of(node);
    boolean chooses = node instanceof SqlOrderBy o && o.query instanceof DistinctOnSelect;
    SqlNode rewritten = node.accept(new SyntaxRewriter(arguments));
    if (kept
        && chooses
        && rewritten instanceof SqlOrderBy o
        && o.fetch == null
        && o.offset == null) {
      rewritten = o.query; // the order has said which rows there are
    }
    if (kept
        && rewritten instanceof SqlOrderBy ordered
        && ordered.fetch == null
        && ordered.offset == null) {
      throw SyntaxRewriter.unsupported(
          "ORDER BY without LIMIT in a query that is kept up to date",
          node.getParserPosition(),
          "sort where the view is read");
    }
    try {
      SqlNode validated = validator.validate(rewritten);
      RelRoot root = relations(validator, reader, validated);
      List<Map.Entry<Integer, String>> fields = new ArrayList<>();
      for (Map.Entry<Integer, String> f : root.fields) {
        // The validator would tell columns of one name apart by numbers.
        String name = names == null ? f.getValue() : names.get(fields.size());
        fields.add(Map.entry(f.getKey(), name));
      }
      if (kept) {
        return builder(now).kept(QueryShape.of(root.project(), how), fields);
      }
      return builder(now).query(QueryShape.of(root.rel, null), fields);
    } catch (EngineException e) {
      throw placed(e, node);
    }
  }

  /** Gives an error of the plan builder the place of the word it complains of, if it has one. */
  private EngineException placed(EngineException e, SqlNode node) {
    if (e.line() > 0) {
      return e;
    }
    SqlParserPos pos = WordFinder.find(node, String.valueOf(e.getMessage()));
    return new EngineException(
        e.code(), e.getMessage(), pos.getLineNum(), pos.getColumnNum(), e.hint());
  }

  // ---- changes

  private Command modification(SqlNode node) {
    SqlIdentifier target =
        (SqlIdentifier)
            (node instanceof SqlInsert i
                ? i.getTargetTable()
                : node instanceof SqlUpdate u
                    ? u.getTargetTable()
                    : ((SqlDelete) node).getTargetTable());
    CatalogObject object = existing(target);
    boolean insert = node instanceof SqlInsert;
    if (object instanceof CatalogObject.View || object instanceof CatalogObject.MaterializedView) {
      throw SqlErrors.invalid(target, "a view cannot be changed", "change what it reads from");
    }
    if (CatalogObject.sourceOf(object) != null || object instanceof CatalogObject.Connection) {
      throw SqlErrors.invalid(
          target,
          "\"" + object.name() + "\" follows its source and is not changed by statements",
          "change it at the source");
    }
    if (!insert && object instanceof CatalogObject.Stream) {
      throw SqlErrors.invalid(
          target, "events of a stream cannot be changed", "use a table for rows that change");
    }
    SqlNode validated;
    TableModify modify;
    try {
      validated = validator.validate(node.accept(new SyntaxRewriter(arguments)));
      modify = (TableModify) relations(validator, reader, validated).rel;
      PlanNode rows =
          builder(QueryClock.at(nowMicros))
              .query(QueryShape.of(modify.getInput(), null), identity(modify))
              .plan();
      if (insert) {
        return new Command.Insert(object.name(), rows);
      }
      if (node instanceof SqlDelete) {
        return new Command.Delete(object.name(), rows);
      }
      int[] columns =
          modify.getUpdateColumnList().stream().mapToInt(object.schema()::indexOf).toArray();
      return new Command.Update(object.name(), rows, columns);
    } catch (EngineException e) {
      throw placed(e, node);
    }
  }

  private static List<Map.Entry<Integer, String>> identity(TableModify modify) {
    List<Map.Entry<Integer, String>> fields = new ArrayList<>();
    modify
        .getInput()
        .getRowType()
        .getFieldList()
        .forEach(f -> fields.add(Map.entry(f.getIndex(), f.getName())));
    return fields;
  }
}
