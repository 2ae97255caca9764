package dripledger.engine.sql;

import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import org.apache.calcite.rel.RelCollations;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.AggregateCall;
import org.apache.calcite.rel.logical.LogicalAggregate;
import org.apache.calcite.rel.logical.LogicalProject;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexShuttle;
import org.apache.calcite.rex.RexSubQuery;
import org.apache.calcite.sql.SqlAggFunction;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.util.ImmutableBitSet;

/**
 * Queries in expressions that may answer more than one row. Such a query becomes one that answers
 * an array, of one element or, if it has more rows, of two; the expression takes the only element,
 * and fails where there are two: for the row that asks, and for no other. Stateless.
 */
final class ScalarQueries extends RelHomogeneousShuttle {
  @Override
  public RelNode visit(RelNode other) {
    RelNode rel = super.visit(other);
    RexBuilder rex = rel.getCluster().getRexBuilder();
    return rel.accept(
        new RexShuttle() {
          @Override
          public RexNode visitSubQuery(RexSubQuery query) {
            RelNode inner = query.rel.accept(ScalarQueries.this);
            RexSubQuery same = inner == query.rel ? query : query.clone(inner);
            same = (RexSubQuery) super.visitSubQuery(same);
            return same.getKind() == SqlKind.SCALAR_QUERY && !isOneRow(same.rel)
                ? only(rex, same)
                : same;
          }
        });
  }

  private static boolean isOneRow(RelNode rel) {
    Boolean unique =
        rel.getCluster().getMetadataQuery().areColumnsUnique(rel, ImmutableBitSet.of());
    return unique != null && unique;
  }

  private static RexNode only(RexBuilder rex, RexSubQuery query) {
    RelDataTypeFactory types = rex.getTypeFactory();
    RelDataType type =
        types.createTypeWithNullability(
            query.rel.getRowType().getFieldList().get(0).getType(), true);
    RelDataType big = types.createSqlType(SqlTypeName.BIGINT);
    RexNode one = rex.makeExactLiteral(BigDecimal.ONE, types.createSqlType(SqlTypeName.INTEGER));
    RelNode rows =
        LogicalProject.create(
            query.rel,
            List.of(),
            List.of(rex.makeInputRef(query.rel, 0), one),
            List.of("value", "one"),
            Set.of());
    RelNode counted =
        LogicalAggregate.create(
            rows,
            List.of(),
            ImmutableBitSet.of(),
            null,
            List.of(
                call(SqlStdOperatorTable.MIN, 0, type, "value"),
                call(
                    SqlStdOperatorTable.SUM,
                    1,
                    types.createTypeWithNullability(big, true),
                    "rows")));
    RexNode value = rex.makeInputRef(counted, 0);
    RelDataType array = types.createArrayType(type, -1);
    List<RexNode> either = new ArrayList<>();
    either.add(rex.makeCall(SqlStdOperatorTable.GREATER_THAN, rex.makeInputRef(counted, 1), one));
    either.add(rex.makeCall(array, Dialect.ARRAY, List.of(value, value)));
    either.add(rex.makeCall(array, Dialect.ARRAY, List.of(value)));
    RelNode answer =
        LogicalProject.create(
            counted,
            List.of(),
            List.of(rex.makeCall(array, SqlStdOperatorTable.CASE, either)),
            List.of("value"),
            Set.of());
    return rex.makeCall(type, OwnFunctions.ONLY, List.of(RexSubQuery.scalar(answer)));
  }

  private static AggregateCall call(
      SqlAggFunction function, int column, RelDataType type, String name) {
    return AggregateCall.create(
        function,
        false,
        false,
        false,
        List.of(),
        List.of(column),
        -1,
        null,
        RelCollations.EMPTY,
        type,
        name);
  }
}
