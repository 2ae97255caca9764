package dripledger.engine.expr;

import static dripledger.engine.expr.Code.either;

import dripledger.engine.expr.Code.Value;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.util.List;

/** The JSON functions of the SQL standard. */
final class JsonCode {
  private final Code code;
  private final ExpressionCode expressions;
  private final ConversionCode conversions;

  JsonCode(Code code, ExpressionCode expressions, ConversionCode conversions) {
    this.code = code;
    this.expressions = expressions;
    this.conversions = conversions;
  }

  Value jsonValue(Expr.Call call, Kind result) {
    List<Expr> operands = call.operands();
    Value text = expressions.write(operands.get(0));
    Value path = expressions.write(operands.get(1));
    List<String> options = call.options();
    String[] fallback = {"null", "null"};
    int given = 2;
    for (int i = 0; i < fallback.length; i++) {
      if (options.get(i).equals("DEFAULT")) {
        Value value =
            conversions.cast(expressions.write(operands.get(given++)), ColumnType.varchar(-1));
        fallback[i] = value.alwaysNull() ? "null" : value.value();
      }
    }
    String found = code.name();
    code.line(
        "String %s = %s ? null : %s.value(%s, %s, \"%s\", %s, \"%s\", %s);",
        found,
        either(List.of(text, path)),
        code.json(),
        text.value(),
        path.value(),
        options.get(0),
        fallback[0],
        options.get(1),
        fallback[1]);
    Value raw = new Value(Kind.VARCHAR, found, found + " == null");
    return result == Kind.VARCHAR ? raw : conversions.cast(raw, call.type());
  }

  Value jsonQuery(Expr.Call call) {
    List<Expr> operands = call.operands();
    Value text = expressions.write(operands.get(0));
    Value path = expressions.write(operands.get(1));
    String found = code.name();
    code.line(
        "String %s = %s ? null : %s.query(%s, %s, \"%s\", \"%s\", \"%s\");",
        found,
        either(List.of(text, path)),
        code.json(),
        text.value(),
        path.value(),
        call.options().get(0),
        call.options().get(1),
        call.options().get(2));
    return new Value(Kind.VARCHAR, found, found + " == null");
  }

  Value jsonExists(Expr.Call call) {
    List<Expr> operands = call.operands();
    Value text = expressions.write(operands.get(0));
    Value path = expressions.write(operands.get(1));
    String found = code.name();
    code.line(
        "Boolean %s = %s ? null : %s.exists(%s, %s, \"%s\");",
        found,
        either(List.of(text, path)),
        code.json(),
        text.value(),
        path.value(),
        call.options().get(0));
    return new Value(Kind.BOOLEAN, found + ".booleanValue()", found + " == null");
  }
}
