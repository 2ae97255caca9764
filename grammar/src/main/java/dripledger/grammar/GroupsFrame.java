package dripledger.grammar;

import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNumericLiteral;
import org.apache.calcite.sql.SqlWindow;
import org.apache.calcite.sql.parser.SqlParserPos;

/**
 * Frames of GROUPS. The SQL library knows rows and ranges only, so a frame of groups goes through
 * it as one of rows whose numbers are marked. Stateless.
 */
public final class GroupsFrame {
  /** Added to a number of groups. */
  public static final long MARK = 1L << 40;

  private GroupsFrame() {}

  /** Whether a frame without a number: it is the same by range. */
  public static boolean isByRange(SqlNode lower, SqlNode upper) {
    return !hasNumber(lower) && (upper == null || !hasNumber(upper));
  }

  private static boolean hasNumber(SqlNode bound) {
    return !(bound instanceof SqlLiteral);
  }

  /**
   * A bound of groups as one of rows.
   *
   * @param bound null for the current row
   */
  public static SqlNode mark(SqlNode bound, SqlParserPos pos) {
    if (bound == null || SqlWindow.isCurrentRow(bound)) {
      return SqlWindow.createPreceding(number(0, pos), pos);
    }
    if (bound instanceof SqlCall call && call.operand(0) instanceof SqlNumericLiteral n) {
      call.setOperand(0, number(n.longValue(false), n.getParserPosition()));
    }
    return bound;
  }

  private static SqlNode number(long groups, SqlParserPos pos) {
    return SqlLiteral.createExactNumeric(String.valueOf(MARK + groups), pos);
  }
}
