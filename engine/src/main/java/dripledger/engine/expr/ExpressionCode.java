package dripledger.engine.expr;

import static dripledger.engine.expr.Code.defaultOf;
import static dripledger.engine.expr.Code.javaType;
import static dripledger.engine.expr.Code.paren;
import static dripledger.engine.expr.Code.quote;
import static dripledger.engine.expr.Code.unsupported;

import dripledger.engine.expr.Code.Value;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.RowLayout;
import java.math.BigDecimal;

/**
 * Writes expressions over the columns of a row that the generated method knows as {@code b} (bytes)
 * and {@code o} (where it starts): columns and constants itself, everything else by the emitter of
 * its family.
 */
final class ExpressionCode {
  private final Code code;
  private final RowLayout in;
  private final ConditionCode conditions;
  private final ArithmeticCode arithmetic;
  private final TimeCode times;
  private final TextCode text;
  private final JsonCode json;
  private final FunctionCode functions;
  private final ArrayCode arrays;
  private final ConversionCode conversions;

  ExpressionCode(Code code, RowLayout in, ConversionCode conversions) {
    this.code = code;
    this.in = in;
    this.conversions = conversions;
    conditions = new ConditionCode(code, this, conversions);
    times = new TimeCode(code, this, conversions);
    arithmetic = new ArithmeticCode(code, this, conversions, times);
    text = new TextCode(code, this, conversions);
    json = new JsonCode(code, this, conversions);
    functions = new FunctionCode(code, this, conversions);
    arrays = new ArrayCode(code, this, conditions, conversions);
  }

  /** Writes what the value takes and answers how it is called. */
  Value write(Expr expr) {
    if (expr instanceof Expr.Column c) {
      return column(in, "o", c.index());
    }
    if (expr instanceof Expr.Constant c) {
      return constant(c);
    }
    if (expr instanceof Expr.Field f) {
      return field(f);
    }
    if (expr instanceof Expr.Parameter p) {
      throw new IllegalStateException("value " + p.index() + " is not known yet");
    }
    return call((Expr.Call) expr);
  }

  private Value column(RowLayout layout, String row, int index) {
    ColumnType type = layout.schema().type(index);
    String v = code.name();
    String at = row + " + " + layout.slotOffset(index);
    String slot = "dripledger.engine.row.Bytes.getLong(b, " + at + ")";
    String read =
        switch (type.kind()) {
          case BOOLEAN -> slot + " != 0";
          case REAL, DOUBLE -> "Double.longBitsToDouble(" + slot + ")";
          case DECIMAL -> code.layout(layout) + ".decimalValue(b, " + row + ", " + index + ")";
          case VARCHAR -> code.layout(layout) + ".stringValue(b, " + row + ", " + index + ")";
          case VARBINARY, ROW, ARRAY ->
              code.layout(layout) + ".binaryValue(b, " + row + ", " + index + ")";
          default -> slot;
        };
    if (!type.nullable()) {
      code.line("%s %s = %s;", javaType(type.kind()), v, read);
      return new Value(type.kind(), v, "false");
    }
    String n = code.name();
    code.line("boolean %s = (b[%s + %d] & %d) != 0;", n, row, index >>> 3, 1 << (index & 7));
    code.line(
        "%s %s = %s ? %s : %s;", javaType(type.kind()), v, n, defaultOf(type.kind()), paren(read));
    return new Value(type.kind(), v, n);
  }

  /** A field of a nested ROW column, read in place; NULL if any ROW on the way is. */
  private Value field(Expr.Field field) {
    RowLayout layout = in;
    String row = "o";
    int column = field.column();
    String absent = code.name();
    code.line("boolean %s = false;", absent);
    for (int next : field.path()) {
      RowLayout nested = layout.nested(column);
      String at = code.name();
      code.line(
          "%1$s = %1$s || (b[%2$s + %3$d] & %4$d) != 0;",
          absent, row, column >>> 3, 1 << (column & 7));
      code.line(
          "int %s = %s ? 0 : %s + (int) (dripledger.engine.row.Bytes.getLong(b, %s + %d) >>> 32);",
          at, absent, row, row, layout.slotOffset(column));
      layout = nested;
      row = at;
      column = next;
    }
    Kind kind = layout.schema().type(column).kind();
    String v = code.name();
    String n = code.name();
    code.line("boolean %s = true; %s %s = %s;", n, javaType(kind), v, defaultOf(kind));
    code.line("if (!%s) {", absent);
    Value inner = column(layout, row, column);
    code.line("%s = %s; %s = %s;", n, inner.isNull(), v, inner.value());
    code.line("}");
    return new Value(kind, v, n);
  }

  /** A text as part of the source, for what is made of it once. */
  Value literal(Expr.Constant text) {
    return text.value() == null
        ? Value.nothing(Kind.VARCHAR)
        : new Value(Kind.VARCHAR, quote((String) text.value()), "false");
  }

  private Value constant(Expr.Constant constant) {
    Kind kind = constant.type().kind();
    Object value = constant.value();
    if (value == null) {
      return Value.nothing(kind);
    }
    String written =
        switch (kind) {
          case BOOLEAN -> value.toString();
          case REAL, DOUBLE ->
              "Double.longBitsToDouble(" + Double.doubleToLongBits((Double) value) + "L)";
          case DECIMAL ->
              code.constant(
                  "java.math.BigDecimal",
                  "new java.math.BigDecimal(\"" + (BigDecimal) value + "\")");
          case VARCHAR -> code.text((String) value);
          case VARBINARY, ROW, ARRAY ->
              throw unsupported("a literal of type " + constant.type().sql());
          default -> code.number((Long) value);
        };
    return new Value(kind, written, "false");
  }

  private Value call(Expr.Call call) {
    Kind result = call.type().kind();
    return switch (call.operation()) {
      case AND -> conditions.logic(call.operands(), true);
      case OR -> conditions.logic(call.operands(), false);
      case NOT -> conditions.not(call);
      case CASE -> conditions.caseWhen(call.operands(), result);
      case IS_NULL -> conditions.isNull(call, true);
      case IS_NOT_NULL -> conditions.isNull(call, false);
      case IS_TRUE -> conditions.truth(call, "!%1$s && %2$s");
      case IS_NOT_TRUE -> conditions.truth(call, "%1$s || !%2$s");
      case IS_FALSE -> conditions.truth(call, "!%1$s && !%2$s");
      case IS_NOT_FALSE -> conditions.truth(call, "%1$s || %2$s");
      case EQUAL, NOT_EQUAL, LESS, LESS_OR_EQUAL, GREATER, GREATER_OR_EQUAL ->
          conditions.comparison(call);
      case DISTINCT, NOT_DISTINCT -> conditions.distinct(call);
      case GREATEST, LEAST -> conditions.extreme(call, result);
      case PLUS, MINUS, TIMES, DIVIDE, MODULO -> arithmetic.arithmetic(call, result);
      case NEGATE -> arithmetic.negate(call, result);
      case CAST -> conversions.cast(write(call.operand(0)), call.type());
      case TRY_CAST -> conversions.tryCast(write(call.operand(0)), call.type());
      case LIKE, ILIKE -> text.like(call);
      case TRIM -> text.trim(call);
      case CONCATENATE -> text.concatenate(call);
      case CONCAT -> text.concat(call);
      case CONCAT_WS -> text.concatWithSeparator(call);
      case EXTRACT -> times.extract(call);
      case FLOOR_TO, CEIL_TO -> times.toUnit(call, result);
      case EXACT_SECONDS -> times.exactSeconds(call);
      case TIMESTAMP_DIFF -> times.difference(call);
      case JSON_VALUE -> json.jsonValue(call, result);
      case JSON_QUERY -> json.jsonQuery(call);
      case JSON_EXISTS -> json.jsonExists(call);
      case TO_JSON -> text.toJson(call);
      case ARRAY -> arrays.array(call);
      case CARDINALITY -> arrays.cardinality(call);
      case ELEMENT -> arrays.element(call);
      case QUANTIFIED -> arrays.quantified(call);
      case ONLY -> arrays.only(call);
      case ARRAY_CONCATENATE -> arrays.concatenate(call);
      case ARRAY_POSITION -> arrays.position(call, result);
      case ARRAY_TO_STRING -> arrays.toText(call);
      case FUNCTION -> functions.function(call, result);
    };
  }
}
