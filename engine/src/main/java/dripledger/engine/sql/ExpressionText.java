package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
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
      List<String> parts = new ArrayList<>();
      for (int i = 0; i < operands.size(); i++) {
        parts.add(bound(call, i, operands.get(i)));
      }
      return String.join(" " + name + " ", parts);
    }
    if (call.getOperator() instanceof SqlPostfixOperator) {
      return bound(call, 0, operands.get(0)) + " " + name;
    }
    if (call.getOperator() instanceof SqlPrefixOperator) {
      return name + (name.length() > 1 ? " " : "") + bound(call, 0, operands.get(0));
    }
    if (call.getKind() == SqlKind.LIKE) {
      return bound(call, 0, operands.get(0)) + " " + name + " " + operands.get(1);
    }
    return name.toLowerCase(Locale.ROOT) + "(" + String.join(", ", operands) + ")";
  }

  /** An operand, in parentheses where the operator would tear it apart. */
  private static String bound(RexCall call, int place, String text) {
    if (!(call.getOperands().get(place) instanceof RexCall inner) || !isInfix(inner)) {
      return text;
    }
    SqlKind kind = call.getKind();
    boolean same = (kind == SqlKind.AND || kind == SqlKind.OR) && inner.getKind() == kind;
    int outside = call.getOperator().getLeftPrec();
    int within = inner.getOperator().getLeftPrec();
    boolean loose = within < outside || within == outside && place > 0;
    // Not needed, but nobody remembers whether AND or OR goes first.
    boolean doubtful = kind == SqlKind.OR && inner.getKind() == SqlKind.AND;
    return !same && (loose || doubtful) ? "(" + text + ")" : text;
  }

  private static boolean isInfix(RexCall call) {
    return call.getOperator() instanceof SqlBinaryOperator
        || call.getOperator() instanceof SqlPostfixOperator
        || call.getOperator() instanceof SqlPrefixOperator
        || call.getKind() == SqlKind.LIKE;
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
