package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import org.apache.calcite.plan.Contexts;
import org.apache.calcite.plan.RelOptRule;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.plan.RelRule;
import org.apache.calcite.plan.hep.HepPlanner;
import org.apache.calcite.plan.hep.HepProgram;
import org.apache.calcite.plan.hep.HepProgramBuilder;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Aggregate;
import org.apache.calcite.rel.core.Correlate;
import org.apache.calcite.rel.core.CorrelationId;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.core.Join;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.core.SetOp;
import org.apache.calcite.rel.core.Sort;
import org.apache.calcite.rel.logical.LogicalJoin;
import org.apache.calcite.rel.rules.CoreRules;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexCorrelVariable;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexLiteral;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexShuttle;
import org.apache.calcite.rex.RexUtil;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.sql2rel.RelDecorrelator;
import org.apache.calcite.tools.RelBuilder;
import org.apache.calcite.tools.RelBuilderFactory;
import org.apache.calcite.util.ImmutableBitSet;

/**
 * Brings the SQL library's algebra into the shape that plans are made of: queries inside
 * expressions become joins, conditions go down to what they are about, and columns that nobody
 * reads are left out. Stateless.
 */
final class QueryShape {
  /**
   * DISTINCT stays: what the library takes to be unique is not always so. Expressions stay as they
   * are, so that constants stay hidden: see {@link #hidden}.
   */
  private static final RelBuilderFactory BUILDERS =
      RelBuilder.proto(
          Contexts.of(RelBuilder.Config.DEFAULT.withAggregateUnique(true).withSimplify(false)));

  private static final HepProgram JOINED =
      new HepProgramBuilder()
          .addRuleInstance(own(CoreRules.FILTER_SUB_QUERY_TO_CORRELATE))
          .addRuleInstance(own(CoreRules.PROJECT_SUB_QUERY_TO_CORRELATE))
          .addRuleInstance(own(CoreRules.JOIN_SUB_QUERY_TO_CORRELATE))
          .build();

  private static final HepProgram PUSHED =
      new HepProgramBuilder()
          .addRuleInstance(own(CoreRules.FILTER_INTO_JOIN))
          .addRuleInstance(own(CoreRules.JOIN_CONDITION_PUSH))
          .addRuleInstance(own(CoreRules.JOIN_PUSH_EXPRESSIONS))
          .build();

  private static final HepProgram SIMPLE =
      new HepProgramBuilder()
          .addRuleInstance(own(CoreRules.FILTER_MERGE))
          .addRuleInstance(own(CoreRules.FILTER_PROJECT_TRANSPOSE))
          .addRuleInstance(own(CoreRules.FILTER_MERGE))
          .addRuleInstance(own(CoreRules.PROJECT_MERGE))
          .addRuleInstance(own(CoreRules.PROJECT_REMOVE))
          .addRuleInstance(own(CoreRules.UNION_MERGE))
          .addRuleInstance(own(CoreRules.AGGREGATE_PROJECT_MERGE))
          .build();

  private QueryShape() {}

  /** When rows of a query that is kept up to date are put out. */
  enum Kept {
    /** As they stand, and again whenever they change. */
    PROVISIONAL,
    /** When they no longer change. */
    SETTLED
  }

  /**
   * The shape of a query.
   *
   * @param kept how it is kept up to date, so that the current time goes on; null if it is not
   */
  static RelNode of(RelNode rel, Kept how) {
    boolean kept = how != null;
    RelNode windowed = Matched.in(TimeWindowed.in(AsOf.in(rel)));
    RelNode found = NearestRow.in(Existence.in(windowed.accept(new Conditions())));
    RelNode shaped = Unnested.in(found.accept(new ScalarQueries()).accept(new Conditions()));
    RelBuilder builder = BUILDERS.create(rel.getCluster(), null);
    if (hasQueries(shaped)) {
      shaped = decorrelated(Unnested.in(Matched.in(TimeWindowed.in(joined(shaped)))), builder);
    }
    shaped = kept ? CurrentTime.in(pushed(shaped)) : shaped;
    if (hasJoins(shaped)
        || TimeReached.isIn(shaped)
        || hasWindows(shaped)
        || Unnested.isIn(shaped)
        || TimeWindowed.isIn(shaped)) {
      shaped = pushed(shaped);
      shaped =
          RelOptUtil.createCastRel(new ColumnTrimmer(builder).trim(shaped), rel.getRowType(), true);
    }
    shaped = WholeSessions.in(run(SIMPLE, shaped));
    return kept ? SlicedWindows.in(shaped, how) : shaped;
  }

  /** With joins for queries in expressions, and for those within these. */
  private static RelNode joined(RelNode rel) {
    RelNode joined = run(JOINED, rel);
    for (int depth = 0; depth < 8 && hasExpressions(joined); depth++) {
      joined = run(JOINED, joined);
    }
    return joined;
  }

  private static RelNode pushed(RelNode rel) {
    RelNode simple = run(SIMPLE, rel);
    RelNode below = FiltersBelow.in(simple);
    return run(PUSHED, below == simple ? simple : run(SIMPLE, below));
  }

  /** Without correlation: the library stops at what a filter has left none in, and goes on then. */
  private static RelNode decorrelated(RelNode rel, RelBuilder builder) {
    RelNode known = independent(leftsFirst(rel, builder));
    for (int i = 0; i < 3 && hasQueries(known); i++) {
      RelNode hidden = OuterConditions.hidden(hidden(known, ImmutableBitSet.of()));
      RelNode plain = RelDecorrelator.decorrelateQuery(OrderedCalls.hidden(hidden), builder);
      known = independent(OuterConditions.shown(OrderedCalls.shown(plain)));
    }
    return known;
  }

  /** With no correlation in what others are correlated with: one after the other. */
  private static RelNode leftsFirst(RelNode rel, RelBuilder builder) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            if (other instanceof Correlate c
                && hasQueries(c.getLeft())
                && RelOptUtil.getVariablesUsed(c.getLeft()).isEmpty()) {
              RelNode left = decorrelated(c.getLeft(), builder);
              return super.visit(c.copy(c.getTraitSet(), List.of(left, c.getRight())));
            }
            return super.visit(other);
          }
        });
  }

  /** With joins for what is said to be correlated and is not. */
  private static RelNode independent(RelNode rel) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            RelNode own = super.visit(other);
            return own instanceof Correlate c && !asks(c.getRight(), c.getCorrelationId())
                ? LogicalJoin.create(
                    c.getLeft(),
                    c.getRight(),
                    List.of(),
                    c.getCluster().getRexBuilder().makeLiteral(true),
                    Set.of(),
                    c.getJoinType())
                : own;
          }
        });
  }

  /** Whether a relation names a correlated row. (The library leaves out what is set on the way.) */
  private static boolean asks(RelNode rel, CorrelationId id) {
    boolean[] asked = new boolean[1];
    RexShuttle finder =
        new RexShuttle() {
          @Override
          public RexNode visitCorrelVariable(RexCorrelVariable variable) {
            asked[0] |= variable.id.equals(id);
            return variable;
          }
        };
    rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            other.accept(finder);
            return super.visit(other);
          }
        });
    return asked[0];
  }

  /**
   * Hides constants that a relation is grouped by: the library would leave them out when it takes
   * correlation away, and grouping by nothing has a row even of nothing.
   *
   * @param keys the columns of it that are grouped by further up
   */
  private static RelNode hidden(RelNode rel, ImmutableBitSet keys) {
    List<RelNode> inputs = new ArrayList<>();
    int first = 0;
    for (RelNode input : rel.getInputs()) {
      int columns = input.getRowType().getFieldCount();
      ImmutableBitSet below =
          rel instanceof Join
              ? keys.intersect(ImmutableBitSet.range(first, first + columns)).shift(-first)
              : keysBelow(rel, keys);
      inputs.add(hidden(input, below));
      first += columns;
    }
    RelNode own = inputs.equals(rel.getInputs()) ? rel : rel.copy(rel.getTraitSet(), inputs);
    if (!(own instanceof Project project)) {
      return own;
    }
    RexBuilder rex = rel.getCluster().getRexBuilder();
    List<RexNode> projects = new ArrayList<>(project.getProjects());
    for (int i : keys) {
      if (projects.get(i) instanceof RexLiteral literal) {
        projects.set(i, rex.makeAbstractCast(literal.getType(), literal, false));
      }
    }
    return project.copy(project.getTraitSet(), project.getInput(), projects, project.getRowType());
  }

  private static ImmutableBitSet keysBelow(RelNode rel, ImmutableBitSet keys) {
    if (rel instanceof Aggregate aggregate) {
      return aggregate.getGroupSet();
    }
    if (rel instanceof Project project) {
      return ImmutableBitSet.of(
          keys.toList().stream()
              .map(i -> project.getProjects().get(i))
              .filter(RexInputRef.class::isInstance)
              .map(e -> ((RexInputRef) e).getIndex())
              .toList());
    }
    return rel instanceof Filter || rel instanceof Sort || rel instanceof SetOp
        ? keys
        : ImmutableBitSet.of();
  }

  /** Conditions as the library's rules want them. */
  private static final class Conditions extends RelHomogeneousShuttle {
    @Override
    public RelNode visit(RelNode other) {
      RelNode rel = super.visit(other);
      RexBuilder rex = rel.getCluster().getRexBuilder();
      if (rel instanceof Filter filter) {
        RexNode condition = RexUtil.pullFactors(rex, filter.getCondition());
        return filter.copy(filter.getTraitSet(), filter.getInput(), condition);
      }
      if (!(rel instanceof Join join)) {
        return rel;
      }
      // What all alternatives ask is asked once: two sides are joined by it.
      RexNode condition =
          RexUtil.pullFactors(rex, join.getCondition().accept(new NullabilityCasts(rex)));
      return join.copy(
          join.getTraitSet(),
          condition,
          join.getLeft(),
          join.getRight(),
          join.getJoinType(),
          join.isSemiJoinDone());
    }
  }

  /** Takes casts of conditions out that say no more than that they can be NULL. */
  private static final class NullabilityCasts extends RexShuttle {
    private final RexBuilder rex;

    NullabilityCasts(RexBuilder rex) {
      this.rex = rex;
    }

    @Override
    public RexNode visitCall(RexCall call) {
      RexNode inner = RexUtil.removeNullabilityCast(rex.getTypeFactory(), call);
      return inner == call || inner.getType().getSqlTypeName() != SqlTypeName.BOOLEAN
          ? super.visitCall(call)
          : inner.accept(this);
    }
  }

  private static RelOptRule own(RelOptRule rule) {
    return ((RelRule<?>) rule).config.withRelBuilderFactory(BUILDERS).toRule();
  }

  private static RelNode run(HepProgram program, RelNode rel) {
    HepPlanner hep = new HepPlanner(program);
    hep.setRoot(rel);
    return hep.findBestExp();
  }

  private static boolean hasJoins(RelNode rel) {
    return rel instanceof Join
        || rel instanceof NearestRow
        || rel.getInputs().stream().anyMatch(QueryShape::hasJoins);
  }

  private static boolean hasWindows(RelNode rel) {
    return rel instanceof Project p && p.containsOver()
        || rel.getInputs().stream().anyMatch(QueryShape::hasWindows);
  }

  private static boolean hasQueries(RelNode rel) {
    return isQuery(rel)
        || rel instanceof Correlate
        || rel.getInputs().stream().anyMatch(QueryShape::hasQueries);
  }

  private static boolean hasExpressions(RelNode rel) {
    return isQuery(rel) || rel.getInputs().stream().anyMatch(QueryShape::hasExpressions);
  }

  /** Whether an expression of a relation is a query. */
  private static boolean isQuery(RelNode rel) {
    return rel instanceof Project p && RexUtil.SubQueryFinder.containsSubQuery(p)
        || rel instanceof Filter f && RexUtil.SubQueryFinder.containsSubQuery(f)
        || rel instanceof Join j && RexUtil.SubQueryFinder.containsSubQuery(j);
  }
}
