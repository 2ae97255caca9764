package dripledger.engine.sql;

import java.util.List;
import java.util.Locale;
import java.util.stream.Collectors;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexFieldAccess;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexLiteral;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.sql.SqlBinaryOperator;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlPostfixOperator;
import org.apache.calcite.sql.SqlPrefixOperator;
import org.apache.calcite.sql.type.SqlTypeName;

/** Writes an expression as a person would, with the input's column names; for EXPLAIN. Pure. */
final class ExpressionText {
  private ExpressionText() {}

  static String of(RexNode node, List<String> names) {
    if (node instanceof RexInputRef ref) {
      return names.get(ref.getIndex());
    }
    if (node instanceof RexFieldAccess access) {
      return of(access.getReferenceExpr(), names) + "." + access.getField().getName();
    }
    if (node instanceof RexLiteral literal) {
      return literal(literal);
    }
    if (!(node instanceof RexCall call)) {
      return node.toString();
    }
    List<String> operands = call.getOperands().stream().map(o -> of(o, names)).toList();
    if (call.getKind() == SqlKind.CAST) {
      return "CAST(" + operands.get(0) + " AS " + call.getType().getSqlTypeName() + ")";
    }
    if ((call.getKind() == SqlKind.FLOOR || call.getKind() == SqlKind.CEIL)
        && operands.size() == 2) {
      return call.getKind() + "(" + operands.get(0) + " TO " + operands.get(1) + ")";
    }
    String name = call.getOperator().getName();
    if (call.getOperator() instanceof SqlBinaryOperator) {
      boolean logic = call.getKind() == SqlKind.AND || call.getKind() == SqlKind.OR;
      return call.getOperands().stream()
          .map(o -> of(o, names))
          .map(o -> logic && o.contains(" AND ") || o.contains(" OR ") ? "(" + o + ")" : o)
          .collect(Collectors.joining(" " + name + " "));
    }
    if (call.getOperator() instanceof SqlPostfixOperator) {
      return operands.get(0) + " " + name;
    }
    if (call.getOperator() instanceof SqlPrefixOperator) {
      return name + (name.length() > 1 ? " " : "") + operands.get(0);
    }
    if (call.getKind() == SqlKind.LIKE) {
      return operands.get(0) + " " + name + " " + operands.get(1);
    }
    return name.toLowerCase(Locale.ROOT) + "(" + String.join(", ", operands) + ")";
  }

  private static String literal(RexLiteral literal) {
    if (literal.isNull()) {
      return "NULL";
    }
    if (literal.getTypeName() == SqlTypeName.SYMBOL) {
      return String.valueOf(literal.getValue());
    }
    if (SqlTypeName.CHAR_TYPES.contains(literal.getType().getSqlTypeName())) {
      return "'" + literal.getValueAs(String.class) + "'";
    }
    return literal.toString().replaceAll(":[A-Z]+(\\([0-9, ]+\\))?( NOT NULL)?$", "");
  }
}
