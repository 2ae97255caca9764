package dripledger.engine.expr;

import static dripledger.engine.expr.Code.TIMES;
import static dripledger.engine.expr.Code.unsupported;

import dripledger.engine.expr.Code.Value;
import dripledger.engine.row.ColumnType.Kind;
import java.util.List;

/** Dates, times and intervals. */
final class TimeCode {
  private final Code code;
  private final ExpressionCode expressions;
  private final ConversionCode conversions;

  TimeCode(Code code, ExpressionCode expressions, ConversionCode conversions) {
    this.code = code;
    this.expressions = expressions;
    this.conversions = conversions;
  }

  Value arithmetic(Value a, Value b, Operation op, Kind result) {
    boolean minus = op == Operation.MINUS;
    if (a.kind() == Kind.INTERVAL_DAY_TIME || a.kind() == Kind.INTERVAL_YEAR_MONTH) {
      if (a.kind() == b.kind()) {
        return code.strict(
            result,
            List.of(a, b),
            (minus ? "Math.subtractExact(" : "Math.addExact(")
                + a.value()
                + ", "
                + b.value()
                + ")");
      }
      if (op == Operation.TIMES && b.kind().isInteger()) {
        return code.strict(
            result, List.of(a, b), "Math.multiplyExact(" + a.value() + ", " + b.value() + ")");
      }
      if (op == Operation.PLUS
          && (b.kind() == Kind.TIMESTAMP || b.kind() == Kind.DATE || b.kind() == Kind.TIME)) {
        return arithmetic(b, a, op, result);
      }
    }
    if (op == Operation.TIMES && a.kind().isInteger()) {
      return arithmetic(b, a, op, result);
    }
    String amount = minus ? "-" + b.value() : b.value();
    if (b.kind() == Kind.INTERVAL_YEAR_MONTH) {
      String plus =
          a.kind() == Kind.DATE && result == Kind.DATE ? "plusMonths(" : "timestampPlusMonths(";
      Value left = conversions.convert(a, result);
      return code.strict(
          result, List.of(left, b), TIMES + plus + left.value() + ", " + amount + ")");
    }
    if (b.kind() == Kind.INTERVAL_DAY_TIME && a.kind() == Kind.DATE && result == Kind.DATE) {
      return code.strict(
          result,
          List.of(a, b),
          "Math.addExact(" + a.value() + ", Math.floorDiv(" + amount + ", 86400000000L))");
    }
    if (b.kind() == Kind.INTERVAL_DAY_TIME && a.kind() == Kind.TIME) {
      return code.strict(
          result, List.of(a, b), "Math.floorMod(" + a.value() + " + " + amount + ", 86400000000L)");
    }
    if (b.kind() == Kind.INTERVAL_DAY_TIME
        && (a.kind() == Kind.TIMESTAMP || a.kind() == Kind.DATE)) {
      Value left = conversions.convert(a, Kind.TIMESTAMP);
      return code.strict(
          result, List.of(left, b), "Math.addExact(" + left.value() + ", " + amount + ")");
    }
    if (minus && result == Kind.INTERVAL_DAY_TIME) {
      Kind of = a.kind() == Kind.TIME ? Kind.TIME : Kind.TIMESTAMP;
      Value left = conversions.convert(a, of);
      Value right = conversions.convert(b, of);
      return code.strict(
          result,
          List.of(left, right),
          "Math.subtractExact(" + left.value() + ", " + right.value() + ")");
    }
    throw unsupported("this arithmetic on " + a.kind() + " and " + b.kind());
  }

  Value extract(Expr.Call call) {
    String unit = call.options().get(0);
    Value v = expressions.write(call.operand(0));
    if (v.kind() != Kind.DATE && v.kind() != Kind.TIMESTAMP && v.kind() != Kind.TIME) {
      throw unsupported("EXTRACT from " + v.kind());
    }
    String method = v.kind() == Kind.DATE ? "extractFromDate(" : "extractFromTimestamp(";
    return code.strict(Kind.BIGINT, List.of(v), TIMES + method + v.value() + ", \"" + unit + "\")");
  }

  Value toUnit(Expr.Call call, Kind result) {
    Value v = expressions.write(call.operand(0));
    String method =
        (call.operation() == Operation.FLOOR_TO ? "floor" : "ceil")
            + (v.kind() == Kind.DATE ? "Date(" : "Timestamp(");
    return code.strict(
        result, List.of(v), TIMES + method + v.value() + ", \"" + call.options().get(0) + "\")");
  }

  Value exactSeconds(Expr.Call call) {
    Value v = conversions.convert(expressions.write(call.operand(0)), Kind.TIMESTAMP);
    return code.strict(
        Kind.DECIMAL,
        List.of(v),
        String.format(
            TIMES + "exact_seconds(%s, %s)",
            v.value(),
            expressions.write(call.operand(1)).value()));
  }

  Value difference(Expr.Call call) {
    Value from = conversions.convert(expressions.write(call.operand(1)), Kind.TIMESTAMP);
    Value to = conversions.convert(expressions.write(call.operand(2)), Kind.TIMESTAMP);
    return code.strict(
        Kind.BIGINT,
        List.of(from, to),
        String.format(
            TIMES + "timestamp_diff(%s, %s, %s)",
            expressions.write(call.operand(0)).value(),
            from.value(),
            to.value()));
  }
}
