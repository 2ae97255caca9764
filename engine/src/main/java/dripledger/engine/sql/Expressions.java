package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.expr.Casts;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexDynamicParam;
import org.apache.calcite.rex.RexFieldAccess;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexLiteral;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexOver;
import org.apache.calcite.rex.RexUtil;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.util.DateString;
import org.apache.calcite.util.TimeString;
import org.apache.calcite.util.TimestampString;

/** Turns the SQL library's expressions into ours. Single thread. */
final class Expressions {
  private final RexBuilder rexBuilder;
  private final QueryClock now;

  /**
   * @param now what CURRENT_TIMESTAMP stands for, or null where the clock must not be asked (a
   *     view's rows would depend on when they were computed)
   */
  Expressions(RexBuilder rexBuilder, QueryClock now) {
    this.rexBuilder = rexBuilder;
    this.now = now;
  }

  /**
   * @throws EngineException (NOT_SUPPORTED) if it uses something we do not have
   */
  Expr translate(RexNode node) {
    return expr(RexUtil.expandSearch(rexBuilder, null, node));
  }

  private static EngineException unsupported(String what) {
    return new EngineException(EngineException.Code.NOT_SUPPORTED, "not supported yet: " + what);
  }

  private Expr expr(RexNode node) {
    if (node instanceof RexInputRef ref) {
      return new Expr.Column(ref.getIndex(), TypeMapping.fromSql(ref.getType()));
    }
    if (node instanceof RexLiteral literal) {
      return constant(literal);
    }
    if (node instanceof RexFieldAccess access) {
      return field(access);
    }
    if (node instanceof RexDynamicParam param) {
      return new Expr.Parameter(param.getIndex(), TypeMapping.fromSql(param.getType()));
    }
    if (node instanceof RexOver) {
      throw unsupported("OVER (…)");
    }
    if (node instanceof RexCall call) {
      return call(call);
    }
    throw unsupported(node.toString());
  }

  private static Expr field(RexFieldAccess access) {
    List<Integer> path = new ArrayList<>();
    RexNode node = access;
    while (node instanceof RexFieldAccess step) {
      path.add(0, step.getField().getIndex());
      node = step.getReferenceExpr();
    }
    if (!(node instanceof RexInputRef ref)) {
      throw unsupported("a field of an expression that is not a column");
    }
    return new Expr.Field(ref.getIndex(), path, TypeMapping.fromSql(access.getType()));
  }

  private static Expr constant(RexLiteral literal) {
    ColumnType type = TypeMapping.fromSql(literal.getType());
    if (literal.isNull()) {
      return new Expr.Constant(null, type);
    }
    Object value =
        switch (type.kind()) {
          case BOOLEAN -> literal.getValueAs(Boolean.class);
          case SMALLINT, INTEGER, BIGINT, INTERVAL_YEAR_MONTH ->
              literal.getValueAs(BigDecimal.class).longValueExact();
          case REAL -> (double) literal.getValueAs(Float.class);
          case DOUBLE -> literal.getValueAs(Double.class);
          case DECIMAL -> {
            BigDecimal number = literal.getValueAs(BigDecimal.class);
            yield number.setScale(Math.max(type.scale(), number.scale()));
          }
          case VARCHAR -> literal.getValueAs(String.class);
          case DATE -> (long) literal.getValueAs(DateString.class).getDaysSinceEpoch();
          case TIME -> Casts.toTime(literal.getValueAs(TimeString.class).toString());
          case TIMESTAMP -> Casts.toTimestamp(literal.getValueAs(TimestampString.class).toString());
          case INTERVAL_DAY_TIME ->
              literal
                  .getValueAs(BigDecimal.class)
                  .multiply(BigDecimal.valueOf(1000))
                  .longValueExact();
          default -> throw unsupported("a literal of type " + type.sql());
        };
    return new Expr.Constant(value, type);
  }

  private Expr call(RexCall call) {
    return switch (call.getKind()) {
      case AND -> plain(Operation.AND, call);
      case OR -> plain(Operation.OR, call);
      case NOT ->
          call.getOperands().get(0) instanceof RexCall inner
                  && inner.getKind() == SqlKind.IS_NOT_NULL
              ? make(Operation.IS_NULL, operands(inner.getOperands()), List.of(), call)
              : plain(Operation.NOT, call);
      case CASE -> plain(Operation.CASE, call);
      case IS_NULL -> plain(Operation.IS_NULL, call);
      case IS_NOT_NULL -> plain(Operation.IS_NOT_NULL, call);
      case IS_TRUE -> plain(Operation.IS_TRUE, call);
      case IS_NOT_TRUE -> plain(Operation.IS_NOT_TRUE, call);
      case IS_FALSE -> plain(Operation.IS_FALSE, call);
      case IS_NOT_FALSE -> plain(Operation.IS_NOT_FALSE, call);
      case EQUALS -> plain(Operation.EQUAL, call);
      case NOT_EQUALS -> plain(Operation.NOT_EQUAL, call);
      case LESS_THAN -> plain(Operation.LESS, call);
      case LESS_THAN_OR_EQUAL -> plain(Operation.LESS_OR_EQUAL, call);
      case GREATER_THAN -> plain(Operation.GREATER, call);
      case GREATER_THAN_OR_EQUAL -> plain(Operation.GREATER_OR_EQUAL, call);
      case IS_DISTINCT_FROM -> plain(Operation.DISTINCT, call);
      case IS_NOT_DISTINCT_FROM -> plain(Operation.NOT_DISTINCT, call);
      case PLUS -> plain(Operation.PLUS, call);
      case MINUS -> plain(Operation.MINUS, call);
      case TIMES -> plain(Operation.TIMES, call);
      case DIVIDE -> plain(Operation.DIVIDE, call);
      case MOD -> plain(Operation.MODULO, call);
      case MINUS_PREFIX -> plain(Operation.NEGATE, call);
      case PLUS_PREFIX, REINTERPRET -> expr(call.getOperands().get(0));
      case CAST -> plain(Operation.CAST, call);
      case SEARCH -> expr(RexUtil.expandSearch(rexBuilder, null, call)); // inside of another
      case SAFE_CAST -> plain(Operation.TRY_CAST, call);
      case LIKE -> like(call);
      case EXTRACT -> unit(Operation.EXTRACT, call, 0, 1);
      case FLOOR ->
          call.getOperands().size() == 2 ? unit(Operation.FLOOR_TO, call, 1, 0) : named(call);
      case CEIL ->
          call.getOperands().size() == 2 ? unit(Operation.CEIL_TO, call, 1, 0) : named(call);
      case TRIM -> trim(call);
      case COALESCE -> coalesce(call);
      case DEFAULT -> throw unsupported("DEFAULT");
      default -> named(call);
    };
  }

  private Expr plain(Operation operation, RexCall call) {
    return make(operation, operands(call.getOperands()), List.of(), call);
  }

  private static Expr make(
      Operation operation, List<Expr> operands, List<String> options, RexCall call) {
    return new Expr.Call(operation, operands, options, TypeMapping.fromSql(call.getType()));
  }

  private List<Expr> operands(List<RexNode> nodes) {
    return nodes.stream().map(this::expr).toList();
  }

  private Expr like(RexCall call) {
    String name = call.getOperator().getName();
    if (name.startsWith("NOT")) {
      throw unsupported(name);
    }
    return plain(name.contains("ILIKE") ? Operation.ILIKE : Operation.LIKE, call);
  }

  private Expr unit(Operation operation, RexCall call, int unit, int value) {
    String name = String.valueOf(((RexLiteral) call.getOperands().get(unit)).getValue());
    return make(operation, List.of(expr(call.getOperands().get(value))), List.of(name), call);
  }

  private Expr trim(RexCall call) {
    String flag = String.valueOf(((RexLiteral) call.getOperands().get(0)).getValue());
    List<RexNode> rest = call.getOperands().subList(1, 3);
    return make(Operation.TRIM, operands(rest), List.of(flag), call);
  }

  /** As joins by common columns are checked; elsewhere it is a CASE before it comes here. */
  private Expr coalesce(RexCall call) {
    List<RexNode> cases = new ArrayList<>();
    int last = call.getOperands().size() - 1;
    for (RexNode operand : call.getOperands().subList(0, last)) {
      cases.add(rexBuilder.makeCall(SqlStdOperatorTable.IS_NOT_NULL, operand));
      cases.add(operand);
    }
    cases.add(call.getOperands().get(last));
    return expr(rexBuilder.makeCall(call.getType(), SqlStdOperatorTable.CASE, cases));
  }

  private Expr named(RexCall call) {
    String name = call.getOperator().getName().toUpperCase(Locale.ROOT);
    return switch (name) {
      case "CURRENT_TIMESTAMP", "LOCALTIMESTAMP", "CURRENT_DATE", "NOW" -> clock(name, call);
      case "||" ->
          plain(
              call.getType().getSqlTypeName() == SqlTypeName.ARRAY
                  ? Operation.ARRAY_CONCATENATE
                  : Operation.CONCATENATE,
              call);
      case "ARRAY_POSITION" -> plain(Operation.ARRAY_POSITION, call);
      case "ARRAY_TO_STRING" -> plain(Operation.ARRAY_TO_STRING, call);
      case "ONLY_VALUE" -> plain(Operation.ONLY, call);
      case "SERIES" -> series(call);
      case "CONCAT" -> plain(Operation.CONCAT, call);
      case "CONCAT_WS" -> plain(Operation.CONCAT_WS, call);
      case "GREATEST" -> plain(Operation.GREATEST, call);
      case "LEAST" -> plain(Operation.LEAST, call);
      case "JSON_VALUE" -> jsonValue(call);
      case "JSON_QUERY" -> json(Operation.JSON_QUERY, call, "WITHOUT_ARRAY", "NULL", "NULL");
      case "JSON_EXISTS" -> json(Operation.JSON_EXISTS, call, "FALSE");
      case "EXACT_SECONDS" -> plain(Operation.EXACT_SECONDS, call);
      case "ARRAY" -> plain(Operation.ARRAY, call);
      case "CARDINALITY" -> plain(Operation.CARDINALITY, call);
      case "ITEM" -> plain(Operation.ELEMENT, call);
      case "QUANTIFIED" ->
          make(
              Operation.QUANTIFIED,
              operands(call.getOperands().subList(1, 3)),
              List.of(((RexLiteral) call.getOperands().get(0)).getValueAs(String.class)),
              call);
      case "TO_JSON" -> plain(Operation.TO_JSON, call);
      case "JSON_NAME" ->
          make(Operation.TO_JSON, operands(call.getOperands()), List.of("name"), call);
      case "JSON_MADE" -> expr(call.getOperands().get(0));
      case "TIMESTAMP_DIFF" -> plain(Operation.TIMESTAMP_DIFF, call);
      default ->
          make(
              Operation.FUNCTION,
              operands(call.getOperands()),
              List.of(name.toLowerCase(Locale.ROOT)),
              call);
    };
  }

  private Expr series(RexCall call) {
    List<Expr> operands = operands(call.getOperands());
    Kind step = operands.get(operands.size() - 1).type().kind();
    String function =
        step == Kind.INTERVAL_DAY_TIME
            ? "series_of_times"
            : step == Kind.INTERVAL_YEAR_MONTH ? "series_of_months" : "series";
    return make(Operation.FUNCTION, operands, List.of(function), call);
  }

  private Expr clock(String name, RexCall call) {
    if (now == null) {
      throw new EngineException(
          EngineException.Code.NOT_SUPPORTED,
          "not supported yet: " + name + " in a view",
          "compare with a column, or use it in a query that is asked once");
    }
    return now.now(TypeMapping.fromSql(call.getType()));
  }

  // ---- JSON: what to do on empty and on error is among the operands, as symbols

  private static String symbol(RexNode node) {
    return node instanceof RexLiteral l && l.getTypeName() == SqlTypeName.SYMBOL
        ? l.getValueAs(Enum.class).name()
        : null;
  }

  private Expr jsonValue(RexCall call) {
    List<RexNode> given = call.getOperands();
    String[] options = {"NULL", "NULL"};
    Expr[] defaults = new Expr[2];
    for (int i = 2; i < given.size(); i++) {
      String what = symbol(given.get(i));
      if (what == null) {
        continue;
      }
      Expr value = what.equals("DEFAULT") ? expr(given.get(++i)) : null;
      String when = i + 1 < given.size() ? symbol(given.get(++i)) : "EMPTY";
      int slot = "EMPTY".equals(when) ? 0 : 1;
      options[slot] = what;
      defaults[slot] = value;
    }
    List<Expr> operands = new ArrayList<>(operands(given.subList(0, 2)));
    for (Expr each : defaults) {
      if (each != null) {
        operands.add(each);
      }
    }
    return make(Operation.JSON_VALUE, operands, List.of(options), call);
  }

  private Expr json(Operation operation, RexCall call, String... usual) {
    List<String> options = new ArrayList<>(List.of(usual));
    int next = 0;
    for (RexNode operand : call.getOperands()) {
      String symbol = symbol(operand);
      if (symbol != null && next < options.size()) {
        options.set(next++, symbol);
      }
    }
    return make(operation, operands(call.getOperands().subList(0, 2)), options, call);
  }
}
