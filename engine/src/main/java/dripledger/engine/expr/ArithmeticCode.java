package dripledger.engine.expr;

import static dripledger.engine.expr.Code.NUMBERS;
import static dripledger.engine.expr.Code.javaType;
import static dripledger.engine.expr.Code.unsupported;

import dripledger.engine.expr.Code.Value;
import dripledger.engine.row.ColumnType.Kind;
import java.util.List;

/** Arithmetic on numbers. */
final class ArithmeticCode {
  private final Code code;
  private final ExpressionCode expressions;
  private final ConversionCode conversions;
  private final TimeCode times;

  ArithmeticCode(
      Code code, ExpressionCode expressions, ConversionCode conversions, TimeCode times) {
    this.code = code;
    this.expressions = expressions;
    this.conversions = conversions;
    this.times = times;
  }

  Value arithmetic(Expr.Call call, Kind result) {
    Value a = expressions.write(call.operand(0));
    Value b = expressions.write(call.operand(1));
    Operation op = call.operation();
    if (!result.isNumeric()) {
      return times.arithmetic(a, b, op, result);
    }
    if (!a.kind().isNumeric() || !b.kind().isNumeric()) {
      throw unsupported(op.sign() + " of " + a.kind() + " and " + b.kind());
    }
    // MOD of mixed operands is typed by its divisor; compute in what both fit.
    Kind in = op == Operation.MODULO ? ConversionCode.common(a.kind(), b.kind()) : result;
    if (in.isInteger() && (a.kind() == Kind.DECIMAL || b.kind() == Kind.DECIMAL)) {
      in = Kind.DECIMAL;
    }
    a = conversions.convert(a, in);
    b = conversions.convert(b, in);
    String x = a.value();
    String y = b.value();
    String e =
        switch (javaType(in)) {
          case "long" ->
              ConversionCode.ranged(
                  switch (op) {
                    case PLUS -> "Math.addExact(" + x + ", " + y + ")";
                    case MINUS -> "Math.subtractExact(" + x + ", " + y + ")";
                    case TIMES -> "Math.multiplyExact(" + x + ", " + y + ")";
                    case DIVIDE -> NUMBERS + "divide(" + x + ", " + y + ")";
                    default -> NUMBERS + "mod(" + x + ", " + y + ")";
                  },
                  in);
          case "double" ->
              switch (op) {
                case PLUS -> x + " + " + y;
                case MINUS -> x + " - " + y;
                case TIMES -> x + " * " + y;
                case DIVIDE -> NUMBERS + "divide(" + x + ", " + y + ")";
                default -> throw unsupported("MOD of floating-point numbers");
              };
          default ->
              switch (op) {
                case PLUS -> x + ".add(" + y + ")";
                case MINUS -> x + ".subtract(" + y + ")";
                case TIMES -> x + ".multiply(" + y + ")";
                case DIVIDE ->
                    NUMBERS
                        + "divide("
                        + x
                        + ", "
                        + y
                        + ", "
                        + Math.max(0, call.type().scale())
                        + ")";
                default -> NUMBERS + "mod(" + x + ", " + y + ")";
              };
        };
    return conversions.convert(code.strict(in, List.of(a, b), e), result);
  }

  Value negate(Expr.Call call, Kind result) {
    Value v = conversions.convert(expressions.write(call.operand(0)), result);
    String e =
        switch (javaType(result)) {
          case "double" -> "-" + v.value();
          case "long" -> ConversionCode.ranged("Math.negateExact(" + v.value() + ")", result);
          default -> v.value() + ".negate()";
        };
    return code.strict(result, List.of(v), e);
  }
}
