package dripledger.engine.sql;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.EndpointParameter;
import dripledger.engine.catalog.Retention;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.expr.Casts;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import dripledger.grammar.NamedParameter;
import dripledger.grammar.Statement;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.HashSet;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.Function;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.sql.SqlDataTypeSpec;
import org.apache.calcite.sql.SqlDynamicParam;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.util.SqlBasicVisitor;

/** Checks CREATE ENDPOINT. Used for one statement. */
final class EndpointStatements {
  private static final int MOST_ROWS = 10_000; // unless the options say more
  private static final int MOST_PARAMETERS = 50;

  private final Catalog catalog;
  private final String script;
  private final long nowMicros;
  private final Function<SqlDataTypeSpec, RelDataType> types;

  EndpointStatements(
      Catalog catalog,
      String script,
      long nowMicros,
      Function<SqlDataTypeSpec, RelDataType> types) {
    this.catalog = catalog;
    this.script = script;
    this.nowMicros = nowMicros;
    this.types = types;
  }

  Command create(Statement.CreateEndpoint s) {
    List<EndpointParameter> parameters = new ArrayList<>();
    Map<String, ColumnType> known = new LinkedHashMap<>();
    for (Statement.EndpointParameter p : s.parameters()) {
      if (known.containsKey(p.name().getSimple())) {
        throw SqlErrors.invalid(
            p.name(), "parameter \"" + p.name().getSimple() + "\" appears twice", null);
      }
      EndpointParameter parameter = parameter(p);
      parameters.add(parameter);
      known.put(parameter.name(), parameter.type());
    }
    if (parameters.size() > MOST_PARAMETERS) {
      throw SqlErrors.invalid(
          s.name(), "an endpoint has " + MOST_PARAMETERS + " parameters at most", null);
    }
    refuseUndeclared(s, known.keySet());
    String query = SqlFrontEnd.textOf(s.query(), script);
    StatementCheck check =
        new StatementCheck(catalog, script, ParameterTypes.anyValues(known), nowMicros);
    Command.QueryPlan plan = check.query(s.query(), QueryClock.at(nowMicros), null);
    Set<String> names = new HashSet<>();
    for (Column column : plan.columns()) {
      if (column.name().equals(OutputNames.NONE) || !names.add(column.name())) {
        throw SqlErrors.invalid(
            s.query(),
            "column " + (names.size() + 1) + " has no name of its own",
            "give it one with AS");
      }
    }
    Map<String, String> options = options(s.options());
    return new Command.CreateEndpoint(
        SqlFrontEnd.name(s.name()),
        SqlFrontEnd.ifExists(s.replace(), s.ifNotExists()),
        new Schema(plan.columns()),
        parameters,
        s.description() == null ? null : ((SqlLiteral) s.description()).toValue(),
        number(s, "max_rows", options.getOrDefault("max_rows", "" + MOST_ROWS)),
        options.containsKey("max_read") ? number(s, "max_read", options.get("max_read")) : 0,
        pageRows(s, options, plan, known.keySet()),
        options.containsKey("cache") ? Retention.micros(options.get("cache")) / 1000 : 0,
        query,
        check.used());
  }

  /** The plan of an endpoint's query, with the defaults of its parameters or any values. */
  static PlanNode plan(Catalog catalog, CatalogObject.Endpoint endpoint, long nowMicros) {
    Map<String, ColumnType> types = new HashMap<>();
    endpoint.parameters().forEach(p -> types.put(p.name(), p.type()));
    Map<String, Object> values = ParameterTypes.anyValues(types);
    for (EndpointParameter p : endpoint.parameters()) {
      if (p.defaultValue() != null) {
        values.put(p.name(), new Argument(p.type(), p.defaultValue()));
      }
    }
    SqlFrontEnd front = new SqlFrontEnd();
    Command command = front.check(front.parse(endpoint.query()).get(0), catalog, values, nowMicros);
    return ((Command.Query) command).plan().plan();
  }

  private EndpointParameter parameter(Statement.EndpointParameter p) {
    ColumnType type = TypeMapping.fromSql(types.apply(p.type())).withNullable(true);
    String name = p.name().getSimple();
    switch (type.kind()) {
      case ROW, ARRAY, INTERVAL_DAY_TIME, INTERVAL_YEAR_MONTH ->
          throw SqlErrors.invalid(
              p.name(), "a parameter cannot be of type " + type.sql(), "take its parts");
      default -> {}
    }
    Object value = null;
    if (p.defaultValue() instanceof SqlLiteral literal && literal.getValue() != null) {
      try {
        value = Casts.parse(literal.toValue(), type);
      } catch (RuntimeException e) {
        throw SqlErrors.invalid(
            p.defaultValue(),
            "the default of \"" + name + "\" is no " + type.sql() + ": " + e.getMessage(),
            null);
      }
    }
    String check = p.check() == null ? null : SqlFrontEnd.textOf(p.check(), script);
    if (check != null) {
      checkOf(name, type, check, p.check());
    }
    return new EndpointParameter(
        name,
        type,
        value,
        p.defaultValue() == null && !p.optional(),
        p.optional(),
        p.comment() == null ? null : ((SqlLiteral) p.comment()).toValue(),
        check);
  }

  /** A query that answers whether a value fulfils its condition. */
  static String checkQuery(String name, String check) {
    String quoted = '"' + name.replace("\"", "\"\"") + '"';
    return "SELECT (" + check + ") AS ok FROM (VALUES (:" + quoted + ")) AS p (" + quoted + ")";
  }

  private void checkOf(String name, ColumnType type, String check, SqlNode at) {
    String query = checkQuery(name, check);
    try {
      Map<String, Object> any = ParameterTypes.anyValues(Map.of(name, type));
      SqlFrontEnd front = new SqlFrontEnd();
      Command command = front.check(front.parse(query).get(0), Catalog.EMPTY, any, nowMicros);
      if (((Command.Query) command).plan().columns().get(0).type().kind()
          == ColumnType.Kind.BOOLEAN) {
        return;
      }
      throw SqlErrors.invalid(at, "a CHECK is a condition", "CHECK (" + name + " > 0)");
    } catch (EngineException e) {
      throw SqlErrors.invalid(at, "the CHECK of \"" + name + "\": " + e.getMessage(), e.hint());
    }
  }

  private static void refuseUndeclared(Statement.CreateEndpoint s, Set<String> declared) {
    s.query()
        .accept(
            new SqlBasicVisitor<Void>() {
              @Override
              public Void visit(SqlDynamicParam param) {
                if (param instanceof NamedParameter p && !declared.contains(p.name())) {
                  throw SqlErrors.invalid(
                      p,
                      "parameter :" + p.name() + " is not declared",
                      "declare it: CREATE ENDPOINT "
                          + s.name().getSimple()
                          + " ("
                          + p.name()
                          + " VARCHAR)");
                }
                return null;
              }
            });
  }

  private static Map<String, String> options(Map<String, SqlNode> given) {
    Map<String, String> options = new HashMap<>();
    given.forEach(
        (name, value) -> {
          if (!Set.of("max_rows", "max_read", "page_rows", "cache").contains(name)) {
            throw SqlErrors.invalid(
                value,
                "an endpoint has no option \"" + name + "\"",
                "there are max_rows, max_read, page_rows and cache");
          }
          options.put(name, ((SqlLiteral) value).toValue());
        });
    return options;
  }

  private static int pageRows(
      Statement.CreateEndpoint s,
      Map<String, String> options,
      Command.QueryPlan plan,
      Set<String> parameters) {
    if (!options.containsKey("page_rows")) {
      return 0;
    }
    if (plan.limit() >= 0 || plan.offset() > 0) {
      throw SqlErrors.invalid(
          s.query(),
          "an endpoint that answers in pages has no LIMIT or OFFSET of its own",
          "page_rows says how many rows there are on a page; LIMIT may be in a query below");
    }
    if (parameters.contains("after")) {
      throw SqlErrors.invalid(
          s.name(),
          "parameter \"after\" of an endpoint that answers in pages says where a page begins",
          "give yours another name");
    }
    int rows = number(s, "page_rows", options.get("page_rows"));
    int most = number(s, "max_rows", options.getOrDefault("max_rows", "" + MOST_ROWS));
    if (rows > most) {
      throw SqlErrors.invalid(
          s.name(), "a page of " + rows + " rows has more than max_rows " + most, null);
    }
    return rows;
  }

  private static int number(Statement.CreateEndpoint s, String option, String text) {
    if (!text.matches("[1-9][0-9]{0,8}")) {
      throw new EngineException(
          Code.INVALID,
          "option \"" + option + "\" is a number from 1 to 999999999",
          s.name().getParserPosition().getLineNum(),
          s.name().getParserPosition().getColumnNum(),
          null);
    }
    return Integer.parseInt(text);
  }
}
