package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.grammar.DistinctOnSelect;
import dripledger.grammar.NamedParameter;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.Deque;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.function.Function;
import java.util.regex.Pattern;
import org.apache.calcite.avatica.util.TimeUnit;
import org.apache.calcite.sql.SqlBasicCall;
import org.apache.calcite.sql.SqlBasicTypeNameSpec;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlDataTypeSpec;
import org.apache.calcite.sql.SqlDelete;
import org.apache.calcite.sql.SqlDynamicParam;
import org.apache.calcite.sql.SqlFunction;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlIntervalLiteral;
import org.apache.calcite.sql.SqlIntervalQualifier;
import org.apache.calcite.sql.SqlJoin;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlMatchRecognize;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.SqlOperator;
import org.apache.calcite.sql.SqlOrderBy;
import org.apache.calcite.sql.SqlSelect;
import org.apache.calcite.sql.SqlUpdate;
import org.apache.calcite.sql.SqlWindow;
import org.apache.calcite.sql.fun.SqlLibraryOperators;
import org.apache.calcite.sql.fun.SqlQuantifyOperator;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.parser.SqlParserPos;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.sql.util.SqlShuttle;
import org.apache.calcite.util.BitString;

/**
 * Walks a parsed statement before it is validated: puts parameters in as literals, turns everyday
 * functions into what the validator knows, and refuses, at its place, what the circuit cannot do
 * yet. The tree is changed where it stands. Single use.
 */
final class SyntaxRewriter extends SqlShuttle {
  private static final Pattern FINE = Pattern.compile("\\.\\d{3}\\d*[1-9]");

  private final Function<NamedParameter, SqlNode> parameters;
  private final Deque<List<String>> scopes = new ArrayDeque<>(); // what each SELECT reads

  /** Puts the values of parameters in. */
  SyntaxRewriter(Map<String, Object> arguments) {
    this(parameter -> ArgumentLiterals.of(parameter, arguments));
  }

  /**
   * @param parameters what stands for each parameter
   */
  SyntaxRewriter(Function<NamedParameter, SqlNode> parameters) {
    this.parameters = parameters;
  }

  static EngineException unsupported(String what, SqlParserPos pos, String hint) {
    return new EngineException(
        Code.NOT_SUPPORTED,
        "not supported yet: " + what,
        pos.getLineNum(),
        pos.getColumnNum(),
        hint);
  }

  @Override
  public SqlNode visit(SqlDynamicParam param) {
    SqlParserPos pos = param.getParserPosition();
    if (param instanceof ArgumentLiterals.OpenParameter) {
      return param;
    }
    if (!(param instanceof NamedParameter named)) {
      throw new EngineException(
          Code.INVALID,
          "a parameter has a name here",
          pos.getLineNum(),
          pos.getColumnNum(),
          "write :name instead of ?");
    }
    return parameters.apply(named);
  }

  /** The library keeps milliseconds of an interval; what it would leave out is refused. */
  @Override
  public SqlNode visit(SqlLiteral literal) {
    if (literal instanceof SqlIntervalLiteral
        && FINE.matcher(
                literal.getValueAs(SqlIntervalLiteral.IntervalValue.class).getIntervalLiteral())
            .find()) {
      throw SqlErrors.invalid(
          literal, "an interval is of whole milliseconds", "round it to three digits");
    }
    if (literal.getTypeName() == SqlTypeName.BINARY) {
      byte[] bytes = literal.getValueAs(BitString.class).getAsByteArray();
      return ArgumentLiterals.binary(bytes, literal.getParserPosition());
    }
    return super.visit(literal);
  }

  @Override
  public SqlNode visit(SqlNodeList list) {
    for (int i = 0; i < list.size(); i++) {
      SqlNode node = list.get(i);
      if (node != null) {
        SqlNode now = node.accept(this);
        if (now != node) {
          list.set(i, now);
        }
      }
    }
    return list;
  }

  /** How many rows, where only a number can be. */
  private SqlNode count(SqlNode node) {
    return node instanceof SqlDynamicParam param ? ArgumentLiterals.bare(visit(param)) : node;
  }

  @Override
  public SqlNode visit(SqlCall call) {
    refuse(call);
    if (call instanceof SqlOrderBy o
        && (count(o.fetch) != o.fetch || count(o.offset) != o.offset)) {
      return visit(
          new SqlOrderBy(
              o.getParserPosition(), o.query, o.orderList, count(o.offset), count(o.fetch)));
    }
    if (TimeWindowCalls.isOne(call)) {
      SqlCall known = TimeWindowCalls.known(call);
      if (known != call) {
        return visit(known);
      }
    }
    if (call instanceof SqlOrderBy ordered && ordered.query instanceof DistinctOnSelect select) {
      DistinctOn.rewrite(select, ordered.orderList);
    }
    if (call instanceof SqlOrderBy ordered && ordered.query instanceof SqlSelect select) {
      List<String> names = new ArrayList<>(); // which its order may name, too
      addNames(select.getFrom(), names);
      scopes.push(names);
      operands(call);
      scopes.pop();
      return call;
    }
    if (call instanceof SqlSelect select) {
      if (select instanceof DistinctOnSelect distinct) {
        DistinctOn.rewrite(distinct, SqlNodeList.EMPTY);
      }
      return select(select);
    }
    SqlNode target = target(call);
    if (target != null) {
      List<String> names = new ArrayList<>(); // which queries inside may name
      addNames(target, names);
      scopes.push(names);
      operands(call);
      scopes.pop();
      return call;
    }
    if (call instanceof SqlWindow window) {
      OverClauses.useUsualFrame(window);
    }
    if (call instanceof SqlMatchRecognize match) {
      scopes.push(PatternWords.prepare(match));
      operands(call);
      scopes.pop();
      return call;
    }
    operands(call);
    return rewrite(call);
  }

  /** What a statement changes, by the name it has there; null if it changes nothing. */
  private static SqlNode target(SqlCall call) {
    if (call instanceof SqlUpdate update) {
      return update.getAlias() == null ? update.getTargetTable() : update.getAlias();
    }
    if (call instanceof SqlDelete delete) {
      return delete.getAlias() == null ? delete.getTargetTable() : delete.getAlias();
    }
    return null;
  }

  private void operands(SqlCall call) {
    for (int i = 0; i < call.operandCount(); i++) {
      SqlNode operand = call.getOperandList().get(i);
      if (operand != null) {
        SqlNode now = operand.accept(this);
        if (now != operand) {
          call.setOperand(i, now);
        }
      }
    }
  }

  private SqlNode select(SqlSelect select) {
    OutputNames.give(select);
    if (select.getFrom() == null && select.getWhere() != null && !hasStar(select)) {
      select.setFrom(oneRow(select.getParserPosition()));
    }
    SetFunctions.unnest(select.getFrom(), select::setFrom);
    SqlNode from = select.getFrom();
    List<String> names = new ArrayList<>();
    addNames(from, names);
    scopes.push(names);
    for (int i = 0; i < select.getOperandList().size(); i++) {
      SqlNode operand = select.getOperandList().get(i);
      if (operand == null || operand == from && !readsQuery(from)) {
        continue;
      }
      SqlNode now = operand.accept(this);
      if (now != operand) {
        select.setOperand(i, now);
      }
    }
    scopes.pop();
    return select;
  }

  private static boolean hasStar(SqlSelect select) {
    return select.getSelectList().stream()
        .anyMatch(item -> item instanceof SqlIdentifier name && name.isStar());
  }

  /** What a SELECT without FROM reads. */
  private static SqlNode oneRow(SqlParserPos at) {
    SqlNode nothing = SqlLiteral.createExactNumeric("0", at);
    return SqlStdOperatorTable.VALUES.createCall(
        at, SqlStdOperatorTable.ROW.createCall(at, nothing));
  }

  /** Adds the names by which the relations of a FROM are known. */
  private static void addNames(SqlNode from, List<String> names) {
    if (from instanceof SqlIdentifier id) {
      names.add(id.names.get(id.names.size() - 1));
    } else if (from instanceof SqlJoin join) {
      addNames(join.getLeft(), names);
      addNames(join.getRight(), names);
    } else if (from instanceof SqlCall call && from.getKind() == SqlKind.AS) {
      names.add(((SqlIdentifier) call.operand(1)).getSimple());
    }
  }

  private static boolean readsQuery(SqlNode from) {
    SqlNode read =
        from instanceof SqlCall call && from.getKind() == SqlKind.AS ? call.operand(0) : from;
    return !(read instanceof SqlIdentifier);
  }

  private static void refuse(SqlCall call) {
    SqlParserPos pos = call.getParserPosition();
    String what =
        switch (call.getKind()) {
          case UNIQUE -> "UNIQUE (SELECT …)";
          case CURSOR, ARRAY_QUERY_CONSTRUCTOR, MULTISET_QUERY_CONSTRUCTOR ->
              "a query inside an expression";
          case PIVOT, UNPIVOT, TABLESAMPLE -> call.getKind().toString();
          case COLLECTION_TABLE ->
              TimeWindowCalls.isOne(call.operand(0)) ? null : "TABLE (" + call.operand(0) + ")";
          case IGNORE_NULLS -> OverClauses.mayIgnoreNulls(call.operand(0)) ? null : "IGNORE NULLS";
          case WITHIN_DISTINCT -> call.getKind().sql;
          case MERGE -> "MERGE";
          case MAP_VALUE_CONSTRUCTOR -> call.getOperator().getName();
          default -> null;
        };
    if (what != null) {
      throw unsupported(
          what.length() > 60 ? what.substring(0, 57) + "…" : what.replace("\n", " "), pos, null);
    }
  }

  private static SqlNode rewrite(SqlCall call) {
    SqlParserPos pos = call.getParserPosition();
    String name = call.getOperator().getName().toLowerCase(Locale.ROOT);
    if (call.getKind() == SqlKind.EXTRACT
        && call.operand(0) instanceof SqlIntervalQualifier unknown
        && unknown.timeFrameName != null) {
      for (TimeUnit unit : TimeUnit.values()) { // in the plural too
        if ((unit.name() + "S").equalsIgnoreCase(unknown.timeFrameName)) {
          SqlNode one = new SqlIntervalQualifier(unit, null, unknown.getParserPosition());
          return rewrite(call.getOperator().createCall(pos, one, call.operand(1)));
        }
      }
      throw SqlErrors.invalid(
          unknown,
          "no unit of time \"" + unknown.timeFrameName.toLowerCase(Locale.ROOT) + "\"",
          "units: second, minute, hour, day, week, month, quarter, year, dow, doy, epoch");
    }
    if (call.getKind() == SqlKind.EXTRACT
        && call.operand(0) instanceof SqlIntervalQualifier unit
        && (unit.getUnit() == TimeUnit.SECOND || unit.getUnit() == TimeUnit.EPOCH)) {
      return Dialect.EXACT_SECONDS.createCall(
          pos, call.operand(1), SqlLiteral.createCharString(unit.getUnit().name(), pos));
    }
    if (call.getKind() == SqlKind.TIMESTAMP_DIFF
        && call.operandCount() == 3
        && call.operand(0) instanceof SqlIntervalQualifier unit) {
      return Dialect.TIMESTAMP_DIFF.createCall(
          pos,
          SqlLiteral.createCharString(unit.getUnit().name(), pos),
          call.operand(1),
          call.operand(2));
    }
    if (call.getOperator() instanceof SqlQuantifyOperator quantified
        && call.operand(1) instanceof SqlNodeList list
        && list.size() == 1) { // = ANY (array)
      String how = quantified.getKind() == SqlKind.ALL ? " ALL" : " ANY";
      return Dialect.QUANTIFIED.createCall(
          pos,
          SqlLiteral.createCharString(quantified.comparisonKind.sql + how, pos),
          call.operand(0),
          list.get(0));
    }
    // Where the validator does not look names of operators up: in the order of an aggregate.
    SqlOperator own = TimeArithmetic.own(call.getOperator());
    if (own != null) {
      return own.createCall(pos, call.getOperandList());
    }
    if (call.getKind() == SqlKind.ARRAY_VALUE_CONSTRUCTOR) {
      return Dialect.ARRAY.createCall(pos, call.getOperandList());
    }
    if (call.getKind() == SqlKind.OVER) {
      return OverClauses.over(call);
    }
    if (call.getKind() == SqlKind.WITHIN_GROUP) {
      return withinGroup(call, pos);
    }
    if (name.equals("current_timestamp") || name.equals("localtimestamp")) {
      return Dialect.NOW.createCall(pos);
    }
    SqlNode known = call instanceof SqlBasicCall ? SetFunctions.rewrite(call) : call;
    if (known != call
        || !(call instanceof SqlBasicCall)
        || !(call.getOperator() instanceof SqlFunction)) {
      return known;
    }
    int last = call.operandCount() - 1;
    if (last > 0 && call.operand(last) instanceof SqlNodeList order) { // f(x ORDER BY y)
      List<SqlNode> arguments = call.getOperandList().subList(0, last);
      SqlNode plain =
          AggregateFunctions.ordered(call.getOperator())
              .createCall(call.getFunctionQuantifier(), pos, arguments.toArray(SqlNode[]::new));
      return SqlStdOperatorTable.WITHIN_GROUP.createCall(pos, plain, order);
    }
    switch (name) {
      case "try_cast":
        return SqlLibraryOperators.SAFE_CAST.createCall(pos, call.getOperandList());
      case "date_trunc":
        return dateTrunc(call, pos);
      case "now":
        return Dialect.NOW.createCall(pos);
      case "length":
        return SqlStdOperatorTable.CHAR_LENGTH.createCall(pos, call.getOperandList());
      case "max_by":
        return SqlStdOperatorTable.ARG_MAX.createCall(pos, call.getOperandList());
      case "min_by":
        return SqlStdOperatorTable.ARG_MIN.createCall(pos, call.getOperandList());
      case "trunc":
        return SqlStdOperatorTable.TRUNCATE.createCall(pos, call.getOperandList());
      default:
        return call;
    }
  }

  /** MODE() is of what it is ordered by, and PERCENTILE_CONT of it as floating point. */
  private static SqlNode withinGroup(SqlCall call, SqlParserPos pos) {
    SqlCall function = call.operand(0);
    SqlNodeList order = call.operand(1);
    String name = function.getOperator().getName();
    if (name.equalsIgnoreCase("mode") && function.operandCount() == 0 && order.size() == 1) {
      return SqlStdOperatorTable.MODE.createCall(pos, value(order.get(0)));
    }
    if (name.equalsIgnoreCase("percentile_cont") && order.size() == 1) {
      order.set(0, withDouble(order.get(0), pos));
    }
    return call;
  }

  private static SqlNode value(SqlNode ordered) {
    return isDirection(ordered) ? value(((SqlCall) ordered).operand(0)) : ordered;
  }

  private static SqlNode withDouble(SqlNode ordered, SqlParserPos pos) {
    if (isDirection(ordered)) {
      SqlCall call = (SqlCall) ordered;
      return call.getOperator().createCall(pos, withDouble(call.operand(0), pos));
    }
    return SqlStdOperatorTable.CAST.createCall(
        pos, ordered, new SqlDataTypeSpec(new SqlBasicTypeNameSpec(SqlTypeName.DOUBLE, pos), pos));
  }

  /** Whether it is an item of an order that says more than what it is ordered by. */
  static boolean isDirection(SqlNode item) {
    return item.getKind() == SqlKind.DESCENDING
        || item.getKind() == SqlKind.NULLS_FIRST
        || item.getKind() == SqlKind.NULLS_LAST;
  }

  private static SqlNode dateTrunc(SqlCall call, SqlParserPos pos) {
    if (call.operandCount() == 2
        && call.operand(0) instanceof SqlLiteral literal
        && SqlLiteral.valueMatchesType(literal.getValue(), literal.getTypeName())
        && literal.toValue() != null) {
      String unit = literal.toValue().toUpperCase(Locale.ROOT);
      for (TimeUnit candidate :
          List.of(
              TimeUnit.MILLISECOND,
              TimeUnit.SECOND,
              TimeUnit.MINUTE,
              TimeUnit.HOUR,
              TimeUnit.DAY,
              TimeUnit.WEEK,
              TimeUnit.MONTH,
              TimeUnit.QUARTER,
              TimeUnit.YEAR)) {
        if (candidate.name().equals(unit)) {
          List<SqlNode> operands = new ArrayList<>();
          operands.add(call.operand(1));
          operands.add(new SqlIntervalQualifier(candidate, null, pos));
          return SqlStdOperatorTable.FLOOR.createCall(pos, operands);
        }
      }
    }
    throw new EngineException(
        Code.INVALID,
        "date_trunc needs a unit and a timestamp",
        pos.getLineNum(),
        pos.getColumnNum(),
        "date_trunc('minute', at); units: second, minute, hour, day, week, month, quarter, year");
  }

  @Override
  public SqlNode visit(SqlDataTypeSpec type) {
    return TypeMapping.known(type);
  }

  @Override
  public SqlNode visit(SqlIdentifier id) {
    if (id.isSimple()) {
      String name = id.getSimple().toUpperCase(Locale.ROOT);
      boolean quoted = id.isComponentQuoted(0);
      if (!quoted && (name.equals("CURRENT_TIMESTAMP") || name.equals("LOCALTIMESTAMP"))) {
        return Dialect.NOW.createCall(id.getParserPosition());
      }
      return id;
    }
    // A field of a nested column: the validator wants the relation's name before it.
    boolean known = scopes.stream().anyMatch(scope -> scope.contains(id.names.get(0)));
    if (!known && !id.isStar() && !scopes.isEmpty() && scopes.peek().size() == 1) {
      List<String> names = new ArrayList<>(id.names);
      names.add(0, scopes.peek().get(0));
      List<SqlParserPos> places = new ArrayList<>();
      places.add(id.getComponentParserPosition(0));
      for (int i = 0; i < id.names.size(); i++) {
        places.add(id.getComponentParserPosition(i));
      }
      return new SqlIdentifier(names, null, id.getParserPosition(), places);
    }
    return id;
  }
}
