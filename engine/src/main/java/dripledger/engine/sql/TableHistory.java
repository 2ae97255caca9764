package dripledger.engine.sql;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.TableVersions;
import java.util.List;
import org.apache.calcite.plan.RelTraitSet;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.SingleRel;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.sql.type.SqlTypeName;

/**
 * All that the rows of a table have been: its columns, then since when, which of those since then,
 * and whether it is that the row went.
 */
final class TableHistory extends SingleRel {
  private static final int MICROS = 6;

  TableHistory(RelNode table) {
    super(table.getCluster(), table.getTraitSet(), table);
  }

  @Override
  public RelNode copy(RelTraitSet traits, List<RelNode> inputs) {
    return new TableHistory(inputs.get(0));
  }

  @Override
  protected RelDataType deriveRowType() {
    RelDataTypeFactory types = getCluster().getTypeFactory();
    return types
        .builder()
        .addAll(getInput().getRowType().getFieldList())
        .add("since", types.createSqlType(SqlTypeName.TIMESTAMP, MICROS))
        .add("number", types.createSqlType(SqlTypeName.BIGINT))
        .add("gone", types.createSqlType(SqlTypeName.BOOLEAN))
        .uniquify()
        .build();
  }

  PlanNode plan(PlanNode table) {
    return new TableVersions((PlanNode.Source) table, TypeMapping.schema(getRowType()));
  }
}
