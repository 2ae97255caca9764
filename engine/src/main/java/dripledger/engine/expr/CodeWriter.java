package dripledger.engine.expr;

import dripledger.engine.EngineException;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.RowLayout;
import java.lang.reflect.Method;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexFieldAccess;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexLiteral;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.sql.SqlJsonEmptyOrError;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.util.DateString;
import org.apache.calcite.util.TimeString;
import org.apache.calcite.util.TimestampString;

/**
 * Writes the Java of one program. A value in the generated code is a pair: a variable with the
 * value (long for integers and times, double, boolean, BigDecimal, String, byte[]) and an
 * expression that tells whether it is NULL ("false" where that is known). Single use, single
 * thread.
 */
final class CodeWriter {
  private record Value(Kind kind, String value, String isNull) {
    boolean neverNull() {
      return isNull.equals("false");
    }
  }

  private final RowLayout in;
  private final Long now;
  private final StringBuilder fields = new StringBuilder();
  private StringBuilder body;
  private final List<RowLayout> layouts = new ArrayList<>();
  private int names;
  private boolean json;

  CodeWriter(RowLayout in, Long now) {
    this.in = in;
    this.now = now;
  }

  String fields() {
    return fields.toString();
  }

  /** What the constructor of the generated class must be given. */
  RowLayout[] layouts() {
    return layouts.toArray(new RowLayout[0]);
  }

  String predicateMethod(String name, RexNode condition) {
    body = new StringBuilder();
    Value v = write(condition);
    return "  private boolean "
        + name
        + "(byte[] b, int o) {\n"
        + body
        + "    return "
        + (v.neverNull() ? v.value : "!" + paren(v.isNull) + " && " + v.value)
        + ";\n  }\n";
  }

  String columnMethod(String name, int column, RexNode node, RowLayout out) {
    body = new StringBuilder();
    ColumnType type = out.schema().type(column);
    if (node instanceof RexInputRef ref && sameStorage(in.schema().type(ref.getIndex()), type)) {
      body.append(
          String.format(
              "    out.copy(%d, %s, b, o, %d);%n", column, layoutField(in), ref.getIndex()));
    } else {
      Value v = write(node);
      String set = setter(column, type, v);
      if (v.neverNull()) {
        body.append("    ").append(set).append('\n');
      } else if (type.nullable()) {
        line("if (%s) { out.setNull(%d); } else { %s }", v.isNull, column, set);
      } else {
        line(
            "if (%s) { throw new NullPointerException(\"%s must not be NULL\"); } else { %s }",
            v.isNull, out.schema().column(column).name().replace("\"", "\\\""), set);
      }
    }
    return "  private void "
        + name
        + "(byte[] b, int o, dripledger.engine.row.RowWriter out) {\n"
        + body
        + "  }\n";
  }

  private static boolean sameStorage(ColumnType a, ColumnType b) {
    if (a.kind() != b.kind()) {
      return false;
    }
    return a.kind() != Kind.DECIMAL || a.scale() == b.scale() && a.isVariable() == b.isVariable();
  }

  private String setter(int column, ColumnType type, Value v) {
    Value value = convert(v, type.kind());
    return switch (type.kind()) {
      case BOOLEAN -> "out.setBoolean(" + column + ", " + value.value + ");";
      case REAL, DOUBLE -> "out.setDouble(" + column + ", " + value.value + ");";
      case DECIMAL -> "out.setDecimal(" + column + ", " + value.value + ");";
      case VARCHAR -> "out.setString(" + column + ", " + value.value + ");";
      case VARBINARY, ROW, ARRAY ->
          "out.setBytes(" + column + ", " + value.value + ", 0, " + value.value + ".length);";
      default -> "out.setLong(" + column + ", " + value.value + ");";
    };
  }

  // ---- small helpers

  private String name() {
    return "v" + names++;
  }

  private void line(String format, Object... args) {
    body.append("    ").append(String.format(Locale.ROOT, format, args)).append('\n');
  }

  private static String paren(String s) {
    return s.matches("\\w+") ? s : "(" + s + ")";
  }

  private static String javaType(Kind kind) {
    return switch (kind) {
      case BOOLEAN -> "boolean";
      case REAL, DOUBLE -> "double";
      case DECIMAL -> "java.math.BigDecimal";
      case VARCHAR -> "String";
      case VARBINARY, ROW, ARRAY -> "byte[]";
      default -> "long";
    };
  }

  private static String defaultOf(Kind kind) {
    return switch (javaType(kind)) {
      case "boolean" -> "false";
      case "double" -> "0d";
      case "long" -> "0L";
      default -> "null";
    };
  }

  private static String either(List<Value> values) {
    List<String> parts =
        values.stream().map(Value::isNull).filter(s -> !s.equals("false")).distinct().toList();
    return parts.isEmpty() ? "false" : String.join(" || ", parts);
  }

  private static EngineException unsupported(String what) {
    return new EngineException(
        EngineException.Code.NOT_SUPPORTED, "not supported yet: " + what, null);
  }

  private String constant(String type, String initializer) {
    String name = "K" + names++;
    fields.append(String.format("  private static final %s %s = %s;%n", type, name, initializer));
    return name;
  }

  static String quote(String s) {
    StringBuilder out = new StringBuilder("\"");
    for (int i = 0; i < s.length(); i++) {
      char c = s.charAt(i);
      if (c == '"' || c == '\\') {
        out.append('\\').append(c);
      } else if (c < 0x20 || c > 0x7E) {
        out.append(String.format("\\u%04x", (int) c));
      } else {
        out.append(c);
      }
    }
    String quoted = out.append('"').toString();
    // These would end the literal if written as unicode escapes.
    return quoted.replace("\\u000a", "\\n").replace("\\u000d", "\\r");
  }

  /** A field of the generated class that holds the layout, set by its constructor. */
  private String layoutField(RowLayout layout) {
    int index = layouts.indexOf(layout);
    if (index < 0) {
      index = layouts.size();
      layouts.add(layout);
    }
    return "layouts[" + index + "]";
  }

  /** Declares a value that is computed only if none of the arguments is NULL. */
  private Value strict(Kind kind, List<Value> args, String expression) {
    String v = name();
    String isNull = either(args);
    if (isNull.equals("false")) {
      line("%s %s = %s;", javaType(kind), v, expression);
    } else {
      String n = name();
      line("boolean %s = %s;", n, isNull);
      line("%s %s = %s;", javaType(kind), v, defaultOf(kind));
      line("if (!%s) { %s = %s; }", n, v, expression);
      isNull = n;
    }
    return new Value(kind, v, isNull);
  }

  // ---- expressions

  private Value write(RexNode node) {
    if (node instanceof RexInputRef ref) {
      return column(in, "o", ref.getIndex());
    }
    if (node instanceof RexLiteral literal) {
      return literal(literal);
    }
    if (node instanceof RexFieldAccess access) {
      return fieldAccess(access);
    }
    if (node instanceof RexCall call) {
      return call(call);
    }
    throw unsupported(node.toString());
  }

  private Value column(RowLayout layout, String row, int index) {
    ColumnType type = layout.schema().type(index);
    String v = name();
    String at = row + " + " + layout.slotOffset(index);
    String slot = "dripledger.engine.row.Bytes.getLong(b, " + at + ")";
    String read =
        switch (type.kind()) {
          case BOOLEAN -> slot + " != 0";
          case REAL, DOUBLE -> "Double.longBitsToDouble(" + slot + ")";
          case DECIMAL -> layoutField(layout) + ".decimalValue(b, " + row + ", " + index + ")";
          case VARCHAR -> layoutField(layout) + ".stringValue(b, " + row + ", " + index + ")";
          case VARBINARY, ROW, ARRAY ->
              layoutField(layout) + ".binaryValue(b, " + row + ", " + index + ")";
          default -> slot;
        };
    if (!type.nullable()) {
      line("%s %s = %s;", javaType(type.kind()), v, read);
      return new Value(type.kind(), v, "false");
    }
    String n = name();
    line("boolean %s = (b[%s + %d] & %d) != 0;", n, row, index >>> 3, 1 << (index & 7));
    line("%s %s = %s ? %s : %s;", javaType(type.kind()), v, n, defaultOf(type.kind()), paren(read));
    return new Value(type.kind(), v, n);
  }

  /** A field of a nested ROW column, read in place; NULL if any ROW on the way is. */
  private Value fieldAccess(RexFieldAccess access) {
    List<Integer> path = new ArrayList<>();
    RexNode node = access;
    while (node instanceof RexFieldAccess step) {
      path.add(0, step.getField().getIndex());
      node = step.getReferenceExpr();
    }
    if (!(node instanceof RexInputRef ref)) {
      throw unsupported("a field of an expression that is not a column");
    }
    RowLayout layout = in;
    String row = "o";
    int column = ref.getIndex();
    String absent = name();
    line("boolean %s = false;", absent);
    for (int next : path) {
      RowLayout nested = layout.nested(column);
      String at = name();
      line(
          "%1$s = %1$s || (b[%2$s + %3$d] & %4$d) != 0;",
          absent, row, column >>> 3, 1 << (column & 7));
      line(
          "int %s = %s ? 0 : %s + (int) (dripledger.engine.row.Bytes.getLong(b, %s + %d) >>> 32);",
          at, absent, row, row, layout.slotOffset(column));
      layout = nested;
      row = at;
      column = next;
    }
    Kind kind = layout.schema().type(column).kind();
    String v = name();
    String n = name();
    line("boolean %s = true; %s %s = %s;", n, javaType(kind), v, defaultOf(kind));
    line("if (!%s) {", absent);
    Value inner = column(layout, row, column);
    line("%s = %s; %s = %s;", n, inner.isNull, v, inner.value);
    line("}");
    return new Value(kind, v, n);
  }

  private Value literal(RexLiteral literal) {
    ColumnType type = TypeMapping.fromSql(literal.getType());
    Kind kind = type.kind();
    if (literal.isNull()) {
      return new Value(
          kind,
          defaultOf(kind).equals("null") ? "(" + javaType(kind) + ") null" : defaultOf(kind),
          "true");
    }
    String text =
        switch (kind) {
          case BOOLEAN -> literal.getValueAs(Boolean.class).toString();
          case SMALLINT, INTEGER, BIGINT ->
              literal.getValueAs(BigDecimal.class).longValueExact() + "L";
          case REAL, DOUBLE ->
              "Double.longBitsToDouble("
                  + Double.doubleToLongBits(literal.getValueAs(Double.class))
                  + "L)";
          case DECIMAL ->
              constant(
                  "java.math.BigDecimal",
                  "new java.math.BigDecimal(\""
                      + literal
                          .getValueAs(BigDecimal.class)
                          .setScale(
                              Math.max(type.scale(), literal.getValueAs(BigDecimal.class).scale()))
                      + "\")");
          case VARCHAR -> quote(literal.getValueAs(String.class));
          case DATE -> literal.getValueAs(DateString.class).getDaysSinceEpoch() + "L";
          case TIME -> Casts.toTime(literal.getValueAs(TimeString.class).toString()) + "L";
          case TIMESTAMP ->
              Casts.toTimestamp(literal.getValueAs(TimestampString.class).toString()) + "L";
          case INTERVAL_DAY_TIME ->
              literal
                      .getValueAs(BigDecimal.class)
                      .multiply(BigDecimal.valueOf(1000))
                      .longValueExact()
                  + "L";
          case INTERVAL_YEAR_MONTH -> literal.getValueAs(BigDecimal.class).longValueExact() + "L";
          default -> throw unsupported("a literal of type " + type.sql());
        };
    return new Value(kind, text, "false");
  }

  private Value call(RexCall call) {
    Kind result = TypeMapping.fromSql(call.getType()).kind();
    switch (call.getKind()) {
      case AND:
        return logic(call.getOperands(), true);
      case OR:
        return logic(call.getOperands(), false);
      case NOT:
        {
          Value v = write(call.getOperands().get(0));
          return new Value(Kind.BOOLEAN, "!" + paren(v.value), v.isNull);
        }
      case CASE:
        return caseWhen(call.getOperands(), result);
      case IS_NULL:
        return new Value(Kind.BOOLEAN, paren(write(call.getOperands().get(0)).isNull), "false");
      case IS_NOT_NULL:
        return new Value(
            Kind.BOOLEAN, "!" + paren(write(call.getOperands().get(0)).isNull), "false");
      case IS_TRUE:
        return truth(call, "!%1$s && %2$s");
      case IS_NOT_TRUE:
        return truth(call, "%1$s || !%2$s");
      case IS_FALSE:
        return truth(call, "!%1$s && !%2$s");
      case IS_NOT_FALSE:
        return truth(call, "%1$s || %2$s");
      case EQUALS, NOT_EQUALS, LESS_THAN, LESS_THAN_OR_EQUAL, GREATER_THAN, GREATER_THAN_OR_EQUAL:
        return comparison(call);
      case IS_DISTINCT_FROM, IS_NOT_DISTINCT_FROM:
        return distinct(call);
      case PLUS, MINUS, TIMES, DIVIDE, MOD:
        return arithmetic(call, result);
      case MINUS_PREFIX:
        {
          Value v = convert(write(call.getOperands().get(0)), result);
          String e =
              switch (javaType(result)) {
                case "double" -> "-" + v.value;
                case "long" -> ranged("Math.negateExact(" + v.value + ")", result);
                default -> v.value + ".negate()";
              };
          return strict(result, List.of(v), e);
        }
      case PLUS_PREFIX:
        return write(call.getOperands().get(0));
      case CAST:
        return cast(write(call.getOperands().get(0)), TypeMapping.fromSql(call.getType()));
      case REINTERPRET:
        return write(call.getOperands().get(0));
      case LIKE:
        return like(call);
      case EXTRACT:
        return extract(call);
      case FLOOR, CEIL:
        if (call.getOperands().size() == 2) {
          return toUnit(call, result);
        }
        return function(call, result);
      case TRIM:
        return trim(call);
      case DEFAULT:
        throw unsupported("DEFAULT");
      default:
        return named(call, result);
    }
  }

  private Value truth(RexCall call, String format) {
    Value v = write(call.getOperands().get(0));
    return new Value(
        Kind.BOOLEAN, "(" + String.format(format, paren(v.isNull), paren(v.value)) + ")", "false");
  }

  private Value logic(List<RexNode> operands, boolean and) {
    String v = name();
    String n = name();
    line("boolean %s = %s, %s = false;", v, and, n);
    for (RexNode operand : operands) {
      Value x = write(operand);
      // A definite answer ends the chain; a NULL is remembered and the rest still decides.
      line(
          "if (%s && %s) { %s = %s; %s = false; } else { %s = %s || %s;",
          "!" + paren(x.isNull), (and ? "!" : "") + paren(x.value), v, !and, n, n, n, x.isNull);
    }
    line("}".repeat(operands.size()));
    return new Value(Kind.BOOLEAN, v, n);
  }

  private Value caseWhen(List<RexNode> operands, Kind result) {
    String v = name();
    String n = name();
    line("%s %s = %s; boolean %s = true;", javaType(result), v, defaultOf(result), n);
    int depth = 0;
    for (int i = 0; i + 1 < operands.size(); i += 2) {
      Value when = write(operands.get(i));
      line("if (!%s && %s) {", paren(when.isNull), paren(when.value));
      assign(v, n, operands.get(i + 1), result);
      line("} else {");
      depth++;
    }
    assign(v, n, operands.get(operands.size() - 1), result);
    line("}".repeat(depth));
    return new Value(result, v, n);
  }

  private void assign(String v, String n, RexNode node, Kind result) {
    Value x = write(node);
    if (x.isNull.equals("true")) {
      return;
    }
    Value converted = convert(x, result);
    line("%s = %s;", n, converted.isNull);
    line("%s = %s;", v, converted.value);
  }

  private Value comparison(RexCall call) {
    Value a = write(call.getOperands().get(0));
    Value b = write(call.getOperands().get(1));
    String op =
        switch (call.getKind()) {
          case EQUALS -> "==";
          case NOT_EQUALS -> "!=";
          case LESS_THAN -> "<";
          case LESS_THAN_OR_EQUAL -> "<=";
          case GREATER_THAN -> ">";
          default -> ">=";
        };
    return compare(a, b, op);
  }

  private Value compare(Value left, Value right, String op) {
    Kind kind = common(left.kind, right.kind);
    Value a = convert(left, kind);
    Value b = convert(right, kind);
    String e =
        switch (javaType(kind)) {
          case "long", "boolean" ->
              kind == Kind.BOOLEAN
                  ? "Boolean.compare(" + a.value + ", " + b.value + ") " + op + " 0"
                  : a.value + " " + op + " " + b.value;
          // PostgreSQL's order: NaN is above all and equal to itself.
          case "double" ->
              "Double.compare(" + a.value + " + 0d, " + b.value + " + 0d) " + op + " 0";
          case "String" ->
              op.equals("==")
                  ? a.value + ".equals(" + b.value + ")"
                  : op.equals("!=")
                      ? "!" + a.value + ".equals(" + b.value + ")"
                      : "dripledger.engine.expr.Builtins.compare("
                          + a.value
                          + ", "
                          + b.value
                          + ") "
                          + op
                          + " 0";
          case "byte[]" ->
              "java.util.Arrays.compareUnsigned(" + a.value + ", " + b.value + ") " + op + " 0";
          default -> a.value + ".compareTo(" + b.value + ") " + op + " 0";
        };
    if ((kind == Kind.ROW || kind == Kind.ARRAY) && !op.equals("==") && !op.equals("!=")) {
      throw unsupported("ordering of " + kind + " values");
    }
    return strict(Kind.BOOLEAN, List.of(a, b), e);
  }

  private Value distinct(RexCall call) {
    Value a = write(call.getOperands().get(0));
    Value b = write(call.getOperands().get(1));
    Value equal = compare(a, b, "==");
    boolean not = call.getKind() == SqlKind.IS_NOT_DISTINCT_FROM;
    String same =
        String.format(
            "(%1$s && %2$s || !%3$s && %4$s)",
            paren(a.isNull), paren(b.isNull), paren(equal.isNull), paren(equal.value));
    return new Value(Kind.BOOLEAN, not ? same : "!" + same, "false");
  }

  private static Kind common(Kind a, Kind b) {
    if (a == b) {
      return a;
    }
    if (a.isNumeric() && b.isNumeric()) {
      if (a.isFloating() || b.isFloating()) {
        return Kind.DOUBLE;
      }
      return a == Kind.DECIMAL || b == Kind.DECIMAL ? Kind.DECIMAL : Kind.BIGINT;
    }
    if (a == Kind.TIMESTAMP && b == Kind.DATE || a == Kind.DATE && b == Kind.TIMESTAMP) {
      return Kind.TIMESTAMP;
    }
    throw new EngineException(
        EngineException.Code.INVALID,
        "a " + a + " cannot be compared with a " + b,
        "cast one of them");
  }

  /** A lossless change of representation, as needed between operands. */
  private Value convert(Value v, Kind to) {
    Kind from = v.kind;
    if (from == to
        || javaType(from).equals(javaType(to)) && !(from == Kind.DATE && to == Kind.TIMESTAMP)) {
      return new Value(to, v.value, v.isNull);
    }
    if (v.isNull.equals("true")) {
      return new Value(to, "(" + javaType(to) + ") " + defaultOf(to), "true");
    }
    if (to.isFloating() && from.isInteger()) {
      return new Value(to, "((double) " + v.value + ")", v.isNull);
    }
    if (to.isFloating() && from == Kind.DECIMAL) {
      return strict(to, List.of(v), v.value + ".doubleValue()");
    }
    if (to == Kind.DECIMAL && from.isInteger()) {
      return new Value(to, "java.math.BigDecimal.valueOf(" + v.value + ")", v.isNull);
    }
    if (from == Kind.DATE && to == Kind.TIMESTAMP) {
      return strict(
          to, List.of(v), "dripledger.engine.expr.Casts.timestampOfDate(" + v.value + ")");
    }
    if (to == Kind.DECIMAL && from.isFloating()) {
      return strict(to, List.of(v), "dripledger.engine.expr.Casts.toDecimal(" + v.value + ")");
    }
    if (to.isInteger() && (from == Kind.DECIMAL || from.isFloating())) {
      return strict(to, List.of(v), "dripledger.engine.expr.Casts.toLong(" + v.value + ")");
    }
    throw unsupported("a " + from + " where a " + to + " is needed");
  }

  private static String ranged(String expression, Kind kind) {
    return switch (kind) {
      case SMALLINT -> "dripledger.engine.expr.Casts.shortRange(" + expression + ")";
      case INTEGER -> "dripledger.engine.expr.Casts.intRange(" + expression + ")";
      default -> expression;
    };
  }

  private Value arithmetic(RexCall call, Kind result) {
    Value a = write(call.getOperands().get(0));
    Value b = write(call.getOperands().get(1));
    SqlKind op = call.getKind();
    if (!result.isNumeric()) {
      return timeArithmetic(a, b, op, result);
    }
    if (!a.kind.isNumeric() || !b.kind.isNumeric()) {
      throw unsupported(call.toString());
    }
    // MOD of mixed operands is typed by its divisor; compute in what both fit.
    Kind in = op == SqlKind.MOD ? common(a.kind, b.kind) : result;
    if (in.isInteger() && (a.kind == Kind.DECIMAL || b.kind == Kind.DECIMAL)) {
      in = Kind.DECIMAL;
    }
    a = convert(a, in);
    b = convert(b, in);
    String x = a.value;
    String y = b.value;
    String builtins = "dripledger.engine.expr.Builtins.";
    String e =
        switch (javaType(in)) {
          case "long" ->
              ranged(
                  switch (op) {
                    case PLUS -> "Math.addExact(" + x + ", " + y + ")";
                    case MINUS -> "Math.subtractExact(" + x + ", " + y + ")";
                    case TIMES -> "Math.multiplyExact(" + x + ", " + y + ")";
                    case DIVIDE -> builtins + "divide(" + x + ", " + y + ")";
                    default -> builtins + "mod(" + x + ", " + y + ")";
                  },
                  in);
          case "double" ->
              switch (op) {
                case PLUS -> x + " + " + y;
                case MINUS -> x + " - " + y;
                case TIMES -> x + " * " + y;
                case DIVIDE -> builtins + "divide(" + x + ", " + y + ")";
                default -> throw unsupported("MOD of floating-point numbers");
              };
          default ->
              switch (op) {
                case PLUS -> x + ".add(" + y + ")";
                case MINUS -> x + ".subtract(" + y + ")";
                case TIMES -> x + ".multiply(" + y + ")";
                case DIVIDE ->
                    builtins
                        + "divide("
                        + x
                        + ", "
                        + y
                        + ", "
                        + Math.max(0, call.getType().getScale())
                        + ")";
                default -> builtins + "mod(" + x + ", " + y + ")";
              };
        };
    return convert(strict(in, List.of(a, b), e), result);
  }

  private Value timeArithmetic(Value a, Value b, SqlKind op, Kind result) {
    boolean minus = op == SqlKind.MINUS;
    if (a.kind == Kind.INTERVAL_DAY_TIME || a.kind == Kind.INTERVAL_YEAR_MONTH) {
      if (a.kind == b.kind) {
        return strict(
            result,
            List.of(a, b),
            (minus ? "Math.subtractExact(" : "Math.addExact(") + a.value + ", " + b.value + ")");
      }
      if (op == SqlKind.TIMES && b.kind.isInteger()) {
        return strict(
            result, List.of(a, b), "Math.multiplyExact(" + a.value + ", " + b.value + ")");
      }
      if (op == SqlKind.PLUS
          && (b.kind == Kind.TIMESTAMP || b.kind == Kind.DATE || b.kind == Kind.TIME)) {
        return timeArithmetic(b, a, op, result);
      }
    }
    if (op == SqlKind.TIMES && a.kind.isInteger()) {
      return timeArithmetic(b, a, op, result);
    }
    String amount = minus ? "-" + b.value : b.value;
    if (b.kind == Kind.INTERVAL_YEAR_MONTH) {
      String plus =
          a.kind == Kind.DATE && result == Kind.DATE ? "plusMonths(" : "timestampPlusMonths(";
      Value left = convert(a, result);
      return strict(
          result,
          List.of(left, b),
          "dripledger.engine.expr.Builtins." + plus + left.value + ", " + amount + ")");
    }
    if (b.kind == Kind.INTERVAL_DAY_TIME && a.kind == Kind.DATE && result == Kind.DATE) {
      return strict(
          result,
          List.of(a, b),
          "Math.addExact(" + a.value + ", Math.floorDiv(" + amount + ", 86400000000L))");
    }
    if (b.kind == Kind.INTERVAL_DAY_TIME && a.kind == Kind.TIME) {
      return strict(
          result, List.of(a, b), "Math.floorMod(" + a.value + " + " + amount + ", 86400000000L)");
    }
    if (b.kind == Kind.INTERVAL_DAY_TIME && (a.kind == Kind.TIMESTAMP || a.kind == Kind.DATE)) {
      Value left = convert(a, Kind.TIMESTAMP);
      return strict(result, List.of(left, b), "Math.addExact(" + left.value + ", " + amount + ")");
    }
    if (minus && result == Kind.INTERVAL_DAY_TIME) {
      Value left = convert(a, Kind.TIMESTAMP);
      Value right = convert(b, Kind.TIMESTAMP);
      return strict(
          result,
          List.of(left, right),
          "Math.subtractExact(" + left.value + ", " + right.value + ")");
    }
    throw unsupported("this arithmetic on " + a.kind + " and " + b.kind);
  }

  private Value cast(Value v, ColumnType to) {
    Kind from = v.kind;
    Kind kind = to.kind();
    if (v.isNull.equals("true")) {
      return new Value(kind, "(" + javaType(kind) + ") " + defaultOf(kind), "true");
    }
    String casts = "dripledger.engine.expr.Casts.";
    String x = v.value;
    String e;
    switch (kind) {
      case BOOLEAN:
        if (from == Kind.BOOLEAN) {
          return v;
        }
        e =
            from == Kind.VARCHAR
                ? casts + "toBoolean(" + x + ")"
                : from.isInteger() ? x + " != 0" : null;
        break;
      case SMALLINT, INTEGER, BIGINT:
        e =
            switch (from) {
              case SMALLINT, INTEGER, BIGINT -> x;
              case REAL, DOUBLE, DECIMAL, VARCHAR -> casts + "toLong(" + x + ")";
              case BOOLEAN -> "(" + x + " ? 1L : 0L)";
              case INTERVAL_DAY_TIME, INTERVAL_YEAR_MONTH -> null;
              default -> null;
            };
        e = e == null ? null : ranged(e, kind);
        break;
      case REAL, DOUBLE:
        e =
            from.isInteger()
                ? "(double) " + x
                : from == Kind.DECIMAL
                    ? x + ".doubleValue()"
                    : from == Kind.VARCHAR
                        ? casts + "toDouble(" + x + ")"
                        : from.isFloating() ? x : null;
        if (e != null && kind == Kind.REAL) {
          e = casts + "toReal(" + e + ")";
        }
        break;
      case DECIMAL:
        e =
            from.isInteger()
                ? "java.math.BigDecimal.valueOf(" + x + ")"
                : from == Kind.DECIMAL
                    ? x
                    : from == Kind.REAL
                        ? casts + "realToDecimal(" + x + ")"
                        : from == Kind.DOUBLE || from == Kind.VARCHAR
                            ? casts + "toDecimal(" + x + ")"
                            : null;
        if (e != null) {
          e = casts + "fit(" + e + ", " + to.precision() + ", " + to.scale() + ")";
        }
        break;
      case VARCHAR:
        e =
            switch (from) {
              case VARCHAR -> x;
              case DATE -> casts + "dateText(" + x + ")";
              case TIME -> casts + "timeText(" + x + ")";
              case TIMESTAMP -> casts + "timestampText(" + x + ")";
              case REAL -> casts + "realText(" + x + ")";
              case BOOLEAN, SMALLINT, INTEGER, BIGINT, DOUBLE, DECIMAL -> casts + "text(" + x + ")";
              default -> null;
            };
        if (e != null && to.precision() >= 0) {
          e = casts + "truncate(" + e + ", " + to.precision() + ")";
        }
        break;
      case DATE:
        e =
            from == Kind.DATE
                ? x
                : from == Kind.TIMESTAMP
                    ? casts + "dateOfTimestamp(" + x + ")"
                    : from == Kind.VARCHAR ? casts + "toDate(" + x + ")" : null;
        break;
      case TIME:
        e =
            from == Kind.TIME
                ? x
                : from == Kind.TIMESTAMP
                    ? casts + "timeOfTimestamp(" + x + ")"
                    : from == Kind.VARCHAR ? casts + "toTime(" + x + ")" : null;
        break;
      case TIMESTAMP:
        e =
            from == Kind.TIMESTAMP
                ? x
                : from == Kind.DATE
                    ? casts + "timestampOfDate(" + x + ")"
                    : from == Kind.VARCHAR ? casts + "toTimestamp(" + x + ")" : null;
        break;
      default:
        e = from == kind ? x : null;
    }
    if (e == null) {
      throw unsupported("CAST from " + from + " to " + to.sql());
    }
    return e.equals(x) ? new Value(kind, x, v.isNull) : strict(kind, List.of(v), e);
  }

  private Value like(RexCall call) {
    List<RexNode> operands = call.getOperands();
    Value text = write(operands.get(0));
    boolean ignoreCase = call.getOperator().getName().contains("ILIKE");
    if (call.getOperator().getName().startsWith("NOT")) {
      throw unsupported(call.getOperator().getName());
    }
    String escape = "\"\\\\\"";
    if (operands.size() == 3) {
      Value e = write(operands.get(2));
      escape = e.value;
    }
    Value pattern = write(operands.get(1));
    String compiled =
        "dripledger.engine.expr.Builtins.likePattern("
            + pattern.value
            + ", "
            + escape
            + ", "
            + ignoreCase
            + ")";
    if (operands.get(1) instanceof RexLiteral
        && !pattern.isNull.equals("true")
        && (operands.size() == 2 || operands.get(2) instanceof RexLiteral)) {
      compiled = constant("java.util.regex.Pattern", compiled);
    }
    return strict(
        Kind.BOOLEAN,
        List.of(text, pattern),
        "dripledger.engine.expr.Builtins.like(" + text.value + ", " + compiled + ")");
  }

  private static String unit(RexNode node) {
    Object value = ((RexLiteral) node).getValue();
    return String.valueOf(value);
  }

  private Value extract(RexCall call) {
    String unit = unit(call.getOperands().get(0));
    Value v = write(call.getOperands().get(1));
    if (v.kind != Kind.DATE && v.kind != Kind.TIMESTAMP && v.kind != Kind.TIME) {
      throw unsupported("EXTRACT from " + v.kind);
    }
    String method = v.kind == Kind.DATE ? "extractFromDate(" : "extractFromTimestamp(";
    return strict(
        Kind.BIGINT,
        List.of(v),
        "dripledger.engine.expr.Builtins." + method + v.value + ", \"" + unit + "\")");
  }

  private Value toUnit(RexCall call, Kind result) {
    Value v = write(call.getOperands().get(0));
    String method =
        (call.getKind() == SqlKind.FLOOR ? "floor" : "ceil")
            + (v.kind == Kind.DATE ? "Date(" : "Timestamp(");
    return strict(
        result,
        List.of(v),
        "dripledger.engine.expr.Builtins."
            + method
            + v.value
            + ", \""
            + unit(call.getOperands().get(1))
            + "\")");
  }

  private Value trim(RexCall call) {
    String flag = String.valueOf(((RexLiteral) call.getOperands().get(0)).getValue());
    Value characters = write(call.getOperands().get(1));
    Value text = write(call.getOperands().get(2));
    return strict(
        Kind.VARCHAR,
        List.of(characters, text),
        String.format(
            "dripledger.engine.expr.Builtins.trim(%s, %s, %s, %s)",
            text.value, characters.value, !flag.equals("TRAILING"), !flag.equals("LEADING")));
  }

  /** GREATEST and LEAST as PostgreSQL has them: NULLs are passed over. */
  private Value extreme(RexCall call, Kind result) {
    boolean greatest = call.getOperator().getName().startsWith("GREATEST");
    String v = name();
    String n = name();
    line("%s %s = %s; boolean %s = true;", javaType(result), v, defaultOf(result), n);
    for (RexNode operand : call.getOperands()) {
      Value x = convert(write(operand), result);
      line("if (!%s) {", paren(x.isNull));
      line("if (%s) { %s = %s; %s = false; } else {", n, v, x.value, n);
      Value better = compare(x, new Value(result, v, "false"), greatest ? ">" : "<");
      line("if (%s) { %s = %s; }", better.value, v, x.value);
      line("} }");
    }
    return new Value(result, v, n);
  }

  private Value named(RexCall call, Kind result) {
    String name = call.getOperator().getName().toUpperCase(Locale.ROOT);
    switch (name) {
      case "CURRENT_TIMESTAMP", "LOCALTIMESTAMP", "CURRENT_DATE", "NOW":
        if (now == null) {
          throw new EngineException(
              EngineException.Code.NOT_SUPPORTED,
              "not supported yet: " + name + " in a view",
              "compare with a column, or use it in a query that is asked once");
        }
        return new Value(
            result, (result == Kind.DATE ? Math.floorDiv(now, Casts.DAY) : now) + "L", "false");
      case "||":
        {
          Value a = write(call.getOperands().get(0));
          Value b = write(call.getOperands().get(1));
          a = a.kind == Kind.VARCHAR ? a : cast(a, ColumnType.varchar(-1));
          b = b.kind == Kind.VARCHAR ? b : cast(b, ColumnType.varchar(-1));
          return strict(Kind.VARCHAR, List.of(a, b), a.value + ".concat(" + b.value + ")");
        }
      case "GREATEST", "LEAST":
        return extreme(call, result);
      case "CONCAT":
        return concat(call);
      case "JSON_VALUE":
        return jsonValue(call, result);
      case "JSON_QUERY":
        return jsonQuery(call);
      case "JSON_EXISTS":
        return jsonExists(call);
      case "EXACT_SECONDS":
        {
          Value v = convert(write(call.getOperands().get(0)), Kind.TIMESTAMP);
          return strict(
              Kind.DECIMAL,
              List.of(v),
              String.format(
                  "dripledger.engine.expr.Builtins.exact_seconds(%s, %s)",
                  v.value, write(call.getOperands().get(1)).value));
        }
      case "TIMESTAMP_DIFF":
        {
          Value from = convert(write(call.getOperands().get(1)), Kind.TIMESTAMP);
          Value to = convert(write(call.getOperands().get(2)), Kind.TIMESTAMP);
          return strict(
              Kind.BIGINT,
              List.of(from, to),
              String.format(
                  "dripledger.engine.expr.Builtins.timestamp_diff(%s, %s, %s)",
                  write(call.getOperands().get(0)).value, from.value, to.value));
        }
      default:
        return function(call, result);
    }
  }

  private Value concat(RexCall call) {
    String v = name();
    line("StringBuilder %s = new StringBuilder();", v);
    for (RexNode operand : call.getOperands()) {
      Value x = cast(write(operand), ColumnType.varchar(-1));
      line("if (!%s) { %s.append(%s); }", paren(x.isNull), v, x.value);
    }
    return new Value(Kind.VARCHAR, v + ".toString()", "false");
  }

  /** A strict function of {@link Builtins}, chosen by name, number and kinds of arguments. */
  private Value function(RexCall call, Kind result) {
    String name = call.getOperator().getName().toLowerCase(Locale.ROOT);
    List<Value> args = call.getOperands().stream().map(this::write).toList();
    Method best = null;
    for (Method m : Builtins.class.getMethods()) {
      if (m.getName().equals(name)
          && m.getParameterCount() == args.size()
          && accepts(m, args)
          && (best == null || exactness(m, args) > exactness(best, args))) {
        best = m;
      }
    }
    if (best == null) {
      throw unsupported(
          "function "
              + name
              + "("
              + String.join(", ", args.stream().map(a -> a.kind.name()).toList())
              + ")");
    }
    List<Value> converted = new ArrayList<>();
    List<String> texts = new ArrayList<>();
    for (int i = 0; i < args.size(); i++) {
      Class<?> p = best.getParameterTypes()[i];
      Value a = args.get(i);
      Kind want = p == double.class ? Kind.DOUBLE : p == BigDecimal.class ? Kind.DECIMAL : a.kind;
      Value c = convert(a, want);
      converted.add(c);
      texts.add(c.value);
    }
    Kind returned =
        best.getReturnType() == double.class
            ? Kind.DOUBLE
            : best.getReturnType() == BigDecimal.class
                ? Kind.DECIMAL
                : best.getReturnType() == String.class
                    ? Kind.VARCHAR
                    : best.getReturnType() == boolean.class ? Kind.BOOLEAN : Kind.BIGINT;
    String e =
        "dripledger.engine.expr.Builtins." + best.getName() + "(" + String.join(", ", texts) + ")";
    Value out = strict(returned, converted, e);
    if (returned == Kind.BIGINT && (result == Kind.INTEGER || result == Kind.SMALLINT)) {
      return strict(result, List.of(out), ranged(out.value, result));
    }
    return convert(out, result);
  }

  private static boolean accepts(Method m, List<Value> args) {
    for (int i = 0; i < args.size(); i++) {
      Class<?> p = m.getParameterTypes()[i];
      Kind k = args.get(i).kind;
      boolean fits =
          p == long.class
              ? k.isInteger()
              : p == double.class || p == BigDecimal.class
                  ? k.isNumeric()
                  : p == String.class ? k == Kind.VARCHAR : p == boolean.class && k == Kind.BOOLEAN;
      if (p == BigDecimal.class && k.isFloating() || !fits) {
        return false;
      }
    }
    return true;
  }

  private static long exactness(Method m, List<Value> args) {
    long score = 0;
    for (int i = 0; i < args.size(); i++) {
      Class<?> p = m.getParameterTypes()[i];
      Kind k = args.get(i).kind;
      boolean exact =
          p == long.class && k.isInteger()
              || p == double.class && k.isFloating()
              || p == BigDecimal.class && k == Kind.DECIMAL;
      score += exact ? 1 : 0;
    }
    return score;
  }

  // ---- JSON

  private String jsonField() {
    if (!json) {
      fields.append(
          "  private final dripledger.engine.expr.JsonBuiltins json ="
              + " new dripledger.engine.expr.JsonBuiltins();\n");
      json = true;
    }
    return "json";
  }

  private static String symbol(RexNode node) {
    return node instanceof RexLiteral l && l.getTypeName() == SqlTypeName.SYMBOL
        ? String.valueOf(l.getValueAs(Enum.class).name())
        : null;
  }

  private Value jsonValue(RexCall call, Kind result) {
    List<RexNode> operands = call.getOperands();
    Value text = write(operands.get(0));
    Value path = write(operands.get(1));
    String[] behavior = {"NULL", "NULL"};
    String[] fallback = {"null", "null"};
    List<RexNode> rest = operands.subList(2, operands.size());
    for (int i = 0; i < rest.size(); i++) {
      String what = symbol(rest.get(i));
      if (what == null) {
        continue;
      }
      String value = "null";
      if (what.equals("DEFAULT")) {
        Value given = cast(write(rest.get(++i)), ColumnType.varchar(-1));
        value = given.isNull.equals("true") ? "null" : given.value;
      }
      String when = i + 1 < rest.size() ? symbol(rest.get(++i)) : "EMPTY";
      int slot = SqlJsonEmptyOrError.EMPTY.name().equals(when) ? 0 : 1;
      behavior[slot] = what;
      fallback[slot] = value;
    }
    String found = name();
    line(
        "String %s = %s ? null : %s.value(%s, %s, \"%s\", %s, \"%s\", %s);",
        found,
        either(List.of(text, path)),
        jsonField(),
        text.value,
        path.value,
        behavior[0],
        fallback[0],
        behavior[1],
        fallback[1]);
    Value raw = new Value(Kind.VARCHAR, found, found + " == null");
    ColumnType to = TypeMapping.fromSql(call.getType());
    return result == Kind.VARCHAR ? raw : cast(raw, to);
  }

  private Value jsonQuery(RexCall call) {
    List<RexNode> operands = call.getOperands();
    Value text = write(operands.get(0));
    Value path = write(operands.get(1));
    List<String> symbols =
        operands.stream().map(CodeWriter::symbol).filter(s -> s != null).toList();
    String wrapper = symbols.isEmpty() ? "WITHOUT_ARRAY" : symbols.get(0);
    String onEmpty = symbols.size() > 1 ? symbols.get(1) : "NULL";
    String onError = symbols.size() > 2 ? symbols.get(2) : "NULL";
    String found = name();
    line(
        "String %s = %s ? null : %s.query(%s, %s, \"%s\", \"%s\", \"%s\");",
        found,
        either(List.of(text, path)),
        jsonField(),
        text.value,
        path.value,
        wrapper,
        onEmpty,
        onError);
    return new Value(Kind.VARCHAR, found, found + " == null");
  }

  private Value jsonExists(RexCall call) {
    List<RexNode> operands = call.getOperands();
    Value text = write(operands.get(0));
    Value path = write(operands.get(1));
    String onError = operands.size() > 2 ? symbol(operands.get(2)) : "FALSE";
    String found = name();
    line(
        "Boolean %s = %s ? null : %s.exists(%s, %s, \"%s\");",
        found, either(List.of(text, path)), jsonField(), text.value, path.value, onError);
    return new Value(Kind.BOOLEAN, found + ".booleanValue()", found + " == null");
  }
}
