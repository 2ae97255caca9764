package dripledger.engine.expr;

import static dripledger.engine.expr.Code.CASTS;
import static dripledger.engine.expr.Code.javaType;
import static dripledger.engine.expr.Code.unsupported;

import dripledger.engine.error.EngineException;
import dripledger.engine.expr.Code.Value;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.util.List;

/** Changes of representation and CAST. */
final class ConversionCode {
  private final Code code;

  ConversionCode(Code code) {
    this.code = code;
  }

  static Kind common(Kind a, Kind b) {
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
  Value convert(Value v, Kind to) {
    Kind from = v.kind();
    if (from == to
        || javaType(from).equals(javaType(to)) && !(from == Kind.DATE && to == Kind.TIMESTAMP)) {
      return new Value(to, v.value(), v.isNull());
    }
    if (v.alwaysNull()) {
      return Value.nothing(to);
    }
    if (to.isFloating() && from.isInteger()) {
      return new Value(to, "((double) " + v.value() + ")", v.isNull());
    }
    if (to.isFloating() && from == Kind.DECIMAL) {
      return code.strict(to, List.of(v), v.value() + ".doubleValue()");
    }
    if (to == Kind.DECIMAL && from.isInteger()) {
      return new Value(to, "java.math.BigDecimal.valueOf(" + v.value() + ")", v.isNull());
    }
    if (from == Kind.DATE && to == Kind.TIMESTAMP) {
      return code.strict(to, List.of(v), CASTS + "timestampOfDate(" + v.value() + ")");
    }
    if (to == Kind.DECIMAL && from.isFloating()) {
      return code.strict(to, List.of(v), CASTS + "toDecimal(" + v.value() + ")");
    }
    if (to.isInteger() && (from == Kind.DECIMAL || from.isFloating())) {
      return code.strict(to, List.of(v), CASTS + "toLong(" + v.value() + ")");
    }
    throw unsupported("a " + from + " where a " + to + " is needed");
  }

  static String ranged(String expression, Kind kind) {
    return switch (kind) {
      case SMALLINT -> CASTS + "shortRange(" + expression + ")";
      case INTEGER -> CASTS + "intRange(" + expression + ")";
      default -> expression;
    };
  }

  /** A cast that answers NULL instead of failing. */
  Value tryCast(Value v, ColumnType to) {
    String result = code.name();
    String isNull = code.name();
    code.line("%s %s = %s;", javaType(to.kind()), result, Code.defaultOf(to.kind()));
    code.line("boolean %s = true;", isNull);
    code.line("try {");
    Value done = cast(v, to);
    code.line("%s = %s;", result, done.value());
    code.line("%s = %s;", isNull, done.isNull());
    code.line("} catch (ArithmeticException e) {");
    code.line("} catch (" + CASTS + "CastException e) { }");
    return new Value(to.kind(), result, isNull);
  }

  Value cast(Value v, ColumnType to) {
    Kind from = v.kind();
    Kind kind = to.kind();
    if (v.alwaysNull()) {
      return Value.nothing(kind);
    }
    String x = v.value();
    String e;
    switch (kind) {
      case BOOLEAN:
        if (from == Kind.BOOLEAN) {
          return v;
        }
        e =
            from == Kind.VARCHAR
                ? CASTS + "toBoolean(" + x + ")"
                : from.isInteger() ? x + " != 0" : null;
        break;
      case SMALLINT, INTEGER, BIGINT:
        e =
            switch (from) {
              case SMALLINT, INTEGER, BIGINT -> x;
              case REAL, DOUBLE, DECIMAL, VARCHAR -> CASTS + "toLong(" + x + ")";
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
                        ? CASTS + "toDouble(" + x + ")"
                        : from.isFloating() ? x : null;
        if (e != null && kind == Kind.REAL) {
          e = CASTS + "toReal(" + e + ")";
        }
        break;
      case DECIMAL:
        e =
            from.isInteger()
                ? "java.math.BigDecimal.valueOf(" + x + ")"
                : from == Kind.DECIMAL
                    ? x
                    : from == Kind.REAL
                        ? CASTS + "realToDecimal(" + x + ")"
                        : from == Kind.DOUBLE || from == Kind.VARCHAR
                            ? CASTS + "toDecimal(" + x + ")"
                            : null;
        if (e != null) {
          e = CASTS + "fit(" + e + ", " + to.precision() + ", " + to.scale() + ")";
        }
        break;
      case VARCHAR:
        e =
            switch (from) {
              case VARCHAR -> x;
              case DATE -> CASTS + "dateText(" + x + ")";
              case TIME -> CASTS + "timeText(" + x + ")";
              case TIMESTAMP -> CASTS + "timestampText(" + x + ")";
              case REAL -> CASTS + "realText(" + x + ")";
              case BOOLEAN, SMALLINT, INTEGER, BIGINT, DOUBLE, DECIMAL -> CASTS + "text(" + x + ")";
              default -> null;
            };
        if (e != null && to.precision() >= 0) {
          e = CASTS + "truncate(" + e + ", " + to.precision() + ")";
        }
        break;
      case DATE:
        e =
            from == Kind.DATE
                ? x
                : from == Kind.TIMESTAMP
                    ? CASTS + "dateOfTimestamp(" + x + ")"
                    : from == Kind.VARCHAR ? CASTS + "toDate(" + x + ")" : null;
        break;
      case TIME:
        e =
            from == Kind.TIME
                ? x
                : from == Kind.TIMESTAMP
                    ? CASTS + "timeOfTimestamp(" + x + ")"
                    : from == Kind.VARCHAR ? CASTS + "toTime(" + x + ")" : null;
        break;
      case TIMESTAMP:
        e =
            from == Kind.TIMESTAMP
                ? x
                : from == Kind.DATE
                    ? CASTS + "timestampOfDate(" + x + ")"
                    : from == Kind.VARCHAR ? CASTS + "toTimestamp(" + x + ")" : null;
        break;
      default:
        e = from == kind ? x : null;
    }
    if (e == null) {
      throw unsupported("CAST from " + from + " to " + to.sql());
    }
    return e.equals(x) ? new Value(kind, x, v.isNull()) : code.strict(kind, List.of(v), e);
  }
}
