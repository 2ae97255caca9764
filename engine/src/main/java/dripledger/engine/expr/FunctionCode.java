package dripledger.engine.expr;

import static dripledger.engine.expr.Code.unsupported;

import dripledger.engine.expr.Code.Value;
import dripledger.engine.row.ColumnType.Kind;
import java.lang.reflect.Method;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.stream.Stream;

/** Strict functions of {@link TextBuiltins} and its like, chosen by name and arguments. */
final class FunctionCode {
  private static final List<Method> FUNCTIONS =
      Stream.of(
              TextBuiltins.class,
              NumberBuiltins.class,
              TimeBuiltins.class,
              CalendarBuiltins.class,
              PatternBuiltins.class,
              CodecBuiltins.class,
              JsonTreeBuiltins.class,
              SeriesBuiltins.class)
          .flatMap(builtins -> Arrays.stream(builtins.getMethods()))
          .toList();

  private final Code code;
  private final ExpressionCode expressions;
  private final ConversionCode conversions;

  FunctionCode(Code code, ExpressionCode expressions, ConversionCode conversions) {
    this.code = code;
    this.expressions = expressions;
    this.conversions = conversions;
  }

  /** The function, chosen by name, number and kinds of arguments. */
  Value function(Expr.Call call, Kind result) {
    String name = call.options().get(0);
    List<Value> args = call.operands().stream().map(expressions::write).toList();
    Method best = null;
    for (Method m : FUNCTIONS) {
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
              + String.join(", ", args.stream().map(a -> a.kind().name()).toList())
              + ")");
    }
    List<Value> converted = new ArrayList<>();
    List<String> texts = new ArrayList<>();
    for (int i = 0; i < args.size(); i++) {
      Class<?> p = best.getParameterTypes()[i];
      Value a = args.get(i);
      Kinds kinds = best.getAnnotation(Kinds.class);
      Kind want =
          kinds != null
              ? kinds.value()[i]
              : p == double.class ? Kind.DOUBLE : p == BigDecimal.class ? Kind.DECIMAL : a.kind();
      Value c = conversions.convert(a, want);
      converted.add(c);
      texts.add(c.value());
    }
    Kinds kinds = best.getAnnotation(Kinds.class);
    Kind returned = kinds == null ? kindOf(best.getReturnType()) : kinds.result();
    Value out =
        code.strict(
            returned,
            converted,
            best.getDeclaringClass().getName() + "." + name + "(" + String.join(", ", texts) + ")");
    if (!best.getReturnType().isPrimitive() && mayBeNull(best)) {
      out = new Value(returned, out.value(), out.value() + " == null");
    }
    if (returned == Kind.BIGINT && (result == Kind.INTEGER || result == Kind.SMALLINT)) {
      return code.strict(result, List.of(out), ConversionCode.ranged(out.value(), result));
    }
    return conversions.convert(out, result);
  }

  private static Kind kindOf(Class<?> type) {
    return type == double.class
        ? Kind.DOUBLE
        : type == BigDecimal.class
            ? Kind.DECIMAL
            : type == String.class
                ? Kind.VARCHAR
                : type == boolean.class ? Kind.BOOLEAN : Kind.BIGINT;
  }

  /** Functions that may find nothing. */
  private static boolean mayBeNull(Method m) {
    return m.getDeclaringClass() == JsonTreeBuiltins.class
        || m.getDeclaringClass() == PatternBuiltins.class;
  }

  private static boolean accepts(Kind wanted, Kind given) {
    return wanted == given
        || wanted.isInteger() && given.isInteger()
        || wanted.isFloating() && given.isNumeric()
        || wanted == Kind.TIMESTAMP && given == Kind.DATE;
  }

  private static boolean accepts(Method m, List<Value> args) {
    Kinds kinds = m.getAnnotation(Kinds.class);
    if (kinds != null) {
      for (int i = 0; i < args.size(); i++) {
        if (!accepts(kinds.value()[i], args.get(i).kind())) {
          return false;
        }
      }
      return true;
    }
    for (int i = 0; i < args.size(); i++) {
      Class<?> p = m.getParameterTypes()[i];
      Kind k = args.get(i).kind();
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
      Kind k = args.get(i).kind();
      boolean exact =
          p == long.class && k.isInteger()
              || p == double.class && k.isFloating()
              || p == BigDecimal.class && k == Kind.DECIMAL;
      score += exact ? 1 : 0;
    }
    return score;
  }
}
