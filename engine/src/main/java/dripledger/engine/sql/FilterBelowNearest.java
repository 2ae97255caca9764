package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.logical.LogicalFilter;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexUtil;

/** Conditions on a row alone are asked before the row nearest to it is looked for. Stateless. */
final class FilterBelowNearest {
  private FilterBelowNearest() {}

  static RelNode in(RelNode rel) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            boolean found =
                other instanceof Filter f
                    && f.getInput() instanceof NearestRow
                    && f.getVariablesSet().isEmpty();
            return super.visit(found ? pushed((Filter) other) : other);
          }
        });
  }

  private static RelNode pushed(Filter filter) {
    NearestRow nearest = (NearestRow) filter.getInput();
    int width = nearest.getLeft().getRowType().getFieldCount();
    List<RexNode> below = new ArrayList<>();
    List<RexNode> above = new ArrayList<>();
    for (RexNode condition : RelOptUtil.conjunctions(filter.getCondition())) {
      int last = RelOptUtil.InputFinder.bits(condition).length();
      (last <= width ? below : above).add(condition);
    }
    if (below.isEmpty()) {
      return filter;
    }
    RexBuilder rex = filter.getCluster().getRexBuilder();
    RelNode left = LogicalFilter.create(nearest.getLeft(), RexUtil.composeConjunction(rex, below));
    RelNode rest = nearest.copy(nearest.getTraitSet(), List.of(left, nearest.getRight()));
    return above.isEmpty()
        ? rest
        : LogicalFilter.create(rest, RexUtil.composeConjunction(rex, above));
  }
}
