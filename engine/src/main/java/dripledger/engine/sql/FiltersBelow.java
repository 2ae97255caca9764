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

/**
 * Conditions on a row alone are asked before the row nearest to it is looked for, or its arrays are
 * made rows. Stateless.
 */
final class FiltersBelow {
  private FiltersBelow() {}

  static RelNode in(RelNode rel) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            boolean found =
                other instanceof Filter f
                    && ownColumns(f.getInput()) > 0
                    && f.getVariablesSet().isEmpty();
            return super.visit(found ? pushed((Filter) other) : other);
          }
        });
  }

  /** How many of a relation's first columns are those of the rows it adds something to. */
  private static int ownColumns(RelNode rel) {
    return rel instanceof NearestRow n
        ? n.getLeft().getRowType().getFieldCount()
        : rel instanceof Unnested u ? u.kept() : 0;
  }

  private static RelNode pushed(Filter filter) {
    RelNode added = filter.getInput();
    int width = ownColumns(added);
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
    List<RelNode> inputs = new ArrayList<>(added.getInputs());
    inputs.set(0, LogicalFilter.create(inputs.get(0), RexUtil.composeConjunction(rex, below)));
    RelNode rest = added.copy(added.getTraitSet(), inputs);
    return above.isEmpty()
        ? rest
        : LogicalFilter.create(rest, RexUtil.composeConjunction(rex, above));
  }
}
