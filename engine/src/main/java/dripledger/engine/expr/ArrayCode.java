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
      set(writer, "" + i, conversions.cast(expressions.write(call.operand(i)), element));
    }
    String v = code.name();
    code.line("byte[] %s = %s.end(%s);", v, ARRAYS, writer);
    return new Value(Kind.ARRAY, v, "false");
  }

  private void set(String writer, String place, Value value) {
    code.line("if (%s) { %s.setNull(%s); } else {", paren(value.isNull()), writer, place);
    String set =
        switch (javaType(value.kind())) {
          case "boolean" -> "setBoolean(%s, %s)";
          case "double" -> "setDouble(%s, %s)";
          case "java.math.BigDecimal" -> "setDecimal(%s, %s)";
          case "String" -> "setString(%s, %s)";
          case "byte[]" -> "setBytes(%1$s, %2$s, 0, %2$s.length)";
          default -> "setLong(%s, %s)";
        };
    code.line("%s.%s; }", writer, String.format(set, place, value.value()));
  }

  /** An array with its elements cast to another type. */
  private Value cast(Value array, ColumnType from, ColumnType to) {
    if (from.withNullable(true).equals(to.withNullable(true))) {
      return array;
    }
    String writer = code.name();
    String v = code.name();
    String i = code.name();
    code.line("byte[] %s = null;", v);
    code.line("if (!%s) {", paren(array.isNull()));
    code.line(
        "dripledger.engine.row.RowWriter %s = %s.begin(%s, %s.count(%s));",
        writer, code.arrays(), code.layout(RowLayout.ofArray(to, 1)), ARRAYS, array.value());
    code.line("for (int %1$s = 1; %1$s <= %2$s.count(%3$s); %1$s++) {", i, ARRAYS, array.value());
    set(writer, i + " - 1", conversions.cast(read(from, array.value(), i), to));
    code.line("}");
    code.line("%s = %s.end(%s); }", v, ARRAYS, writer);
    return new Value(Kind.ARRAY, v, array.isNull());
  }

  private Value elements(Expr array, ColumnType wanted) {
    return cast(expressions.write(array), array.type().element(), wanted);
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
    return element(call, array, index);
  }

  /** The only element of an array, NULL if there is none. */
  Value only(Expr.Call call) {
    Value array = expressions.write(call.operand(0));
    return element(
        call,
        array,
        code.strict(Kind.BIGINT, List.of(array), ARRAYS + ".only(" + array.value() + ")"));
  }

  private Value element(Expr.Call call, Value array, Value index) {
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

  /** a || b. */
  Value concatenate(Expr.Call call) {
    Value a = elements(call.operand(0), call.type().element());
    Value b = elements(call.operand(1), call.type().element());
    String v = code.name();
    code.line(
        "byte[] %s = %s.concatenate(%s, %s ? null : %s, %s ? null : %s);",
        v,
        code.arrays(),
        code.layout(RowLayout.ofArray(call.type().element(), 1)),
        paren(a.isNull()),
        a.value(),
        paren(b.isNull()),
        b.value());
    return new Value(Kind.ARRAY, v, v + " == null");
  }

  /** ARRAY_POSITION(a, x): NULL is found too. */
  Value position(Expr.Call call, Kind result) {
    Value array = expressions.write(call.operand(0));
    Value x = expressions.write(call.operand(1));
    String v = code.name();
    String i = code.name();
    code.line("long %s = 0;", v);
    code.line(
        "for (int %2$s = 1; !%1$s && %2$s <= %3$s.count(%4$s); %2$s++) {",
        paren(array.isNull()), i, ARRAYS, array.value());
    Value element = read(call.operand(0).type().element(), array.value(), i);
    Value same = conditions.compare(x, element, "==");
    code.line(
        "if (%s && %s || !%s && %s) { %s = %s; break; }",
        paren(x.isNull()),
        paren(element.isNull()),
        paren(same.isNull()),
        paren(same.value()),
        v,
        i);
    code.line("}");
    return new Value(result, v, v + " == 0");
  }

  /** ARRAY_TO_STRING(a, separator [, for NULL]): NULLs are left out if nothing stands for them. */
  Value toText(Expr.Call call) {
    Value array = expressions.write(call.operand(0));
    Value separator = expressions.write(call.operand(1));
    Value nothing =
        call.operands().size() > 2
            ? expressions.write(call.operand(2))
            : Value.nothing(Kind.VARCHAR);
    String out = code.name();
    String i = code.name();
    String none = code.name();
    code.line("boolean %s = %s;", none, Code.either(List.of(array, separator)));
    code.line("StringBuilder %s = new StringBuilder();", out);
    code.line("boolean %s_any = false;", out);
    code.line(
        "for (int %2$s = 1; !%1$s && %2$s <= %3$s.count(%4$s); %2$s++) {",
        none, i, ARRAYS, array.value());
    Value element = read(call.operand(0).type().element(), array.value(), i);
    Value text = conversions.cast(element, ColumnType.varchar(-1));
    code.line("if (%s && %s) { continue; }", paren(text.isNull()), paren(nothing.isNull()));
    code.line("if (%s_any) { %s.append(%s); }", out, out, separator.value());
    code.line("%s_any = true;", out);
    code.line("%s.append(%s ? %s : %s);", out, paren(text.isNull()), nothing.value(), text.value());
    code.line("}");
    return new Value(Kind.VARCHAR, out + ".toString()", none);
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
