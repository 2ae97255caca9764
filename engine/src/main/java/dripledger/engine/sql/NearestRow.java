package dripledger.engine.sql;

import dripledger.engine.plan.EventTimes;
import dripledger.engine.plan.InTime;
import dripledger.engine.plan.Nearest;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.TableVersions;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import java.util.stream.IntStream;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.plan.RelTraitSet;
import org.apache.calcite.rel.BiRel;
import org.apache.calcite.rel.RelFieldCollation;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.RelWriter;
import org.apache.calcite.rel.core.Correlate;
import org.apache.calcite.rel.core.CorrelationId;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.core.JoinRelType;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.core.Sort;
import org.apache.calcite.rel.logical.LogicalFilter;
import org.apache.calcite.rel.logical.LogicalProject;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rel.type.RelDataTypeField;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexCorrelVariable;
import org.apache.calcite.rex.RexFieldAccess;
import org.apache.calcite.rex.RexLiteral;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexUtil;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.util.ImmutableBitSet;
import org.apache.calcite.util.mapping.Mapping;

/**
 * A LATERAL query for the nearest row: {@code (SELECT … FROM b WHERE b.k = a.k AND b.at <= a.at
 * ORDER BY b.at DESC LIMIT 1)}. Without a step of its own it would be a join of each row with all
 * before it, of which one is chosen.
 */
final class NearestRow extends BiRel {
  private final List<Integer> leftKeys;
  private final List<Integer> rightKeys;
  private final int leftTime;
  private final int rightTime;
  private final SqlKind than; // the right time is this, compared with the left
  private final List<SortKey> ties; // in the order of the query, behind its first
  private final boolean outer;
  private final int outputs; // of the right

  private record Asked(
      List<Integer> leftKeys,
      List<Integer> rightKeys,
      int leftTime,
      int rightTime,
      SqlKind than,
      List<SortKey> ties) {}

  private NearestRow(
      RelNode left, RelNode right, Asked asked, boolean outer, int outputs, RelDataType type) {
    super(left.getCluster(), left.getTraitSet(), left, right);
    leftKeys = asked.leftKeys;
    rightKeys = asked.rightKeys;
    leftTime = asked.leftTime;
    rightTime = asked.rightTime;
    than = asked.than;
    ties = asked.ties;
    this.outer = outer;
    this.outputs = outputs;
    this.rowType = type;
  }

  private Asked asked() {
    return new Asked(leftKeys, rightKeys, leftTime, rightTime, than, ties);
  }

  @Override
  public RelNode copy(RelTraitSet traits, List<RelNode> inputs) {
    return new NearestRow(inputs.get(0), inputs.get(1), asked(), outer, outputs, rowType);
  }

  @Override
  public RelWriter explainTerms(RelWriter writer) {
    return super.explainTerms(writer)
        .item("asked", asked().toString())
        .item("outer", outer)
        .item("outputs", outputs);
  }

  // ---- found

  /** A query in which such queries are in this form. */
  static RelNode in(RelNode rel) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            RelNode own = super.visit(other);
            RelNode found = own instanceof Correlate correlate ? of(correlate) : null;
            return found == null ? own : found;
          }
        });
  }

  /** The form of one, or null if it is none. */
  private static RelNode of(Correlate correlate) {
    Project above = correlate.getRight() instanceof Project p ? p : null;
    RelNode ordered = above == null ? correlate.getRight() : above.getInput();
    if (!(ordered instanceof Sort sort) || !isFirst(sort)) {
      return null;
    }
    Project project = sort.getInput() instanceof Project p ? p : null;
    RelNode below = project == null ? sort.getInput() : project.getInput();
    boolean fits =
        below instanceof Filter f
            && RelOptUtil.getVariablesUsed(f.getInput()).isEmpty()
            && RelOptUtil.getVariablesUsed(f).equals(Set.of(correlate.getCorrelationId()))
            && !RexUtil.SubQueryFinder.containsSubQuery(f)
            && (correlate.getJoinType() == JoinRelType.INNER
                || correlate.getJoinType() == JoinRelType.LEFT)
            && isPlain(above)
            && isPlain(project);
    if (!fits) {
      return null;
    }
    Filter filter = (Filter) below;
    RexBuilder rex = correlate.getCluster().getRexBuilder();
    List<RexNode> columns =
        project == null ? identity(filter.getInput(), rex) : project.getProjects();
    List<RexNode> outputs = new ArrayList<>();
    if (above == null) {
      outputs.addAll(columns);
    } else {
      above.getProjects().forEach(e -> outputs.add(RelOptUtil.pushPastProject(e, project(sort))));
    }
    return new Finder(correlate, filter, sort, columns, rex).find(outputs);
  }

  private static Project project(Sort sort) {
    return sort.getInput() instanceof Project p
        ? p
        : LogicalProject.create(
            sort.getInput(),
            List.of(),
            identity(sort.getInput(), sort.getCluster().getRexBuilder()),
            sort.getInput().getRowType().getFieldNames(),
            Set.of());
  }

  private static List<RexNode> identity(RelNode rel, RexBuilder rex) {
    List<RexNode> all = new ArrayList<>();
    for (int i = 0; i < rel.getRowType().getFieldCount(); i++) {
      all.add(rex.makeInputRef(rel, i));
    }
    return all;
  }

  private static boolean isPlain(Project project) {
    return project == null
        || project.getVariablesSet().isEmpty()
            && project.getProjects().stream().noneMatch(NearestRow::isCorrelated)
            && !project.containsOver();
  }

  private static boolean isFirst(Sort sort) {
    return sort.offset == null
        && sort.fetch instanceof RexLiteral one
        && one.getValueAs(BigDecimal.class).compareTo(BigDecimal.ONE) == 0
        && !sort.getCollation().getFieldCollations().isEmpty();
  }

  private static boolean isCorrelated(RexNode node) {
    boolean[] found = new boolean[1];
    node.accept(
        new org.apache.calcite.rex.RexShuttle() {
          @Override
          public RexNode visitCorrelVariable(RexCorrelVariable variable) {
            found[0] = true;
            return variable;
          }
        });
    return found[0];
  }

  /** Takes a query apart. */
  private static final class Finder {
    private final Correlate correlate;
    private final Filter filter;
    private final Sort sort;
    private final List<RexNode> columns; // of what is sorted, over the filter's input
    private final RexBuilder rex;
    private final List<RexNode> needed = new ArrayList<>(); // of the right, behind its outputs
    private final List<Integer> leftKeys = new ArrayList<>();
    private final List<Integer> rightKeys = new ArrayList<>();
    private final List<RexNode> own = new ArrayList<>(); // what is asked of the right alone
    private int leftTime = -1;
    private RexNode rightTime;
    private SqlKind than;

    Finder(Correlate correlate, Filter filter, Sort sort, List<RexNode> columns, RexBuilder rex) {
      this.correlate = correlate;
      this.filter = filter;
      this.sort = sort;
      this.columns = columns;
      this.rex = rex;
    }

    RelNode find(List<RexNode> outputs) {
      for (RexNode condition : RelOptUtil.conjunctions(filter.getCondition())) {
        if (!isCorrelated(condition)) {
          own.add(condition);
        } else if (!(condition instanceof RexCall call) || !take(call)) {
          return null;
        }
      }
      List<RelFieldCollation> order = sort.getCollation().getFieldCollations();
      RelFieldCollation first = order.get(0);
      boolean down = first.getDirection().isDescending();
      boolean before = than == SqlKind.LESS_THAN || than == SqlKind.LESS_THAN_OR_EQUAL;
      if (leftTime < 0 || down != before || !columns.get(first.getFieldIndex()).equals(rightTime)) {
        return null;
      }
      needed.addAll(0, outputs);
      int shift = outputs.size();
      List<SortKey> ties = new ArrayList<>();
      for (SortKey key : PlanBuilder.order(sort.getCollation()).subList(1, order.size())) {
        needed.add(columns.get(key.column()));
        ties.add(new SortKey(needed.size() - 1, key.descending(), key.nullsFirst()));
      }
      needed.add(rightTime);
      Asked asked =
          new Asked(
              leftKeys,
              rightKeys.stream().map(k -> k + shift).toList(),
              leftTime,
              needed.size() - 1,
              than,
              ties);
      RelNode rows =
          own.isEmpty()
              ? filter.getInput()
              : LogicalFilter.create(filter.getInput(), RexUtil.composeConjunction(rex, own));
      List<String> names = IntStream.range(0, needed.size()).mapToObj(i -> "$n" + i).toList();
      RelNode right = LogicalProject.create(rows, List.of(), needed, names, Set.of());
      boolean outer = correlate.getJoinType() == JoinRelType.LEFT;
      return new NearestRow(
          correlate.getLeft(), right, asked, outer, outputs.size(), correlate.getRowType());
    }

    /** Takes a comparison of a column of the left with something of the right. */
    private boolean take(RexCall call) {
      if (call.getOperands().size() != 2) {
        return false;
      }
      int left = leftColumn(call.getOperands().get(0));
      RexNode right = call.getOperands().get(1);
      SqlKind kind = call.getKind().reverse();
      if (left < 0) {
        left = leftColumn(right);
        right = call.getOperands().get(0);
        kind = call.getKind();
      }
      if (left < 0 || isCorrelated(right)) {
        return false;
      }
      ColumnType type = TypeMapping.fromSql(right.getType());
      ColumnType other =
          TypeMapping.fromSql(correlate.getLeft().getRowType().getFieldList().get(left).getType());
      if (!PlanBuilder.sameStorage(type, other)) {
        return false;
      }
      if (kind == SqlKind.EQUALS) {
        leftKeys.add(left);
        rightKeys.add(needed.size());
        needed.add(right);
        return true;
      }
      boolean ordered =
          kind == SqlKind.LESS_THAN
              || kind == SqlKind.LESS_THAN_OR_EQUAL
              || kind == SqlKind.GREATER_THAN
              || kind == SqlKind.GREATER_THAN_OR_EQUAL;
      if (!ordered || leftTime >= 0 || !isNumber(type.kind())) {
        return false;
      }
      leftTime = left;
      rightTime = right;
      than = kind;
      return true;
    }

    private static boolean isNumber(Kind kind) {
      return kind == Kind.TIMESTAMP
          || kind == Kind.DATE
          || kind == Kind.SMALLINT
          || kind == Kind.INTEGER
          || kind == Kind.BIGINT;
    }

    private int leftColumn(RexNode node) {
      CorrelationId id = correlate.getCorrelationId();
      return node instanceof RexFieldAccess access
              && access.getReferenceExpr() instanceof RexCorrelVariable v
              && v.id.equals(id)
          ? access.getField().getIndex()
          : -1;
    }
  }

  /**
   * For each row of the left what a table's row of its key was at its time.
   *
   * @param leftTime the column of that time
   * @return the columns of the left, then those of the table and whether its row had gone by then
   */
  static RelNode asOf(
      RelNode left,
      TableHistory history,
      List<Integer> leftKeys,
      List<Integer> rightKeys,
      int leftTime,
      boolean outer) {
    RexBuilder rex = left.getCluster().getRexBuilder();
    int width = history.getInput().getRowType().getFieldCount();
    List<RexNode> columns = new ArrayList<>(identity(history, rex));
    columns.add(width, columns.remove(width + 2)); // what is put out comes first
    List<String> names = new ArrayList<>(history.getRowType().getFieldNames());
    names.add(width, names.remove(width + 2));
    RelNode right = LogicalProject.create(history, List.of(), columns, names, Set.of());
    RelDataTypeFactory.Builder type = left.getCluster().getTypeFactory().builder();
    type.addAll(left.getRowType().getFieldList());
    for (RelDataTypeField field : right.getRowType().getFieldList().subList(0, width + 1)) {
      boolean nullable = outer || field.getType().isNullable();
      type.add(
          field.getName(),
          left.getCluster().getTypeFactory().createTypeWithNullability(field.getType(), nullable));
    }
    List<SortKey> last = List.of(new SortKey(width + 2, true, false));
    Asked asked =
        new Asked(leftKeys, rightKeys, leftTime, width + 1, SqlKind.LESS_THAN_OR_EQUAL, last);
    return new NearestRow(left, right, asked, outer, width + 1, type.uniquify().build());
  }

  /** The columns of the left that are needed. */
  ImmutableBitSet needed(ImmutableBitSet used) {
    return used.intersect(ImmutableBitSet.range(left.getRowType().getFieldCount()))
        .union(ImmutableBitSet.of(leftKeys))
        .set(leftTime);
  }

  /** As it is when some columns of the left are left out. */
  NearestRow trimmed(RelNode input, Mapping where) {
    RelDataTypeFactory.Builder type = getCluster().getTypeFactory().builder();
    type.addAll(input.getRowType().getFieldList());
    List<RelDataTypeField> own = rowType.getFieldList();
    type.addAll(own.subList(left.getRowType().getFieldCount(), own.size()));
    Asked asked =
        new Asked(
            leftKeys.stream().map(where::getTarget).toList(),
            rightKeys,
            where.getTarget(leftTime),
            rightTime,
            than,
            ties);
    return new NearestRow(input, right, asked, outer, outputs, type.uniquify().build());
  }

  /** From the columns it has to those it has then. */
  Mapping mapping(Mapping where) {
    return SessionWindowed.beside(where, left.getRowType().getFieldCount(), outputs);
  }

  // ---- planned

  /** Whether the watermark speaks of both times. */
  boolean isTimed(PlanNode left, PlanNode right) {
    return EventTimes.of(left).containsKey(leftTime) && EventTimes.of(right).containsKey(rightTime);
  }

  /** The plan of it over those of its inputs. */
  PlanNode plan(PlanNode left, PlanNode right) {
    boolean timed = isTimed(left, right);
    PlanNode firsts = timed ? InTime.rows(left, leftTime) : left;
    PlanNode seconds = timed && !isHistory(right) ? InTime.rows(right, rightTime) : right;
    boolean before = than == SqlKind.LESS_THAN || than == SqlKind.LESS_THAN_OR_EQUAL;
    boolean behindEqual = than == SqlKind.LESS_THAN || than == SqlKind.GREATER_THAN_OR_EQUAL;
    BothKinds both = new BothKinds(firsts.schema(), seconds.schema());
    for (int i = 0; i < leftKeys.size(); i++) {
      both.shared(leftKeys.get(i), rightKeys.get(i));
    }
    int time = both.shared(leftTime, rightTime);
    int kind = both.kind(Nearest.FIRST, behindEqual ? 2 : 0);
    List<Integer> outs = new ArrayList<>();
    for (int i = 0; i < left.schema().size(); i++) {
      outs.add(both.first(i));
    }
    for (int i = 0; i < outputs; i++) {
      outs.add(both.second(i));
    }
    List<SortKey> order = new ArrayList<>();
    order.add(new SortKey(time, false, false));
    order.add(new SortKey(kind, false, false));
    for (SortKey tie : ties) { // the last is taken, or the first
      order.add(
          new SortKey(
              both.second(tie.column()), before != tie.descending(), before != tie.nullsFirst()));
    }
    Schema schema = both.schema();
    PlanNode union =
        new PlanNode.UnionAll(
            List.of(
                PlanBuilder.transform(firsts, null, both.firsts(), schema),
                PlanBuilder.transform(seconds, null, both.seconds(), schema)),
            schema);
    return new Nearest(
        union,
        IntStream.range(0, leftKeys.size()).boxed().toList(),
        kind,
        order,
        before,
        behindEqual,
        outer,
        outs,
        left.schema().size(),
        TypeMapping.schema(rowType));
  }

  /** Whether rows are what those of a table have been: none of them is late. */
  private static boolean isHistory(PlanNode plan) {
    PlanNode below = plan instanceof PlanNode.Transform t ? t.input() : plan;
    return below instanceof TableVersions;
  }
}
