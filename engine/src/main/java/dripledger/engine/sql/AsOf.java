package dripledger.engine.sql;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import java.util.TreeSet;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Correlate;
import org.apache.calcite.rel.core.CorrelationId;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.core.JoinRelType;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.core.Snapshot;
import org.apache.calcite.rel.core.TableScan;
import org.apache.calcite.rel.logical.LogicalFilter;
import org.apache.calcite.rel.logical.LogicalProject;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeField;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexCorrelVariable;
import org.apache.calcite.rex.RexFieldAccess;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexShuttle;
import org.apache.calcite.rex.RexUtil;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;

/**
 * {@code JOIN t FOR SYSTEM_TIME AS OF s.at ON t.k = s.k}: of what the table's row of that key has
 * been, the last up to that time; with none if it had gone by then. Stateless.
 */
final class AsOf {
  private static final String HINT =
      "write: … JOIN t FOR SYSTEM_TIME AS OF s.at AS t ON t.key = s.column, with all of t's key";

  private AsOf() {}

  /** A query in which such joins are in the form of nearest rows. */
  static RelNode in(RelNode rel) {
    RelNode found =
        rel.accept(
            new RelHomogeneousShuttle() {
              @Override
              public RelNode visit(RelNode other) {
                RelNode own = super.visit(other);
                return own instanceof Correlate correlate && snapshot(correlate.getRight()) != null
                    ? of(correlate)
                    : own;
              }
            });
    if (hasSnapshot(found)) {
      throw refused("it is for the time of a row that the table is joined with");
    }
    return found;
  }

  private static boolean hasSnapshot(RelNode rel) {
    return rel instanceof Snapshot || rel.getInputs().stream().anyMatch(AsOf::hasSnapshot);
  }

  private static EngineException refused(String why) {
    return new EngineException(Code.NOT_SUPPORTED, "FOR SYSTEM_TIME AS OF: " + why, HINT);
  }

  /** The snapshot of a table that is all of a relation but for conditions; or null. */
  private static Snapshot snapshot(RelNode rel) {
    RelNode below = rel;
    while (below instanceof Filter filter) {
      below = filter.getInput();
    }
    if (below instanceof Project p
        && RexUtil.isIdentity(p.getProjects(), p.getInput().getRowType())) {
      below = p.getInput();
    }
    return below instanceof Snapshot s && s.getInput() instanceof TableScan ? s : null;
  }

  private static RelNode of(Correlate correlate) {
    boolean outer = correlate.getJoinType() == JoinRelType.LEFT;
    if (!outer && correlate.getJoinType() != JoinRelType.INNER) {
      throw refused("joins are inner or left");
    }
    Snapshot snapshot = snapshot(correlate.getRight());
    TableScan scan = (TableScan) snapshot.getInput();
    CatalogSchema.Relation relation = scan.getTable().unwrap(CatalogSchema.Relation.class);
    int[] key = ((CatalogObject.Table) relation.object()).primaryKey();
    CorrelationId id = correlate.getCorrelationId();
    int time = column(snapshot.getPeriod(), id);
    if (time < 0) {
      throw refused("the time is a column of what the table is joined with");
    }
    List<Integer> leftKeys = new ArrayList<>();
    List<Integer> rightKeys = new ArrayList<>();
    List<RexNode> rest = new ArrayList<>();
    for (RexNode condition : conditions(correlate.getRight())) {
      if (!isKey(condition, id, key, correlate.getLeft(), leftKeys, rightKeys)) {
        rest.add(condition);
      }
    }
    if (new TreeSet<>(rightKeys).size() < key.length) {
      throw refused("the whole key of the table has to be equal to columns");
    }
    TableHistory history = new TableHistory(scan);
    RelNode nearest =
        NearestRow.asOf(correlate.getLeft(), history, leftKeys, rightKeys, time, outer);
    return joined(correlate, nearest, rest, outer);
  }

  private static List<RexNode> conditions(RelNode rel) {
    List<RexNode> all = new ArrayList<>();
    for (RelNode at = rel; at instanceof Filter filter; at = filter.getInput()) {
      all.addAll(RelOptUtil.conjunctions(filter.getCondition()));
    }
    return all;
  }

  private static int column(RexNode node, CorrelationId id) {
    return node instanceof RexFieldAccess access
            && access.getReferenceExpr() instanceof RexCorrelVariable v
            && v.id.equals(id)
        ? access.getField().getIndex()
        : -1;
  }

  /** Takes a condition that a column of the key is equal to one of the other side. */
  private static boolean isKey(
      RexNode condition,
      CorrelationId id,
      int[] key,
      RelNode left,
      List<Integer> leftKeys,
      List<Integer> rightKeys) {
    if (condition.getKind() != SqlKind.EQUALS) {
      return false;
    }
    RexNode one = ((RexCall) condition).getOperands().get(0);
    RexNode two = ((RexCall) condition).getOperands().get(1);
    RexNode own = one instanceof RexInputRef ? one : two;
    int other = column(one instanceof RexInputRef ? two : one, id);
    if (other < 0 || !(own instanceof RexInputRef ref)) {
      return false;
    }
    boolean known = java.util.Arrays.stream(key).anyMatch(k -> k == ref.getIndex());
    RelDataType type = left.getRowType().getFieldList().get(other).getType();
    if (!known
        || !PlanBuilder.sameStorage(
            TypeMapping.fromSql(ref.getType()), TypeMapping.fromSql(type))) {
      return false;
    }
    leftKeys.add(other);
    rightKeys.add(ref.getIndex());
    return true;
  }

  /** What the join says of its rows: those that had gone are none, nor those that fail the rest. */
  private static RelNode joined(
      Correlate correlate, RelNode nearest, List<RexNode> rest, boolean outer) {
    RexBuilder rex = correlate.getCluster().getRexBuilder();
    int width = correlate.getLeft().getRowType().getFieldCount();
    int last = nearest.getRowType().getFieldCount() - 1;
    List<RexNode> all = new ArrayList<>();
    all.add(rex.makeCall(SqlStdOperatorTable.IS_FALSE, rex.makeInputRef(nearest, last)));
    for (RexNode condition : rest) {
      all.add(condition.accept(new Shifted(correlate, nearest, width)));
    }
    RexNode holds = RexUtil.composeConjunction(rex, all);
    RelNode rows = outer ? nearest : LogicalFilter.create(nearest, holds);
    List<RexNode> outputs = new ArrayList<>();
    for (RelDataTypeField field : correlate.getRowType().getFieldList()) {
      RexNode column = rex.makeInputRef(nearest, field.getIndex());
      if (outer && field.getIndex() >= width) {
        RexNode none = rex.makeNullLiteral(field.getType());
        column = rex.makeCall(SqlStdOperatorTable.CASE, holds, column, none);
      }
      outputs.add(rex.ensureType(field.getType(), column, true));
    }
    return LogicalProject.create(
        rows, List.of(), outputs, correlate.getRowType().getFieldNames(), Set.of());
  }

  /** A condition over the table's row and the one beside it, as one over both together. */
  private static final class Shifted extends RexShuttle {
    private final Correlate correlate;
    private final RelNode both;
    private final int width;

    Shifted(Correlate correlate, RelNode both, int width) {
      this.correlate = correlate;
      this.both = both;
      this.width = width;
    }

    @Override
    public RexNode visitInputRef(RexInputRef ref) {
      return correlate.getCluster().getRexBuilder().makeInputRef(both, ref.getIndex() + width);
    }

    @Override
    public RexNode visitFieldAccess(RexFieldAccess access) {
      int column = column(access, correlate.getCorrelationId());
      return column < 0
          ? super.visitFieldAccess(access)
          : correlate.getCluster().getRexBuilder().makeInputRef(both, column);
    }
  }
}
