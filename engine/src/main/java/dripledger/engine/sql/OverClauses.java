package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.SqlWindow;
import org.apache.calcite.sql.fun.SqlCase;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.parser.SqlParserPos;

/** Window functions as they are written, put as the SQL library takes them. Stateless. */
final class OverClauses {
  private OverClauses() {}

  /** Whether a call is of a function whose answer is the value of one of the rows around. */
  static boolean mayIgnoreNulls(SqlNode call) {
    String name = ((SqlCall) call).getOperator().getName().toUpperCase(Locale.ROOT);
    return switch (name) {
      case "LAG", "LEAD", "FIRST_VALUE", "LAST_VALUE", "NTH_VALUE" -> true;
      default -> false;
    };
  }

  /** What is said although it is so anyway; the validator takes it of one order column only. */
  static void useUsualFrame(SqlWindow window) {
    boolean usual =
        !window.isRows()
            && SqlWindow.isExcludeNoOthers((SqlLiteral) window.getOperandList().get(8))
            && window.getLowerBound() != null
            && SqlWindow.isUnboundedPreceding(window.getLowerBound())
            && (window.getUpperBound() == null || SqlWindow.isCurrentRow(window.getUpperBound()));
    if (usual) {
      window.setLowerBound(null);
      window.setUpperBound(null);
    }
  }

  /** A filter before OVER: what does not meet it is NULL, which aggregates pass over. */
  static SqlNode over(SqlCall over) {
    SqlCall function = over.operand(0);
    SqlParserPos pos = over.getParserPosition();
    if (function.getKind() == SqlKind.FILTER) {
      SqlNode filtered = where(function.operand(0), function.operand(1));
      return SqlStdOperatorTable.OVER.createCall(pos, filtered, over.operand(1));
    }
    boolean excludes =
        over.operand(1) instanceof SqlWindow window
            && !SqlWindow.isExcludeNoOthers((SqlLiteral) window.getOperandList().get(8));
    boolean ignores = function.getKind() == SqlKind.IGNORE_NULLS;
    SqlCall said = ignores ? function.operand(0) : function;
    String name = said.getOperator().getName().toLowerCase(Locale.ROOT);
    if (excludes && !name.equals("count") || name.equals("nth_value")) {
      // The validator does not know that nothing may be left: so a value may be NULL anyway.
      SqlNode nullable = where(said, SqlLiteral.createBoolean(true, pos));
      nullable = ignores ? function.getOperator().createCall(pos, nullable) : nullable;
      return SqlStdOperatorTable.OVER.createCall(pos, nullable, over.operand(1));
    }
    return over;
  }

  /** An aggregate of values that are NULL where a condition is not met. */
  private static SqlNode where(SqlCall aggregate, SqlNode condition) {
    SqlParserPos pos = aggregate.getParserPosition();
    List<SqlNode> operands = new ArrayList<>();
    for (SqlNode operand : aggregate.getOperandList()) {
      if (operand instanceof SqlLiteral && !operands.isEmpty()) {
        operands.add(operand); // a number that is not a value
        continue;
      }
      boolean star = operand instanceof SqlIdentifier id && id.isStar();
      SqlNode value = star ? SqlLiteral.createExactNumeric("1", pos) : operand;
      operands.add(
          new SqlCase(
              pos,
              null,
              SqlNodeList.of(condition),
              SqlNodeList.of(value),
              SqlLiteral.createNull(pos)));
    }
    return aggregate
        .getOperator()
        .createCall(aggregate.getFunctionQuantifier(), pos, operands.toArray(SqlNode[]::new));
  }
}
