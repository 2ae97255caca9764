package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.sql.SqlAggFunction;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql2rel.SqlRexConvertlet;
import org.apache.calcite.sql2rel.SqlRexConvertletTable;
import org.apache.calcite.sql2rel.StandardConvertletTable;

/**
 * How calls become algebra. Averages and their kin over a window stay what they are: the library
 * would make sums and quotients of them, which round otherwise. Stateless.
 */
final class Convertlets implements SqlRexConvertletTable {
  @Override
  public SqlRexConvertlet get(SqlCall call) {
    boolean average =
        call.getOperator() instanceof SqlAggFunction function
            && SqlKind.AVG_AGG_FUNCTIONS.contains(function.getKind());
    if (average || call.getOperator() == PatternWords.NEIGHBOUR) {
      return (context, same) -> {
        List<RexNode> operands = new ArrayList<>();
        for (SqlNode operand : same.getOperandList()) {
          operands.add(context.convertExpression(operand));
        }
        return context
            .getRexBuilder()
            .makeCall(
                context.getValidator().getValidatedNodeType(same), same.getOperator(), operands);
      };
    }
    return TimeArithmetic.isOwn(call)
        ? TimeArithmetic::convert
        : StandardConvertletTable.INSTANCE.get(call);
  }
}
