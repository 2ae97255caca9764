package dripledger.engine.sql;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.expr.ConstantFolding;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Program;
import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.plan.EventTime;
import dripledger.engine.plan.EventTimes;
import dripledger.engine.plan.JoinKind;
import dripledger.engine.plan.JoinTimes;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import java.util.stream.IntStream;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.rel.RelCollation;
import org.apache.calcite.rel.RelFieldCollation;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Aggregate;
import org.apache.calcite.rel.core.Correlate;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.core.Join;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.core.RepeatUnion;
import org.apache.calcite.rel.core.SetOp;
import org.apache.calcite.rel.core.Sort;
import org.apache.calcite.rel.core.TableScan;
import org.apache.calcite.rel.core.Union;
import org.apache.calcite.rel.core.Values;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexUtil;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.util.ImmutableBitSet;

/** Turns the SQL library's algebra into our plan. Single use, single thread. */
final class PlanBuilder {
  private final RexBuilder rexBuilder;
  private final Expressions expressions;
  private boolean kept; // whether the answer is kept up to date
  private boolean judging; // whether rows are to be told by how they came from their stream

  /**
   * @param now the time the query is asked at; null for a view
   */
  PlanBuilder(RexBuilder rexBuilder, QueryClock now) {
    this.rexBuilder = rexBuilder;
    expressions = new Expressions(rexBuilder, now);
  }

  static EngineException unsupported(String what) {
    return new EngineException(EngineException.Code.NOT_SUPPORTED, "not supported yet: " + what);
  }

  /** The plan of a query whose top may sort and limit. */
  Command.QueryPlan query(RelNode rel, List<Map.Entry<Integer, String>> fields) {
    List<SortKey> order = List.of();
    long offset = 0;
    long limit = -1;
    int offsetParameter = -1;
    int limitParameter = -1;
    RelNode below = rel;
    if (rel instanceof Sort sort) {
      order = order(sort.getCollation());
      offsetParameter = RowCounts.parameter(sort.offset);
      limitParameter = RowCounts.parameter(sort.fetch);
      offset = offsetParameter >= 0 ? 0 : RowCounts.of(sort.offset, 0);
      limit = limitParameter >= 0 ? -1 : RowCounts.of(sort.fetch, -1);
      below = sort.getInput();
    }
    PlanNode plan = build(below);
    int[] outputs = fields.stream().mapToInt(Map.Entry::getKey).toArray();
    List<Column> columns =
        fields.stream().map(f -> new Column(f.getValue(), plan.schema().type(f.getKey()))).toList();
    return new Command.QueryPlan(
        plan, outputs, columns, order, offset, limit, offsetParameter, limitParameter);
  }

  /** An order as we have it. */
  static List<SortKey> order(RelCollation collation) {
    List<SortKey> order = new ArrayList<>();
    for (RelFieldCollation c : collation.getFieldCollations()) {
      boolean descending = c.direction.isDescending();
      boolean nullsFirst =
          c.nullDirection == RelFieldCollation.NullDirection.UNSPECIFIED
              ? descending
              : c.nullDirection == RelFieldCollation.NullDirection.FIRST;
      order.add(new SortKey(c.getFieldIndex(), descending, nullsFirst));
    }
    return order;
  }

  /** Says now what cannot be computed, as far as all values are known. */
  private static void check(Program program) {
    if (!program.isOpen()) {
      ProgramCompiler.compile(program);
    }
  }

  PlanNode build(RelNode rel) {
    if (rel instanceof TableScan scan) {
      CatalogSchema.Relation table = scan.getTable().unwrap(CatalogSchema.Relation.class);
      CatalogObject object = table.read();
      if (judging && object instanceof CatalogObject.MaterializedView m && isOfStream(m.plan())) {
        return m.plan(); // whose rows do not tell any more when they came
      }
      int[] key =
          object instanceof CatalogObject.Table t
              ? t.primaryKey()
              : object instanceof CatalogObject.MaterializedView m && m.keyProven()
                  ? m.key()
                  : null;
      boolean appendOnly =
          object instanceof CatalogObject.Stream
              || object instanceof CatalogObject.MaterializedView m && m.plan().appendOnly();
      return new PlanNode.Source(
          object.id(),
          object.name(),
          object.schema(),
          appendOnly,
          key == null ? null : Arrays.stream(key).boxed().toList(),
          object instanceof CatalogObject.MaterializedView m
              ? KeptByKey.is(m)
              : object instanceof CatalogObject.Table && key != null,
          times(object));
    }
    if (rel instanceof Filter filter) {
      return isOfWindows(filter)
          ? chosen(filter, null)
          : transform(filter.getInput(), filter.getCondition(), null, filter);
    }
    if (rel instanceof Project project) {
      if (WindowPlans.isIn(project.getProjects())) {
        return new WindowPlans(rexBuilder, expressions, build(project.getInput()))
            .of(project.getProjects(), null, TypeMapping.schema(project.getRowType()));
      }
      if (project.getInput() instanceof Filter filter && isOfWindows(filter)) {
        return chosen(filter, project);
      }
      return project.getInput() instanceof Filter filter
          ? transform(filter.getInput(), filter.getCondition(), project.getProjects(), project)
          : transform(project.getInput(), null, project.getProjects(), project);
    }
    if (rel instanceof Aggregate aggregate) {
      return new AggregatePlans(expressions, aggregate, build(aggregate.getInput())).plan();
    }
    if (rel instanceof Join join) {
      return join(join);
    }
    if (rel instanceof Union union) {
      return union(union);
    }
    if (rel instanceof SetOp other) {
      return new SetOperations(other, inputsOf(other)).plan();
    }
    if (rel instanceof Values values) {
      return values(values);
    }
    if (rel instanceof Sort sort) {
      return first(sort);
    }
    if (rel instanceof Unnested unnested) {
      return new PlanNode.Unnest(
          build(unnested.getInput()),
          unnested.kept(),
          unnested.withOrdinality(),
          unnested.isOuter(),
          TypeMapping.schema(unnested.getRowType()));
    }
    if (rel instanceof TimeWindowed windows) {
      return windows.plan(judged(windows.getInput()));
    }
    if (rel instanceof SessionWindowed sessions) {
      return sessions.plan(judged(sessions.getInput()));
    }
    if (rel instanceof Matched matched) {
      PlanNode rows = kept ? judged(matched.getInput()) : build(matched.getInput());
      return new PatternPlans(rexBuilder, expressions, matched.match).plan(rows, kept);
    }
    if (rel instanceof NearestRow nearest) {
      PlanNode left = build(nearest.getLeft());
      PlanNode right = build(nearest.getRight());
      return nearest.isTimed(left, right)
          ? nearest.plan(judged(nearest.getLeft()), judged(nearest.getRight()))
          : nearest.plan(left, right);
    }
    if (rel instanceof TableHistory history) {
      if (!kept) {
        throw new EngineException(
            EngineException.Code.NOT_SUPPORTED,
            "FOR SYSTEM_TIME AS OF in a query that is asked once: what a table was is kept for views",
            "keep it as a materialized view, or FOLLOW it");
      }
      return history.plan(build(history.getInput()));
    }
    if (rel instanceof TimeReached reached) {
      return reached.plan(build(reached.getInput()));
    }
    if (rel instanceof Correlate) {
      throw new EngineException(
          EngineException.Code.NOT_SUPPORTED,
          "not supported yet: this form of a query that reads the row beside it",
          "write it as a join or, of an array, with = ANY (array) or UNNEST (array)");
    }
    throw unsupported(
        rel instanceof RepeatUnion
            ? "WITH RECURSIVE"
            : rel.getRelTypeName().replace("Logical", "").toUpperCase(java.util.Locale.ROOT));
  }

  /** The plan of rows that are told by how they came from their stream. */
  private PlanNode judged(RelNode rel) {
    boolean outer = judging;
    judging = true;
    PlanNode plan = build(rel);
    judging = outer;
    return plan;
  }

  /** Whether a view's rows are those of a stream as they come. */
  private static boolean isOfStream(PlanNode plan) {
    return plan instanceof PlanNode.Transform t && isOfStream(t.input())
        || plan instanceof PlanNode.Source s && s.times().containsValue(EventTime.OF_STREAM);
  }

  private static Map<Integer, EventTime> times(CatalogObject object) {
    if (object instanceof CatalogObject.Stream s && s.eventTime() >= 0) {
      return Map.of(s.eventTime(), EventTime.OF_STREAM);
    }
    return object instanceof CatalogObject.MaterializedView m ? EventTimes.of(m.plan()) : Map.of();
  }

  /** The rows from OFFSET on up to LIMIT; an order alone means nothing inside of a query. */
  private PlanNode first(Sort sort) {
    PlanNode below = build(sort.getInput());
    if (sort.offset == null && sort.fetch == null) {
      return below;
    }
    long offset = RowCounts.of(sort.offset, 0);
    long limit = RowCounts.of(sort.fetch, Long.MAX_VALUE);
    long to = limit > Long.MAX_VALUE - offset ? Long.MAX_VALUE : offset + limit;
    return WindowPlans.first(below, order(sort.getCollation()), offset, to);
  }

  /** The plan of a query that is kept up to date: its order only says which rows there are. */
  Command.QueryPlan kept(RelNode rel, List<Map.Entry<Integer, String>> fields) {
    kept = true;
    PlanNode plan = build(rel);
    int[] outputs = IntStream.range(0, fields.size()).toArray();
    List<Column> columns = new ArrayList<>();
    for (int i = 0; i < fields.size(); i++) {
      columns.add(new Column(fields.get(i).getValue(), plan.schema().type(i)));
    }
    return new Command.QueryPlan(plan, outputs, columns, List.of(), 0, -1);
  }

  private static boolean isOfWindows(Filter filter) {
    return filter.getInput() instanceof Project project && WindowPlans.isIn(project.getProjects());
  }

  /**
   * Rows of window functions that meet a condition. What it asks of a ranking decides which rows
   * are put out at all; a ranking that nothing else asks for is not computed for them.
   *
   * @param above what reads them, or null
   */
  private PlanNode chosen(Filter filter, Project above) {
    WindowConditions asks = new WindowConditions(rexBuilder, filter, above);
    Project project = asks.project();
    List<RexNode> projects = new ArrayList<>(project.getProjects());
    List<RexNode> rest = new ArrayList<>();
    WindowPlans.Choice choice = null;
    for (RexNode part : asks.parts()) {
      WindowPlans.Choice asked = WindowPlans.choice(part, projects);
      if (asked == null || choice != null && !choice.ranking().equals(asked.ranking())) {
        rest.add(part);
      } else {
        choice = asked.and(choice);
      }
    }
    if (above != null && choice != null) {
      List<RexNode> readers = new ArrayList<>(above.getProjects());
      readers.addAll(rest);
      ImmutableBitSet read = RelOptUtil.InputFinder.bits(readers, null);
      for (int i = 0; i < projects.size(); i++) {
        if (!read.get(i) && projects.get(i).equals(choice.ranking())) {
          projects.set(i, rexBuilder.makeZeroLiteral(projects.get(i).getType()));
        }
      }
    }
    WindowPlans plans = new WindowPlans(rexBuilder, expressions, build(project.getInput()));
    if (above != null && rest.isEmpty()) {
      List<RexNode> outputs = RelOptUtil.pushPastProject(above.getProjects(), project);
      return plans.of(outputs, choice, TypeMapping.schema(above.getRowType()));
    }
    PlanNode windows = plans.of(projects, choice, TypeMapping.schema(project.getRowType()));
    RexNode left = RexUtil.composeConjunction(rexBuilder, rest);
    if (above == null && left.isAlwaysTrue()) {
      return windows;
    }
    List<Expr> outputs =
        above == null
            ? Expr.columns(windows.schema())
            : above.getProjects().stream().map(expressions::translate).toList();
    Expr filtered = left.isAlwaysTrue() ? null : ConstantFolding.of(expressions.translate(left));
    RelNode shape = above == null ? filter : above;
    return transform(windows, filtered, outputs, TypeMapping.schema(shape.getRowType()));
  }

  private PlanNode transform(
      RelNode input, RexNode filter, List<? extends RexNode> projects, RelNode shape) {
    PlanNode below = build(input);
    List<Expr> outputs =
        projects == null
            ? Expr.columns(below.schema())
            : projects.stream().map(p -> expressions.translate(p)).toList();
    Expr condition = filter == null ? null : ConstantFolding.of(expressions.translate(filter));
    return transform(below, condition, outputs, TypeMapping.schema(shape.getRowType()));
  }

  static PlanNode transform(PlanNode below, Expr condition, List<Expr> outputs, Schema output) {
    Program program = new Program(below.schema(), condition, outputs, output);
    if (below instanceof PlanNode.Transform t && program.after(t.program()) != null) {
      return compiled(t.input(), program.after(t.program()));
    }
    return compiled(below, program);
  }

  private static PlanNode compiled(PlanNode below, Program program) {
    check(program);
    return new PlanNode.Transform(below, program);
  }

  private PlanNode join(Join rel) {
    PlanNode.Join join = join(rel, build(rel.getLeft()), build(rel.getRight()));
    if (!JoinTimes.judges(join)) {
      return join;
    }
    if (!judging) {
      judging = true;
      join = join(rel, build(rel.getLeft()), build(rel.getRight()));
      judging = false;
    }
    return JoinTimes.inTime(join);
  }

  private PlanNode.Join join(Join rel, PlanNode left, PlanNode right) {
    JoinKind kind =
        switch (rel.getJoinType()) {
          case INNER -> JoinKind.INNER;
          case LEFT -> JoinKind.LEFT;
          case RIGHT -> JoinKind.RIGHT;
          case FULL -> JoinKind.FULL;
          case SEMI -> JoinKind.SEMI;
          case ANTI -> JoinKind.ANTI;
          default -> throw unsupported("this form of join");
        };
    List<Integer> leftKeys = new ArrayList<>();
    List<Integer> rightKeys = new ArrayList<>();
    List<Boolean> nullsExcluded = new ArrayList<>();
    List<RexNode> others = new ArrayList<>();
    RelOptUtil.splitJoinCondition(
        rel.getLeft(),
        rel.getRight(),
        rel.getCondition(),
        leftKeys,
        rightKeys,
        nullsExcluded,
        others);
    List<Boolean> nullMatches = new ArrayList<>();
    for (int i = leftKeys.size() - 1; i >= 0; i--) {
      ColumnType l = left.schema().type(leftKeys.get(i));
      ColumnType r = right.schema().type(rightKeys.get(i));
      nullMatches.add(0, !nullsExcluded.get(i));
      if (!sameStorage(l, r)) {
        others.add(equal(rel, leftKeys.remove(i), rightKeys.remove(i), nullMatches.remove(0)));
      }
    }
    RexNode condition = RexUtil.composeConjunction(rexBuilder, others);
    PlanNode.Join join =
        new PlanNode.Join(
            left,
            right,
            kind,
            leftKeys,
            rightKeys,
            nullMatches,
            condition.isAlwaysTrue() ? null : expressions.translate(condition),
            TypeMapping.schema(rel.getRowType()));
    if (join.condition() != null) {
      check(join.conditionProgram());
    }
    return join;
  }

  /** That two columns are equal, as a condition on pairs. */
  private RexNode equal(Join rel, int left, int right, boolean nullMatches) {
    return rexBuilder.makeCall(
        nullMatches ? SqlStdOperatorTable.IS_NOT_DISTINCT_FROM : SqlStdOperatorTable.EQUALS,
        rexBuilder.makeInputRef(rel.getLeft(), left),
        rexBuilder.makeInputRef(
            rel.getRight().getRowType().getFieldList().get(right).getType(),
            rel.getLeft().getRowType().getFieldCount() + right));
  }

  private PlanNode union(Union rel) {
    Schema output = TypeMapping.schema(rel.getRowType());
    if (rel.all && rel.getInputs().stream().allMatch(PlanBuilder::isConstantRow)) {
      ConstantRows rows = new ConstantRows(output, expressions);
      return new PlanNode.Values(
          output,
          rel.getInputs().stream().map(row -> rows.of(((Project) row).getProjects())).toList());
    }
    PlanNode all = new PlanNode.UnionAll(inputsOf(rel), output);
    if (rel.all) {
      return all;
    }
    List<Integer> groups = IntStream.range(0, output.size()).boxed().toList();
    return new PlanNode.Aggregate(all, groups, List.of(), output);
  }

  /** Whether it is one row that nothing has to be read for: VALUES with expressions is many. */
  private static boolean isConstantRow(RelNode rel) {
    return rel instanceof Project project
        && project.getInput() instanceof Values one
        && one.getTuples().size() == 1
        && ConstantRows.areConstant(project.getProjects());
  }

  /** The inputs of a set operation, with the columns of its result. */
  private List<PlanNode> inputsOf(SetOp rel) {
    Schema output = TypeMapping.schema(rel.getRowType());
    List<PlanNode> inputs = new ArrayList<>();
    for (RelNode input : rel.getInputs()) {
      PlanNode plan = build(input);
      inputs.add(sameStorage(plan.schema(), output) ? plan : castTo(plan, input, rel, output));
    }
    return inputs;
  }

  private static boolean sameStorage(Schema a, Schema b) {
    for (int i = 0; i < a.size(); i++) {
      if (!sameStorage(a.type(i), b.type(i))) {
        return false;
      }
    }
    return true;
  }

  static boolean sameStorage(ColumnType a, ColumnType b) {
    boolean integers = a.kind().isInteger() && b.kind().isInteger();
    return (a.kind() == b.kind() || integers)
        && a.isVariable() == b.isVariable()
        && a.scale() == b.scale();
  }

  private PlanNode castTo(PlanNode plan, RelNode input, SetOp rel, Schema output) {
    List<Expr> casts = new ArrayList<>();
    for (int i = 0; i < output.size(); i++) {
      casts.add(
          expressions.translate(
              rexBuilder.makeCast(
                  rel.getRowType().getFieldList().get(i).getType(),
                  rexBuilder.makeInputRef(input, i))));
    }
    return transform(plan, null, casts, output);
  }

  private PlanNode values(Values rel) {
    Schema output = TypeMapping.schema(rel.getRowType());
    ConstantRows rows = new ConstantRows(output, expressions);
    return new PlanNode.Values(output, rel.getTuples().stream().map(rows::of).toList());
  }
}
