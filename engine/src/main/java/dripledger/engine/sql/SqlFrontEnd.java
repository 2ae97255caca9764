package dripledger.engine.sql;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.expr.Expr;
import dripledger.engine.plan.BoundPlan;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import dripledger.grammar.StatementNode;
import java.util.ArrayList;
import java.util.HashSet;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.Set;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.SqlOrderBy;
import org.apache.calcite.sql.parser.SqlParseException;
import org.apache.calcite.sql.parser.SqlParserPos;

/**
 * Text in, checked commands out. Stateless; safe from any thread. A statement is checked against
 * the catalog given, whole, before anything is done.
 */
public final class SqlFrontEnd {
  private static final Pattern CLOCK =
      Pattern.compile("(?i)\\b(now|current_\\w+|localtime\\w*)\\b");

  /** A parsed statement and where its text is. Opaque to callers; give it to {@link #check}. */
  public static final class Parsed {
    private final SqlNode node;
    private final String script;
    private final boolean whole;

    private Parsed(SqlNode node, String script, boolean whole) {
      this.node = node;
      this.script = script;
      this.whole = whole;
    }

    /** Whether the script has no other statement. */
    public boolean isWhole() {
      return whole;
    }

    /** The statement's own text. */
    public String text() {
      return textOf(node, script);
    }

    /**
     * Gives an error the place of a word of the statement, if it has none and the word is there.
     */
    public EngineException placed(EngineException e, String word) {
      Matcher m = Pattern.compile("\\b" + Pattern.quote(word) + "\\b").matcher(text());
      if (e.line() > 0 || !m.find()) {
        return e;
      }
      SqlParserPos pos = placeOf(node, script);
      int lineBreak = text().lastIndexOf('\n', m.start());
      int lines = (int) text().substring(0, m.start()).chars().filter(c -> c == '\n').count();
      int column = lines == 0 ? pos.getColumnNum() + m.start() : m.start() - lineBreak;
      return new EngineException(
          e.code(), e.getMessage(), pos.getLineNum() + lines, column, e.hint());
    }
  }

  /**
   * Parses a script into its statements.
   *
   * @throws EngineException (SYNTAX) with the place
   */
  public List<Parsed> parse(String script) {
    if (script.isBlank()) {
      throw new EngineException(
          Code.SYNTAX, "there is no statement", "write one, such as SHOW VIEWS;");
    }
    try {
      SqlNodeList list = ScriptParser.parse(script);
      if (list.isEmpty()) {
        throw new EngineException(Code.SYNTAX, "there is no statement", null);
      }
      List<Parsed> out = new ArrayList<>();
      for (SqlNode node : list) {
        out.add(new Parsed(node, script, list.size() == 1));
      }
      return out;
    } catch (SqlParseException e) {
      throw e.getCause() instanceof StackOverflowError ? tooDeep() : SqlErrors.parse(e, script);
    } catch (StackOverflowError e) {
      throw tooDeep();
    }
  }

  private static EngineException tooDeep() {
    return new EngineException(
        Code.LIMIT,
        "the statement is nested too deeply",
        "use fewer parentheses and queries inside of each other");
  }

  static String textOf(SqlNode node, String script) {
    SqlParserPos pos = placeOf(node, script);
    return script.substring(
        offset(script, pos.getLineNum(), pos.getColumnNum()),
        Math.min(script.length(), offset(script, pos.getEndLineNum(), pos.getEndColumnNum()) + 1));
  }

  /** Where a node is, all of it: the parser's own place of an ordered query is its last word. */
  private static SqlParserPos placeOf(SqlNode node, String script) {
    SqlParserPos own = node.getParserPosition();
    if (node.getKind() == SqlKind.EXPLICIT_TABLE) { // which the parser places before itself
      SqlParserPos name = ((SqlCall) node).operand(0).getParserPosition();
      int at = offset(script, name.getLineNum(), name.getColumnNum());
      int begin = script.toUpperCase(Locale.ROOT).lastIndexOf("TABLE", at);
      int line = 1 + (int) script.substring(0, begin).chars().filter(c -> c == '\n').count();
      int column = begin - script.lastIndexOf('\n', begin);
      return new SqlParserPos(line, column, name.getEndLineNum(), name.getEndColumnNum());
    }
    if (!(node instanceof SqlOrderBy ordered)) {
      return own;
    }
    SqlParserPos query = placeOf(ordered.query, script);
    SqlParserPos last = own;
    for (SqlNode part : new SqlNode[] {ordered.orderList, ordered.offset, ordered.fetch}) {
      if (part != null && isBehind(part.getParserPosition(), last)) {
        last = part.getParserPosition();
      }
    }
    if (isBehind(query, last)) {
      last = query;
    }
    return new SqlParserPos(
        query.getLineNum(), query.getColumnNum(), last.getEndLineNum(), last.getEndColumnNum());
  }

  /** Whether one ends behind the other. */
  private static boolean isBehind(SqlParserPos one, SqlParserPos other) {
    return one.getEndLineNum() > other.getEndLineNum()
        || one.getEndLineNum() == other.getEndLineNum()
            && one.getEndColumnNum() > other.getEndColumnNum();
  }

  private static int offset(String script, int line, int column) {
    int at = 0;
    for (int i = 1; i < line; i++) {
      at = script.indexOf('\n', at) + 1;
    }
    return Math.min(script.length(), at + column - 1);
  }

  /**
   * Checks a statement against a catalog.
   *
   * @param arguments values of :name parameters
   * @param nowMicros the time CURRENT_TIMESTAMP stands for in a query that is asked once
   * @throws EngineException with the place, if it has one
   */
  public Command check(
      Parsed parsed, Catalog catalog, Map<String, Object> arguments, long nowMicros) {
    StatementCheck check = new StatementCheck(catalog, parsed.script, arguments, nowMicros);
    dropAbsent(parsed.node, arguments);
    try {
      return check.check(parsed.node);
    } catch (EngineException e) {
      throw e;
    } catch (StackOverflowError e) {
      throw tooDeep();
    } catch (AssertionError e) { // the SQL library's way to say that it cannot
      throw SqlErrors.notPlanned(e);
    } catch (RuntimeException e) {
      throw SqlErrors.validation(e, catalog, RelationFinder.relations(parsed.node, catalog));
    }
  }

  /**
   * What a statement takes and answers, before the values of its parameters are known.
   *
   * @param parameters their types by name, in the order in which the statement names them
   * @param columns of its answer; null if it answers no rows
   * @param origins where each column is from, null for one that is computed
   */
  public record Described(
      Map<String, ColumnType> parameters, List<Column> columns, List<Origin> origins) {}

  /** A column of a relation, both by number. */
  public record Origin(long relation, int column) {}

  /**
   * Describes one statement.
   *
   * @param declared types of parameters, as far as the client says
   */
  public Described describe(
      String text, Catalog catalog, Map<String, ColumnType> declared, long nowMicros) {
    Parsed parsed = parse(text).get(0);
    boolean plain = !(parsed.node instanceof StatementNode);
    Map<String, ColumnType> types =
        plain
            ? new ParameterTypes(declared)
                .settle(
                    () -> parse(text).get(0).node,
                    () -> new StatementCheck(catalog, text, Map.of(), nowMicros).newValidator())
            : Map.of();
    Command command = check(parsed, catalog, ParameterTypes.anyValues(types), nowMicros);
    return command instanceof Command.Query q
        ? new Described(types, q.plan().columns(), origins(q.plan()))
        : new Described(types, null, List.of());
  }

  private static List<Origin> origins(Command.QueryPlan query) {
    List<Origin> origins = new ArrayList<>();
    for (int output : query.outputs()) {
      int column = output;
      PlanNode below = query.plan();
      while (column >= 0 && below instanceof PlanNode.Transform t) {
        column = t.program().outputs().get(column) instanceof Expr.Column c ? c.index() : -1;
        below = t.input();
      }
      origins.add(
          column >= 0 && below instanceof PlanNode.Source s
              ? new Origin(s.relationId(), column)
              : null);
    }
    return origins;
  }

  /**
   * Plans a query once for all values of its parameters.
   *
   * @param kinds of which types they are
   * @return null if it is none, or not of the form that can be
   */
  public PreparedQuery prepare(String text, Catalog catalog, ArgumentKinds kinds) {
    List<Parsed> statements = parse(text);
    SqlNode node = statements.get(0).node;
    if (statements.size() != 1
        || node instanceof StatementNode
        || !node.isA(SqlKind.QUERY) && node.getKind() != SqlKind.ORDER_BY) {
      return null;
    }
    try {
      Map<String, Object> standIns = kinds.standIns();
      dropAbsent(node, standIns);
      List<String> open = kinds.open();
      StatementCheck check = new StatementCheck(catalog, text, standIns, 0);
      Command.QueryPlan plan = check.query(node, QueryClock.open(open.size()), null);
      boolean counts =
          isCount(plan.limitParameter(), open, kinds)
              && isCount(plan.offsetParameter(), open, kinds);
      return counts && BoundPlan.canBind(plan.plan()) ? new PreparedQuery(plan, open) : null;
    } catch (RuntimeException | AssertionError e) {
      return null; // planned with its values, it says what is wrong with it
    }
  }

  private static boolean isCount(int parameter, List<String> open, ArgumentKinds kinds) {
    return parameter < 0
        || kinds.byName().get(open.get(parameter)) instanceof ColumnType type
            && type.kind().isInteger();
  }

  /** Leaves out the conditions on values that were not given. */
  private static void dropAbsent(SqlNode node, Map<String, Object> arguments) {
    Set<String> absent = new HashSet<>(arguments.keySet());
    absent.removeIf(name -> arguments.get(name) != Argument.ABSENT);
    OptionalConditions.drop(node, absent);
  }

  /** A query that answers, as its one column, whether a value fulfils a condition. */
  public static String checkQuery(String parameter, String condition) {
    return EndpointStatements.checkQuery(parameter, condition);
  }

  /** Whether a query's text asks for the time, so that its plan is good for now only. */
  public static boolean asksTheClock(String text) {
    return CLOCK.matcher(text).find();
  }

  static String name(SqlIdentifier id) {
    if (!id.isSimple()) {
      throw new EngineException(
          Code.INVALID,
          "names have no dots here",
          id.getParserPosition().getLineNum(),
          id.getParserPosition().getColumnNum(),
          "all objects live in one place; write " + id.names.get(id.names.size() - 1));
    }
    return id.getSimple();
  }

  static Command.IfExists ifExists(boolean replace, boolean ifNotExists) {
    return replace
        ? Command.IfExists.REPLACE
        : ifNotExists ? Command.IfExists.SKIP : Command.IfExists.FAIL;
  }

  static int indexOf(Schema columns, SqlIdentifier id) {
    int index = columns.indexOf(id.getSimple());
    if (index < 0) {
      String near =
          SqlErrors.nearest(id.getSimple(), columns.columns().stream().map(Column::name).toList());
      throw SqlErrors.invalid(
          id,
          "no column \"" + id.getSimple() + "\"",
          near == null ? null : "did you mean \"" + near + "\"?");
    }
    return index;
  }
}
