package dripledger.engine.sql;

import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Join;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexShuttle;
import org.apache.calcite.sql.SqlFunction;
import org.apache.calcite.sql.SqlFunctionCategory;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlOperator;
import org.apache.calcite.sql.type.OperandTypes;
import org.apache.calcite.sql.type.ReturnTypes;

/**
 * Hides the conditions of outer joins while correlation is taken away. The library believes that a
 * condition which is not true of NULL leaves no NULL in the side that is kept whole, and joins with
 * {@code =} where NULLs must meet. Stateless.
 */
final class OuterConditions {
  private static final SqlOperator HIDDEN =
      new SqlFunction(
          "HIDDEN",
          SqlKind.OTHER_FUNCTION,
          ReturnTypes.ARG0,
          null,
          OperandTypes.ANY,
          SqlFunctionCategory.SYSTEM);

  private OuterConditions() {}

  static RelNode hidden(RelNode rel) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            RelNode own = super.visit(other);
            if (!(own instanceof Join join)
                || !join.getJoinType().isOuterJoin()
                || isHidden(join.getCondition())) {
              return own;
            }
            return join.copy(
                join.getTraitSet(),
                join.getCluster().getRexBuilder().makeCall(HIDDEN, join.getCondition()),
                join.getLeft(),
                join.getRight(),
                join.getJoinType(),
                join.isSemiJoinDone());
          }
        });
  }

  /** As they were, wherever they have gone. */
  static RelNode shown(RelNode rel) {
    RexShuttle show =
        new RexShuttle() {
          @Override
          public RexNode visitCall(RexCall call) {
            return isHidden(call) ? call.getOperands().get(0).accept(this) : super.visitCall(call);
          }
        };
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            return super.visit(other).accept(show);
          }
        });
  }

  private static boolean isHidden(RexNode condition) {
    return condition instanceof RexCall call && call.getOperator() == HIDDEN;
  }
}
