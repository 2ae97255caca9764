package dripledger.engine.expr;

import static dripledger.engine.expr.Code.defaultOf;
import static dripledger.engine.expr.Code.javaType;
import static dripledger.engine.expr.Code.paren;

import dripledger.engine.expr.Code.Value;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.RowLayout;
import java.util.List;
import java.util.Map;

/** Writes what is computed of arrays, and what makes them. */
final class ArrayCode {
  private static final String ARRAYS = ArrayBuiltins.class.getName();
  private static final Map<String, String> COMPARISONS =
      Map.of("=", "==", "<>", "!=", "<", "<", "<=", "<=", ">", ">", ">=", ">=");

  private final Code code;
  private final ExpressionCode expressions;
  private final ConditionCode conditions;
  private final ConversionCode conversions;

  ArrayCode(
      Code code, ExpressionCode expressions, ConditionCode conditions, ConversionCode conversions) {
    this.code = code;
    this.expressions = expressions;
    this.conditions = conditions;
    this.conversions = conversions;
  }

  /** ARRAY[a, b, …]. */
  Value array(Expr.Call call) {
    ColumnType element = call.type().element();
    RowLayout layout = RowLayout.ofArray(element, call.operands().size());
    String writer = code.name();
    code.line(
        "dripledger.engine.row.RowWriter %s = %s.begin(%s);", writer, ARRAYS, code.layout(layout));
    for (int i = 0; i < call.operands().size(); i++) {
      Value value = conversions.cast(expressions.write(call.operand(i)), element);
      code.line("if (%s) { %s.setNull(%d); } else {", paren(value.isNull()), writer, i);
      String set =
          switch (javaType(element.kind())) {
            case "boolean" -> "setBoolean(%d, %s)";
            case "double" -> "setDouble(%d, %s)";
            case "java.math.BigDecimal" -> "setDecimal(%d, %s)";
            case "String" -> "setString(%d, %s)";
            case "byte[]" -> "setBytes(%1$d, %2$s, 0, %2$s.length)";
            default -> "setLong(%d, %s)";
          };
      code.line("%s.%s; }", writer, String.format(set, i, value.value()));
    }
    String v = code.name();
    code.line("byte[] %s = %s.end(%s);", v, ARRAYS, writer);
    return new Value(Kind.ARRAY, v, "false");
  }

  /** CARDINALITY(a). */
  Value cardinality(Expr.Call call) {
    Value array = expressions.write(call.operand(0));
    return code.strict(
        Kind.BIGINT, List.of(array), "(long) " + ARRAYS + ".count(" + array.value() + ")");
  }

  /** a[i], NULL where there is none. */
  Value element(Expr.Call call) {
    Value array = expressions.write(call.operand(0));
    Value index = conversions.convert(expressions.write(call.operand(1)), Kind.BIGINT);
    Kind kind = call.type().kind();
    String n = code.name();
    String v = code.name();
    code.line("boolean %s = true; %s %s = %s;", n, javaType(kind), v, defaultOf(kind));
    code.line("if (!(%s)) {", Code.either(List.of(array, index)));
    Value found = read(call.operand(0).type().element(), array.value(), index.value());
    code.line("%s = %s; %s = %s;", n, found.isNull(), v, found.value());
    code.line("}");
    return new Value(kind, v, n);
  }

  /** x = ANY (a) and x = ALL (a), of any comparison: unknown if an unknown element could decide. */
  Value quantified(Expr.Call call) {
    String[] what = call.options().get(0).split(" ");
    boolean any = what[1].equals("ANY");
    Value x = expressions.write(call.operand(0));
    Value array = expressions.write(call.operand(1));
    String v = code.name();
    String n = code.name();
    String i = code.name();
    code.line("boolean %s = %s; boolean %s = %s;", v, !any, n, array.isNull());
    code.line(
        "for (int %2$s = 1; !%1$s && %2$s <= %3$s.count(%4$s); %2$s++) {",
        paren(array.isNull()), i, ARRAYS, array.value());
    Value element = read(call.operand(1).type().element(), array.value(), i);
    Value holds = conditions.compare(x, element, COMPARISONS.get(what[0]));
    code.line("if (%s) { %s = true; }", paren(holds.isNull()), n);
    code.line(
        "else if (%s%s) { %s = %s; %s = false; break; }",
        any ? "" : "!", paren(holds.value()), v, any, n);
    code.line("}");
    return new Value(Kind.BOOLEAN, v, n);
  }

  private Value read(ColumnType type, String array, String index) {
    String arrays = code.arrays();
    String layout = code.layout(RowLayout.ofArray(type, 1));
    String n = code.name();
    String v = code.name();
    code.line("boolean %s = !%s.at(%s, %s, %s);", n, arrays, layout, array, index);
    String value =
        switch (javaType(type.kind())) {
          case "boolean" -> arrays + ".slot() != 0";
          case "double" -> "Double.longBitsToDouble(" + arrays + ".slot())";
          case "java.math.BigDecimal" -> arrays + ".decimal()";
          case "String" -> arrays + ".text()";
          case "byte[]" -> arrays + ".binary()";
          default -> arrays + ".slot()";
        };
    code.line(
        "%s %s = %s ? %s : %s;", javaType(type.kind()), v, n, defaultOf(type.kind()), paren(value));
    return new Value(type.kind(), v, n);
  }
}
