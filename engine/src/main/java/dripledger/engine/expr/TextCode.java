package dripledger.engine.expr;

import static dripledger.engine.expr.Code.TEXT;
import static dripledger.engine.expr.Code.paren;

import dripledger.engine.expr.Code.Value;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.util.List;

/** Text: patterns, trimming, putting together. */
final class TextCode {
  private final Code code;
  private final ExpressionCode expressions;
  private final ConversionCode conversions;

  TextCode(Code code, ExpressionCode expressions, ConversionCode conversions) {
    this.code = code;
    this.expressions = expressions;
    this.conversions = conversions;
  }

  Value like(Expr.Call call) {
    List<Expr> operands = call.operands();
    Value text = expressions.write(operands.get(0));
    boolean ignoreCase = call.operation() == Operation.ILIKE;
    String escape = "\"\\\\\"";
    if (operands.size() == 3) {
      escape = written(operands.get(2)).value();
    }
    Value pattern = written(operands.get(1));
    String compiled =
        TEXT + "likePattern(" + pattern.value() + ", " + escape + ", " + ignoreCase + ")";
    if (!pattern.alwaysNull() && isPattern(operands)) {
      compiled = code.constant("dripledger.engine.expr.LikePattern", compiled);
    }
    return code.strict(
        Kind.BOOLEAN,
        List.of(text, pattern),
        TEXT + "like(" + text.value() + ", " + compiled + ")");
  }

  /** Whether the pattern is constant and one; another fails on the rows that come to it. */
  private static boolean isPattern(List<Expr> operands) {
    String[] texts = {"", "", "\\"};
    for (int i = 1; i < operands.size(); i++) {
      if (!(operands.get(i) instanceof Expr.Constant c && c.value() instanceof String text)) {
        return false;
      }
      texts[i] = text;
    }
    try {
      LikePattern.of(texts[1], texts[2], false);
      return true;
    } catch (Casts.CastException e) {
      return false;
    }
  }

  private Value written(Expr operand) {
    return operand instanceof Expr.Constant c ? expressions.literal(c) : expressions.write(operand);
  }

  Value trim(Expr.Call call) {
    String flag = call.options().get(0);
    Value characters = expressions.write(call.operand(0));
    Value text = expressions.write(call.operand(1));
    return code.strict(
        Kind.VARCHAR,
        List.of(characters, text),
        String.format(
            TEXT + "trim(%s, %s, %s, %s)",
            text.value(),
            characters.value(),
            !flag.equals("TRAILING"),
            !flag.equals("LEADING")));
  }

  Value concatenate(Expr.Call call) {
    Value a = text(expressions.write(call.operand(0)));
    Value b = text(expressions.write(call.operand(1)));
    return code.strict(
        Kind.VARCHAR, List.of(a, b), TEXT + "concat(" + a.value() + ", " + b.value() + ")");
  }

  private Value text(Value v) {
    return v.kind() == Kind.VARCHAR ? v : conversions.cast(v, ColumnType.varchar(-1));
  }

  /** A value in JSON, or the name of a member, which is not NULL. */
  Value toJson(Expr.Call call) {
    Value v = expressions.write(call.operand(0));
    if (!call.options().isEmpty()) {
      String name = paren(v.isNull()) + " ? null : " + text(v).value();
      return new Value(Kind.VARCHAR, "dripledger.engine.expr.JsonText.name(" + name + ")", "false");
    }
    String json = "dripledger.engine.expr.JsonText.";
    String written =
        switch (v.kind()) {
          case BOOLEAN, SMALLINT, INTEGER, BIGINT, DECIMAL -> text(v).value();
          case REAL, DOUBLE -> json + "number(" + v.value() + ")";
          case VARCHAR, DATE, TIME -> json + "quoted(" + text(v).value() + ")";
          case TIMESTAMP -> json + "timestamp(" + text(v).value() + ")";
          default -> throw Code.unsupported("JSON of a value of type " + v.kind());
        };
    return code.strict(Kind.VARCHAR, List.of(v), written);
  }

  Value concat(Expr.Call call) {
    String v = code.name();
    code.line("StringBuilder %s = new StringBuilder();", v);
    for (Expr operand : call.operands()) {
      Value x = conversions.cast(expressions.write(operand), ColumnType.varchar(-1));
      code.line("if (!%s) { " + TEXT + "append(%s, %s); }", paren(x.isNull()), v, x.value());
    }
    return new Value(Kind.VARCHAR, v + ".toString()", "false");
  }

  Value concatWithSeparator(Expr.Call call) {
    Value separator = text(expressions.write(call.operand(0)));
    String v = code.name();
    code.line("StringBuilder %s = null;", v);
    for (Expr operand : call.operands().subList(1, call.operands().size())) {
      Value x = conversions.cast(expressions.write(operand), ColumnType.varchar(-1));
      code.line("if (!%s && !%s) {", paren(separator.isNull()), paren(x.isNull()));
      code.line("if (%s == null) { %s = new StringBuilder(); }", v, v);
      code.line("else { " + TEXT + "append(%s, %s); }", v, separator.value());
      code.line(TEXT + "append(%s, %s); }", v, x.value());
    }
    return new Value(
        Kind.VARCHAR, "(" + v + " == null ? \"\" : " + v + ".toString())", separator.isNull());
  }
}
