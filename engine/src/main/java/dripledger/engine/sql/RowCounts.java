package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.math.BigDecimal;
import org.apache.calcite.rex.RexDynamicParam;
import org.apache.calcite.rex.RexLiteral;
import org.apache.calcite.rex.RexNode;

/** How many rows LIMIT and OFFSET say. Stateless. */
final class RowCounts {
  private RowCounts() {}

  /** Which parameter says it; −1 if it is a number, or not said. */
  static int parameter(RexNode count) {
    return count instanceof RexDynamicParam param ? param.getIndex() : -1;
  }

  /**
   * The number that is written.
   *
   * @param none what NULL and nothing stand for
   */
  static long of(RexNode count, long none) {
    if (count == null || RexLiteral.isNullLiteral(count)) {
      return none;
    }
    if (count instanceof RexLiteral literal) {
      return checked(literal.getValueAs(BigDecimal.class).longValue());
    }
    throw new EngineException(
        Code.NOT_SUPPORTED, "not supported yet: LIMIT and OFFSET that are not constant");
  }

  /** A number of rows, if it is one. */
  static long checked(long number) {
    if (number < 0) {
      throw new EngineException(
          Code.INVALID, "LIMIT and OFFSET must not be negative", "give 0 or more");
    }
    return number;
  }
}
