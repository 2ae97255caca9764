package dripledger.engine.sql;

import java.util.List;
import org.apache.calcite.plan.RelTraitSet;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.RelWriter;
import org.apache.calcite.rel.SingleRel;
import org.apache.calcite.rel.core.Match;

/** MATCH_RECOGNIZE in a form that the SQL library's rules leave as it is. */
final class Matched extends SingleRel {
  final Match match;

  private Matched(RelNode input, Match match) {
    super(input.getCluster(), input.getTraitSet(), input);
    this.match = match;
    this.rowType = match.getRowType();
  }

  /** A query in which patterns are in this form. */
  static RelNode in(RelNode rel) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            return other instanceof Match match
                ? new Matched(match.getInput().accept(this), match)
                : super.visit(other);
          }
        });
  }

  @Override
  public RelNode copy(RelTraitSet traits, List<RelNode> inputs) {
    return new Matched(inputs.get(0), match);
  }

  /** All that it is made of: the library takes those for one that say the same here. */
  @Override
  public RelWriter explainTerms(RelWriter writer) {
    return super.explainTerms(writer)
        .item("partition", match.getPartitionKeys())
        .item("order", match.getOrderKeys())
        .item("pattern", match.getPattern())
        .item("start", match.isStrictStart())
        .item("end", match.isStrictEnd())
        .item("subsets", match.getSubsets())
        .item("define", match.getPatternDefinitions())
        .item("measures", match.getMeasures())
        .item("after", match.getAfter())
        .item("all", match.isAllRows())
        .item("within", match.getInterval())
        .item("type", match.getRowType().getFullTypeString());
  }
}
