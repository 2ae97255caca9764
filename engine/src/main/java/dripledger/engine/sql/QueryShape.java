package dripledger.engine.sql;

import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.plan.hep.HepPlanner;
import org.apache.calcite.plan.hep.HepProgram;
import org.apache.calcite.plan.hep.HepProgramBuilder;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Correlate;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.core.Join;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.core.RelFactories;
import org.apache.calcite.rel.rules.CoreRules;
import org.apache.calcite.rex.RexUtil;
import org.apache.calcite.sql2rel.RelDecorrelator;
import org.apache.calcite.sql2rel.RelFieldTrimmer;
import org.apache.calcite.tools.RelBuilder;

/**
 * Brings the SQL library's algebra into the shape that plans are made of: queries inside
 * expressions become joins, conditions go down to what they are about, and columns that nobody
 * reads are left out. Stateless.
 */
final class QueryShape {
  private static final HepProgram JOINED =
      new HepProgramBuilder()
          .addRuleInstance(CoreRules.FILTER_SUB_QUERY_TO_CORRELATE)
          .addRuleInstance(CoreRules.PROJECT_SUB_QUERY_TO_CORRELATE)
          .addRuleInstance(CoreRules.JOIN_SUB_QUERY_TO_CORRELATE)
          .build();

  private static final HepProgram PUSHED =
      new HepProgramBuilder()
          .addRuleInstance(CoreRules.FILTER_INTO_JOIN)
          .addRuleInstance(CoreRules.JOIN_CONDITION_PUSH)
          .addRuleInstance(CoreRules.JOIN_PUSH_EXPRESSIONS)
          .build();

  private static final HepProgram SIMPLE =
      new HepProgramBuilder()
          .addRuleInstance(CoreRules.FILTER_MERGE)
          .addRuleInstance(CoreRules.FILTER_PROJECT_TRANSPOSE)
          .addRuleInstance(CoreRules.FILTER_MERGE)
          .addRuleInstance(CoreRules.PROJECT_MERGE)
          .addRuleInstance(CoreRules.PROJECT_REMOVE)
          .addRuleInstance(CoreRules.UNION_MERGE)
          .addRuleInstance(CoreRules.AGGREGATE_PROJECT_MERGE)
          .build();

  private QueryShape() {}

  static RelNode of(RelNode rel) {
    RelNode shaped = rel;
    RelBuilder builder = RelFactories.LOGICAL_BUILDER.create(rel.getCluster(), null);
    if (hasQueries(shaped)) {
      shaped = RelDecorrelator.decorrelateQuery(run(JOINED, shaped), builder);
    }
    if (hasJoins(shaped) || hasWindows(shaped)) {
      shaped = run(PUSHED, run(SIMPLE, shaped));
      shaped =
          RelOptUtil.createCastRel(
              new RelFieldTrimmer(null, builder).trim(shaped), rel.getRowType(), true);
    }
    return run(SIMPLE, shaped);
  }

  private static RelNode run(HepProgram program, RelNode rel) {
    HepPlanner hep = new HepPlanner(program);
    hep.setRoot(rel);
    return hep.findBestExp();
  }

  private static boolean hasJoins(RelNode rel) {
    return rel instanceof Join || rel.getInputs().stream().anyMatch(QueryShape::hasJoins);
  }

  private static boolean hasWindows(RelNode rel) {
    return rel instanceof Project p && p.containsOver()
        || rel.getInputs().stream().anyMatch(QueryShape::hasWindows);
  }

  private static boolean hasQueries(RelNode rel) {
    boolean own =
        rel instanceof Project p && RexUtil.SubQueryFinder.containsSubQuery(p)
            || rel instanceof Filter f && RexUtil.SubQueryFinder.containsSubQuery(f)
            || rel instanceof Join j && RexUtil.SubQueryFinder.containsSubQuery(j)
            || rel instanceof Correlate;
    return own || rel.getInputs().stream().anyMatch(QueryShape::hasQueries);
  }
}
