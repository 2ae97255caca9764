package dripledger.engine.sql;

import dripledger.grammar.OwnOperators;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlCharStringLiteral;
import org.apache.calcite.sql.SqlCollectionTypeNameSpec;
import org.apache.calcite.sql.SqlDataTypeSpec;
import org.apache.calcite.sql.SqlFunctionCategory;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.SqlOperator;
import org.apache.calcite.sql.SqlUnresolvedFunction;
import org.apache.calcite.sql.fun.SqlCase;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.parser.SqlParserPos;

/** What is said shorter than it is carried out: rows compared, signs for functions. Stateless. */
final class Shorthands {
  private Shorthands() {}

  /** What a call is short for; itself if for nothing. */
  static SqlNode rewrite(SqlCall call) {
    OwnOperators sign = OwnOperators.of(call.getOperator());
    if (sign != null) {
      return sign(sign, call);
    }
    return switch (call.getKind()) {
      case EQUALS, NOT_EQUALS, LESS_THAN, LESS_THAN_OR_EQUAL, GREATER_THAN, GREATER_THAN_OR_EQUAL ->
          compared(call);
      case SIMILAR -> similar(call);
      case CAST -> emptyArray(call);
      case RESPECT_NULLS -> call.operand(0); // as it is anyway
      default -> {
        SqlNode made = JsonMakers.rewrite(call);
        made = made == call ? ofText(call) : made;
        yield made != call ? made : counted(call);
      }
    };
  }

  /** A function that is known when all names are. */
  static SqlCall function(String name, SqlParserPos pos, List<SqlNode> operands) {
    return new SqlUnresolvedFunction(
            new SqlIdentifier(name, pos),
            null,
            null,
            null,
            null,
            SqlFunctionCategory.USER_DEFINED_FUNCTION)
        .createCall(pos, operands);
  }

  /** Matches with an expression, if it is no step into JSON. */
  private static SqlNode sign(OwnOperators sign, SqlCall call) {
    SqlParserPos pos = call.getParserPosition();
    List<SqlNode> operands = new ArrayList<>(call.getOperandList());
    boolean not = false;
    switch (sign) {
      case MATCHES:
        break;
      case MATCHES_NOT:
        not = true;
        break;
      case MATCHES_IN_ANY_CASE:
        operands.add(SqlLiteral.createCharString("i", pos));
        break;
      case MATCHES_NOT_IN_ANY_CASE:
        operands.add(SqlLiteral.createCharString("i", pos));
        not = true;
        break;
      default:
        return call;
    }
    return unless(not, pos, function("REGEXP_LIKE", pos, operands));
  }

  private static SqlNode unless(boolean not, SqlParserPos pos, SqlNode truth) {
    return not ? SqlStdOperatorTable.NOT.createCall(pos, truth) : truth;
  }

  private static SqlNode similar(SqlCall call) {
    SqlParserPos pos = call.getParserPosition();
    boolean not = call.getOperator().getName().startsWith("NOT");
    return unless(not, pos, function("SIMILAR_TO", pos, call.getOperandList()));
  }

  /**
   * Rows are compared by their first columns that differ: {@code (a, b) > (x, y)} is {@code a >= x
   * AND (a > x OR a = x AND b > y)}, of which the first part says where to begin in an order.
   */
  private static SqlNode compared(SqlCall call) {
    SqlNode left = call.operand(0);
    SqlNode right = call.operand(1);
    if (left.getKind() != SqlKind.ROW || right.getKind() != SqlKind.ROW) {
      return call;
    }
    List<SqlNode> ours = ((SqlCall) left).getOperandList();
    List<SqlNode> theirs = ((SqlCall) right).getOperandList();
    if (ours.size() != theirs.size()) {
      throw SqlErrors.invalid(
          call,
          "rows of " + ours.size() + " and of " + theirs.size() + " columns are not compared",
          "for example (minute, gate) > (:minute, :gate)");
    }
    boolean equal = call.getKind() == SqlKind.EQUALS;
    return equal || call.getKind() == SqlKind.NOT_EQUALS
        ? together(call, ours, theirs, equal)
        : inOrder(call, ours, theirs);
  }

  /** All columns are equal, or any is not. */
  private static SqlNode together(
      SqlCall call, List<SqlNode> ours, List<SqlNode> theirs, boolean equal) {
    SqlParserPos pos = call.getParserPosition();
    SqlOperator and = equal ? SqlStdOperatorTable.AND : SqlStdOperatorTable.OR;
    SqlNode all = call.getOperator().createCall(pos, ours.get(0), theirs.get(0));
    for (int i = 1; i < ours.size(); i++) {
      SqlNode next = call.getOperator().createCall(pos, ours.get(i), theirs.get(i));
      all = and.createCall(pos, all, next);
    }
    return all;
  }

  private static SqlNode inOrder(SqlCall call, List<SqlNode> ours, List<SqlNode> theirs) {
    SqlParserPos pos = call.getParserPosition();
    SqlOperator last = call.getOperator();
    boolean less =
        call.getKind() == SqlKind.LESS_THAN || call.getKind() == SqlKind.LESS_THAN_OR_EQUAL;
    SqlOperator strictly = less ? SqlStdOperatorTable.LESS_THAN : SqlStdOperatorTable.GREATER_THAN;
    SqlOperator orEqual =
        less ? SqlStdOperatorTable.LESS_THAN_OR_EQUAL : SqlStdOperatorTable.GREATER_THAN_OR_EQUAL;
    int end = ours.size() - 1;
    SqlNode decided = last.createCall(pos, ours.get(end), theirs.get(end));
    for (int i = end - 1; i >= 0; i--) {
      SqlNode differ = strictly.createCall(pos, ours.get(i), theirs.get(i));
      SqlNode equal = SqlStdOperatorTable.EQUALS.createCall(pos, ours.get(i), theirs.get(i));
      SqlNode both = SqlStdOperatorTable.AND.createCall(pos, equal, decided);
      decided = SqlStdOperatorTable.OR.createCall(pos, differ, both);
    }
    return end == 0
        ? decided
        : SqlStdOperatorTable.AND.createCall(
            pos, orEqual.createCall(pos, ours.get(0), theirs.get(0)), decided);
  }

  /** {@code CAST(ARRAY[] AS INTEGER ARRAY)}: an array of no texts, whose kind is changed. */
  private static SqlNode emptyArray(SqlCall call) {
    boolean empty =
        call.operand(0) instanceof SqlCall array
            && array.getOperator() == Dialect.ARRAY
            && array.operandCount() == 0
            && call.operand(1) instanceof SqlDataTypeSpec type
            && type.getTypeNameSpec() instanceof SqlCollectionTypeNameSpec;
    if (empty) {
      SqlParserPos pos = call.getParserPosition();
      SqlNode nothing = SqlLiteral.createCharString("", pos);
      SqlNode comma = SqlLiteral.createCharString(",", pos);
      call.setOperand(0, function("STRING_TO_ARRAY", pos, List.of(nothing, comma)));
    }
    return call;
  }

  /** The part that an expression matches, and trimming of other characters than blanks. */
  private static SqlNode ofText(SqlCall call) {
    if (call.operandCount() != 2) {
      return call;
    }
    SqlParserPos pos = call.getParserPosition();
    return switch (call.getOperator().getName().toUpperCase(Locale.ROOT)) {
      case "LTRIM" -> function("TRIM_LEADING", pos, call.getOperandList());
      case "RTRIM" -> function("TRIM_TRAILING", pos, call.getOperandList());
      case "SUBSTRING" ->
          call.operand(1) instanceof SqlCharStringLiteral
              ? SqlStdOperatorTable.ITEM.createCall(
                  pos,
                  function("REGEXP_MATCH", pos, call.getOperandList()),
                  SqlLiteral.createExactNumeric("1", pos))
              : call;
      default -> call;
    };
  }

  private static SqlNode counted(SqlCall call) {
    boolean nulls = call.getOperator().getName().equalsIgnoreCase("num_nulls");
    if (!nulls && !call.getOperator().getName().equalsIgnoreCase("num_nonnulls")
        || call.operandCount() == 0) {
      return call;
    }
    SqlParserPos pos = call.getParserPosition();
    SqlOperator test = nulls ? SqlStdOperatorTable.IS_NULL : SqlStdOperatorTable.IS_NOT_NULL;
    SqlNode sum = null;
    for (SqlNode each : call.getOperandList()) {
      SqlNode one =
          SqlCase.createSwitched(
              pos,
              null,
              SqlNodeList.of(test.createCall(pos, each)),
              SqlNodeList.of(SqlLiteral.createExactNumeric("1", pos)),
              SqlLiteral.createExactNumeric("0", pos));
      sum = sum == null ? one : SqlStdOperatorTable.PLUS.createCall(pos, sum, one);
    }
    return sum;
  }
}
