package dripledger.engine.sql;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.TimeNode;
import java.util.List;
import org.apache.calcite.plan.RelTraitSet;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.RelWriter;
import org.apache.calcite.rel.SingleRel;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rel.type.RelDataTypeField;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.util.ImmutableBitSet;

/**
 * A relation's rows with, in the place of its last columns, which are times, whether the current
 * time has reached them.
 */
final class TimeReached extends SingleRel {
  private final int times;

  TimeReached(RelNode input, int times) {
    super(input.getCluster(), input.getTraitSet(), input);
    this.times = times;
    this.rowType = type(input, times);
  }

  private static RelDataType type(RelNode input, int times) {
    RelDataTypeFactory factory = input.getCluster().getTypeFactory();
    RelDataTypeFactory.Builder type = factory.builder();
    List<RelDataTypeField> fields = input.getRowType().getFieldList();
    int kept = fields.size() - times;
    type.addAll(fields.subList(0, kept));
    for (RelDataTypeField time : fields.subList(kept, fields.size())) {
      RelDataType flag = factory.createSqlType(SqlTypeName.BOOLEAN);
      type.add(
          time.getName(), factory.createTypeWithNullability(flag, time.getType().isNullable()));
    }
    return type.build();
  }

  static boolean isIn(RelNode rel) {
    return rel instanceof TimeReached || rel.getInputs().stream().anyMatch(TimeReached::isIn);
  }

  /** The input's columns that are needed. */
  ImmutableBitSet needed(ImmutableBitSet used) {
    int width = rowType.getFieldCount();
    return used.union(ImmutableBitSet.range(width - times, width));
  }

  /** The plan of it over that of its input. */
  PlanNode plan(PlanNode over) {
    return new TimeNode.Reached(over, times, TypeMapping.schema(rowType));
  }

  @Override
  public RelNode copy(RelTraitSet traits, List<RelNode> inputs) {
    return new TimeReached(inputs.get(0), times);
  }

  @Override
  public RelWriter explainTerms(RelWriter writer) {
    return super.explainTerms(writer).item("times", times);
  }
}
