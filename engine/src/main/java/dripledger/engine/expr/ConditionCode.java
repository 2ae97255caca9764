package dripledger.engine.expr;

import static dripledger.engine.expr.Code.TEXT;
import static dripledger.engine.expr.Code.defaultOf;
import static dripledger.engine.expr.Code.javaType;
import static dripledger.engine.expr.Code.paren;
import static dripledger.engine.expr.Code.unsupported;

import dripledger.engine.expr.Code.Value;
import dripledger.engine.row.ColumnType.Kind;
import java.util.List;

/** Conditions: comparisons, logic of three values, CASE, GREATEST and LEAST. */
final class ConditionCode {
  private final Code code;
  private final ExpressionCode expressions;
  private final ConversionCode conversions;

  ConditionCode(Code code, ExpressionCode expressions, ConversionCode conversions) {
    this.code = code;
    this.expressions = expressions;
    this.conversions = conversions;
  }

  Value not(Expr.Call call) {
    Value v = expressions.write(call.operand(0));
    return new Value(Kind.BOOLEAN, "!" + paren(v.value()), v.isNull());
  }

  Value isNull(Expr.Call call, boolean wanted) {
    String isNull = paren(expressions.write(call.operand(0)).isNull());
    return new Value(Kind.BOOLEAN, (wanted ? "" : "!") + isNull, "false");
  }

  Value truth(Expr.Call call, String format) {
    Value v = expressions.write(call.operand(0));
    return new Value(
        Kind.BOOLEAN,
        "(" + String.format(format, paren(v.isNull()), paren(v.value())) + ")",
        "false");
  }

  Value logic(List<Expr> operands, boolean and) {
    String v = code.name();
    String n = code.name();
    code.line("boolean %s = %s, %s = false;", v, and, n);
    for (Expr operand : operands) {
      Value x = expressions.write(operand);
      // A definite answer ends the chain; a NULL is remembered and the rest still decides.
      code.line(
          "if (%s && %s) { %s = %s; %s = false; } else { %s = %s || %s;",
          "!" + paren(x.isNull()),
          (and ? "!" : "") + paren(x.value()),
          v,
          !and,
          n,
          n,
          n,
          x.isNull());
    }
    code.line("}".repeat(operands.size()));
    return new Value(Kind.BOOLEAN, v, n);
  }

  Value caseWhen(List<Expr> operands, Kind result) {
    String v = code.name();
    String n = code.name();
    code.line("%s %s = %s; boolean %s = true;", javaType(result), v, defaultOf(result), n);
    int depth = 0;
    for (int i = 0; i + 1 < operands.size(); i += 2) {
      Value when = expressions.write(operands.get(i));
      code.line("if (!%s && %s) {", paren(when.isNull()), paren(when.value()));
      assign(v, n, operands.get(i + 1), result);
      code.line("} else {");
      depth++;
    }
    assign(v, n, operands.get(operands.size() - 1), result);
    code.line("}".repeat(depth));
    return new Value(result, v, n);
  }

  private void assign(String v, String n, Expr node, Kind result) {
    Value x = expressions.write(node);
    if (x.alwaysNull()) {
      return;
    }
    Value converted = conversions.convert(x, result);
    code.line("%s = %s;", n, converted.isNull());
    code.line("%s = %s;", v, converted.value());
  }

  Value comparison(Expr.Call call) {
    Value a = expressions.write(call.operand(0));
    Value b = expressions.write(call.operand(1));
    String op =
        switch (call.operation()) {
          case EQUAL -> "==";
          case NOT_EQUAL -> "!=";
          case LESS -> "<";
          case LESS_OR_EQUAL -> "<=";
          case GREATER -> ">";
          default -> ">=";
        };
    return compare(a, b, op);
  }

  Value compare(Value left, Value right, String op) {
    Kind kind = ConversionCode.common(left.kind(), right.kind());
    Value a = conversions.convert(left, kind);
    Value b = conversions.convert(right, kind);
    String e =
        switch (javaType(kind)) {
          case "long", "boolean" ->
              kind == Kind.BOOLEAN
                  ? "Boolean.compare(" + a.value() + ", " + b.value() + ") " + op + " 0"
                  : a.value() + " " + op + " " + b.value();
          // PostgreSQL's order: NaN is above all and equal to itself.
          case "double" ->
              "Double.compare(" + a.value() + " + 0d, " + b.value() + " + 0d) " + op + " 0";
          case "String" ->
              op.equals("==")
                  ? a.value() + ".equals(" + b.value() + ")"
                  : op.equals("!=")
                      ? "!" + a.value() + ".equals(" + b.value() + ")"
                      : TEXT + "compare(" + a.value() + ", " + b.value() + ") " + op + " 0";
          case "byte[]" ->
              "java.util.Arrays.compareUnsigned(" + a.value() + ", " + b.value() + ") " + op + " 0";
          default -> a.value() + ".compareTo(" + b.value() + ") " + op + " 0";
        };
    if ((kind == Kind.ROW || kind == Kind.ARRAY) && !op.equals("==") && !op.equals("!=")) {
      throw unsupported("ordering of " + kind + " values");
    }
    return code.strict(Kind.BOOLEAN, List.of(a, b), e);
  }

  Value distinct(Expr.Call call) {
    Value a = expressions.write(call.operand(0));
    Value b = expressions.write(call.operand(1));
    Value equal = compare(a, b, "==");
    boolean not = call.operation() == Operation.NOT_DISTINCT;
    String same =
        String.format(
            "(%1$s && %2$s || !%3$s && %4$s)",
            paren(a.isNull()), paren(b.isNull()), paren(equal.isNull()), paren(equal.value()));
    return new Value(Kind.BOOLEAN, not ? same : "!" + same, "false");
  }

  /** GREATEST and LEAST as PostgreSQL has them: NULLs are passed over. */
  Value extreme(Expr.Call call, Kind result) {
    boolean greatest = call.operation() == Operation.GREATEST;
    String v = code.name();
    String n = code.name();
    code.line("%s %s = %s; boolean %s = true;", javaType(result), v, defaultOf(result), n);
    for (Expr operand : call.operands()) {
      Value x = conversions.convert(expressions.write(operand), result);
      code.line("if (!%s) {", paren(x.isNull()));
      code.line("if (%s) { %s = %s; %s = false; } else {", n, v, x.value(), n);
      Value better = compare(x, new Value(result, v, "false"), greatest ? ">" : "<");
      code.line("if (%s) { %s = %s; }", better.value(), v, x.value());
      code.line("} }");
    }
    return new Value(result, v, n);
  }
}
