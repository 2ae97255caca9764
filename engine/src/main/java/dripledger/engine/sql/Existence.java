package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.CorrelationId;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.core.JoinRelType;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.logical.LogicalJoin;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexCorrelVariable;
import org.apache.calcite.rex.RexFieldAccess;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexShuttle;
import org.apache.calcite.rex.RexSubQuery;
import org.apache.calcite.rex.RexUtil;
import org.apache.calcite.sql.SqlKind;

/**
 * Conditions that a query has a row, or none, where what it asks of the row beside it is more than
 * that columns are equal: a semi-join or anti-join of the two, which the library would make an
 * aggregate of a join of, to be joined once more. Stateless.
 */
final class Existence {
  private Existence() {}

  static RelNode in(RelNode rel) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            RelNode own = super.visit(other);
            return own instanceof Filter filter ? of(filter) : own;
          }
        });
  }

  private static RelNode of(Filter filter) {
    RelNode rows = filter.getInput();
    List<RexNode> rest = new ArrayList<>();
    for (RexNode condition : RelOptUtil.conjunctions(filter.getCondition())) {
      RelNode joined =
          filter.getVariablesSet().size() == 1 ? joined(rows, condition, filter) : null;
      if (joined == null) {
        rest.add(condition);
      } else {
        rows = joined;
      }
    }
    if (rest.isEmpty() || rows == filter.getInput()) {
      return rest.isEmpty() ? rows : filter;
    }
    RexBuilder rex = filter.getCluster().getRexBuilder();
    return filter.copy(filter.getTraitSet(), rows, RexUtil.composeConjunction(rex, rest));
  }

  /** The rows that meet such a condition, or null if it is none. */
  private static RelNode joined(RelNode rows, RexNode condition, Filter filter) {
    boolean none = condition.getKind() == SqlKind.NOT;
    RexNode asked = none ? ((RexCall) condition).getOperands().get(0) : condition;
    if (!(asked instanceof RexSubQuery query) || query.getKind() != SqlKind.EXISTS) {
      return null;
    }
    RelNode inner = query.rel;
    while (inner instanceof Project project) {
      inner = project.getInput();
    }
    CorrelationId id = filter.getVariablesSet().iterator().next();
    if (!(inner instanceof Filter asks)
        || !RelOptUtil.getVariablesUsed(asks.getInput()).isEmpty()
        || !RelOptUtil.getVariablesUsed(asks).equals(Set.of(id))
        || RexUtil.SubQueryFinder.containsSubQuery(asks)) {
      return null;
    }
    RexNode on = asks.getCondition().accept(new Beside(rows, id));
    boolean equalOnly =
        RelOptUtil.conjunctions(on).stream()
            .allMatch(c -> c.getKind() == SqlKind.EQUALS || isOfOne(c, rows));
    if (equalOnly) {
      return null; // what is asked for is less than all rows: the values that there are
    }
    return LogicalJoin.create(
        rows, asks.getInput(), List.of(), on, Set.of(), none ? JoinRelType.ANTI : JoinRelType.SEMI);
  }

  private static boolean isOfOne(RexNode condition, RelNode left) {
    int width = left.getRowType().getFieldCount();
    List<Integer> columns = RelOptUtil.InputFinder.bits(condition).asList();
    return columns.stream().allMatch(c -> c < width) || columns.stream().allMatch(c -> c >= width);
  }

  /** A condition on two rows of one on a row and the one beside it. */
  private static final class Beside extends RexShuttle {
    private final RelNode left;
    private final CorrelationId id;

    Beside(RelNode left, CorrelationId id) {
      this.left = left;
      this.id = id;
    }

    @Override
    public RexNode visitInputRef(RexInputRef ref) {
      return new RexInputRef(ref.getIndex() + left.getRowType().getFieldCount(), ref.getType());
    }

    @Override
    public RexNode visitFieldAccess(RexFieldAccess access) {
      return access.getReferenceExpr() instanceof RexCorrelVariable v && v.id.equals(id)
          ? RexInputRef.of(access.getField().getIndex(), left.getRowType())
          : super.visitFieldAccess(access);
    }
  }
}
