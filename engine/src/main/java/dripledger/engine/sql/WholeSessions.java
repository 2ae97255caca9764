package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.HashSet;
import java.util.List;
import java.util.Set;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.rel.RelCollations;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Aggregate;
import org.apache.calcite.rel.core.AggregateCall;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.logical.LogicalAggregate;
import org.apache.calcite.rel.logical.LogicalProject;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.util.ImmutableBitSet;

/**
 * Groups that are sessions, each whole: the end of one follows from the last of its rows, so that
 * no row has to be told when its session ends. Stateless.
 */
final class WholeSessions {
  private WholeSessions() {}

  static RelNode in(RelNode rel) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            RelNode own = super.visit(other);
            return own instanceof Aggregate a ? of(a) : own;
          }
        });
  }

  private static RelNode of(Aggregate a) {
    RelNode below = a.getInput();
    RelNode rows = below instanceof Project p ? p.getInput() : below;
    if (!(rows instanceof SessionWindowed sessions)
        || !sessions.withEnd()
        || a.getGroupType() != Aggregate.Group.SIMPLE) {
      return a;
    }
    RexBuilder rex = a.getCluster().getRexBuilder();
    int start = sessions.start();
    List<RexNode> outputs = new ArrayList<>();
    for (int i = 0; i < below.getRowType().getFieldCount(); i++) {
      outputs.add(below instanceof Project p ? p.getProjects().get(i) : rex.makeInputRef(below, i));
    }
    ImmutableBitSet.Builder groups = ImmutableBitSet.builder();
    Set<Integer> by = new HashSet<>();
    for (int group : a.getGroupSet()) {
      if (!(outputs.get(group) instanceof RexInputRef ref)) {
        return a;
      }
      int column = Math.min(ref.getIndex(), start); // a session's end says as well which it is
      if (by.add(column)) {
        groups.set(group);
      }
    }
    Set<Integer> whole = new HashSet<>(sessions.partition);
    whole.add(start);
    if (!by.equals(whole) || readsEnd(a, outputs, start + 1)) {
      return a;
    }
    SessionWindowed without = sessions.withoutEnd();
    for (int group : a.getGroupSet()) {
      if (((RexInputRef) outputs.get(group)).getIndex() == start + 1) {
        outputs.set(group, rex.makeInputRef(without, start));
      }
    }
    outputs.replaceAll(
        e -> e instanceof RexInputRef ref ? rex.makeInputRef(without, ref.getIndex()) : e);
    outputs.add(rex.makeInputRef(without, sessions.time));
    List<String> names = new ArrayList<>(below.getRowType().getFieldNames());
    names.add("last");
    RelNode timed = LogicalProject.create(without, List.of(), outputs, names, Set.of());
    List<AggregateCall> calls = new ArrayList<>(a.getAggCallList());
    RelDataType moment = timed.getRowType().getFieldList().get(outputs.size() - 1).getType();
    calls.add(
        AggregateCall.create(
            SqlStdOperatorTable.MAX,
            false,
            false,
            false,
            List.of(),
            List.of(outputs.size() - 1),
            -1,
            null,
            RelCollations.EMPTY,
            moment,
            "last"));
    ImmutableBitSet set = groups.build();
    RelNode grouped = LogicalAggregate.create(timed, a.getHints(), set, null, calls);
    return LogicalProject.create(
        grouped,
        List.of(),
        results(a, grouped, set, sessions, below),
        a.getRowType().getFieldNames(),
        Set.of());
  }

  /** Whether something else than the groups reads the end of a session. */
  private static boolean readsEnd(Aggregate a, List<RexNode> outputs, int end) {
    for (int i = 0; i < outputs.size(); i++) {
      boolean isGroup = a.getGroupSet().get(i);
      if (!isGroup && RelOptUtil.InputFinder.bits(outputs.get(i)).get(end)) {
        return true;
      }
      int column = i;
      boolean argued =
          a.getAggCallList().stream()
              .anyMatch(
                  c ->
                      c.getArgList().contains(column)
                          || c.filterArg == column
                          || c.getCollation().getKeys().contains(column));
      if (isGroup && argued && RelOptUtil.InputFinder.bits(outputs.get(i)).get(end)) {
        return true;
      }
    }
    return false;
  }

  /** The columns of the aggregate as they were. */
  private static List<RexNode> results(
      Aggregate a, RelNode grouped, ImmutableBitSet set, SessionWindowed sessions, RelNode below) {
    RexBuilder rex = a.getCluster().getRexBuilder();
    RelDataTypeFactory types = rex.getTypeFactory();
    RelDataType moment = types.createSqlType(SqlTypeName.TIMESTAMP, 6);
    int last = grouped.getRowType().getFieldCount() - 1;
    List<RexNode> results = new ArrayList<>();
    for (int group : a.getGroupSet()) {
      int column =
          below instanceof Project p
              ? ((RexInputRef) p.getProjects().get(group)).getIndex()
              : group;
      if (column == sessions.start() + 1) {
        RexNode known = rex.makeAbstractCast(moment, rex.makeInputRef(grouped, last), false);
        RexNode gap = TimeWindowed.interval(rex, sessions.gap);
        results.add(rex.makeCall(moment, SqlStdOperatorTable.DATETIME_PLUS, List.of(known, gap)));
      } else {
        results.add(rex.makeInputRef(grouped, set.indexOf(group)));
      }
    }
    for (int i = 0; i < a.getAggCallList().size(); i++) {
      results.add(rex.makeInputRef(grouped, set.cardinality() + i));
    }
    return results;
  }
}
