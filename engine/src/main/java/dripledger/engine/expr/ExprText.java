package dripledger.engine.expr;

import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;

/** Writes expressions: for people, and in a form that is equal for equal expressions only. Pure. */
public final class ExprText {
  private ExprText() {}

  /** The expression as a person would write it, with the input's column names. */
  public static String of(Expr expr, Schema input) {
    if (expr instanceof Expr.Column c) {
      return input.column(c.index()).name();
    }
    if (expr instanceof Expr.Field f) {
      StringBuilder out = new StringBuilder(input.column(f.column()).name());
      ColumnType type = input.type(f.column());
      for (int step : f.path()) {
        out.append('.').append(type.fields().get(step).name());
        type = type.fields().get(step).type();
      }
      return out.toString();
    }
    if (expr instanceof Expr.Constant c) {
      return constant(c);
    }
    if (expr instanceof Expr.Parameter p) {
      return "$" + (p.index() + 1);
    }
    Expr.Call call = (Expr.Call) expr;
    List<String> operands = call.operands().stream().map(o -> of(o, input)).toList();
    String sign = call.operation().sign();
    if (call.operation().isInfix()) {
      List<String> parts = new ArrayList<>();
      for (int i = 0;
          i
              < Math.min(
                  operands.size(),
                  call.operation() == Operation.AND || call.operation() == Operation.OR
                      ? operands.size()
                      : 2);
          i++) {
        parts.add(bound(call, i, operands.get(i)));
      }
      return String.join(" " + sign + " ", parts);
    }
    if (call.operation().isPostfix()) {
      return bound(call, 0, operands.get(0)) + " " + sign;
    }
    if (call.operation().isPrefix()) {
      return sign + (sign.length() > 1 ? " " : "") + bound(call, 0, operands.get(0));
    }
    String all = String.join(", ", operands);
    return switch (call.operation()) {
      case CAST ->
          call.type().notNull().equals(call.operand(0).type().notNull())
              ? all
              : "CAST(" + all + " AS " + call.type().sql() + ")";
      case FLOOR_TO, CEIL_TO ->
          sign.toUpperCase(Locale.ROOT) + "(" + all + " TO " + call.options().get(0) + ")";
      case EXTRACT -> "extract(" + call.options().get(0) + " FROM " + all + ")";
      case TRIM ->
          "trim("
              + call.options().get(0)
              + " "
              + operands.get(0)
              + " FROM "
              + operands.get(1)
              + ")";
      case CASE -> caseText(operands);
      case ARRAY -> "ARRAY[" + all + "]";
      case ELEMENT -> operands.get(0) + "[" + operands.get(1) + "]";
      case QUANTIFIED ->
          operands.get(0) + " " + call.options().get(0) + " (" + operands.get(1) + ")";
      case FUNCTION -> call.options().get(0) + "(" + all + ")";
      default -> sign.toLowerCase(Locale.ROOT) + "(" + all + ")";
    };
  }

  private static String caseText(List<String> operands) {
    StringBuilder out = new StringBuilder("CASE");
    for (int i = 0; i + 1 < operands.size(); i += 2) {
      out.append(" WHEN ").append(operands.get(i)).append(" THEN ").append(operands.get(i + 1));
    }
    return out.append(" ELSE ").append(operands.get(operands.size() - 1)).append(" END").toString();
  }

  /** An operand, in parentheses where the operator would tear it apart. */
  private static String bound(Expr.Call call, int place, String text) {
    if (!(call.operand(place) instanceof Expr.Call inner)) {
      return text;
    }
    Operation operation = call.operation();
    boolean same =
        (operation == Operation.AND || operation == Operation.OR) && inner.operation() == operation;
    int outside = operation.precedence();
    int within = inner.operation().precedence();
    boolean loose = within < outside || within == outside && place > 0;
    // Not needed, but nobody remembers whether AND or OR goes first.
    boolean doubtful = operation == Operation.OR && inner.operation() == Operation.AND;
    return !same && (loose || doubtful) ? "(" + text + ")" : text;
  }

  private static String constant(Expr.Constant c) {
    if (c.value() == null) {
      return "NULL";
    }
    return switch (c.type().kind()) {
      case VARCHAR -> "'" + ((String) c.value()).replace("'", "''") + "'";
      case DATE -> Casts.dateText((Long) c.value());
      case TIME -> Casts.timeText((Long) c.value());
      case TIMESTAMP -> Casts.timestampText((Long) c.value());
      case INTERVAL_DAY_TIME -> duration((Long) c.value());
      case INTERVAL_YEAR_MONTH -> "INTERVAL '" + c.value() + "' MONTH";
      case BOOLEAN -> c.value().toString().toUpperCase(Locale.ROOT);
      default -> c.value().toString();
    };
  }

  private static String duration(long micros) {
    long[] sizes = {86_400_000_000L, 3_600_000_000L, 60_000_000L};
    String[] units = {"DAY", "HOUR", "MINUTE"};
    for (int i = 0; i < sizes.length; i++) {
      if (micros != 0 && micros % sizes[i] == 0) {
        return "INTERVAL '" + micros / sizes[i] + "' " + units[i];
      }
    }
    return "INTERVAL '"
        + java.math.BigDecimal.valueOf(micros, 6).stripTrailingZeros().toPlainString()
        + "' SECOND";
  }

  /** The expression in a form that two expressions share only if they are equal. */
  public static void canonical(Expr expr, StringBuilder out) {
    if (expr instanceof Expr.Column c) {
      out.append('c').append(c.index());
    } else if (expr instanceof Expr.Field f) {
      out.append('f').append(f.column()).append(f.path());
    } else if (expr instanceof Expr.Constant c) {
      out.append('k').append(c.type()).append(' ');
      String text = String.valueOf(c.value());
      out.append(c.value() == null ? -1 : text.length()).append(':').append(text);
    } else if (expr instanceof Expr.Call call) {
      out.append(call.operation()).append(call.options()).append(call.type()).append('(');
      for (Expr operand : call.operands()) {
        canonical(operand, out);
        out.append(',');
      }
      out.append(')');
    }
  }
}
