package dripledger.engine.query;

import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Program;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.SortKey;
import dripledger.engine.sql.Command;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayList;
import java.util.List;

/**
 * That the one relation of a plan is read in the order of a version's key, one way or the other.
 */
record Along(RelationVersion version, boolean descending) {
  /**
   * Whether a query's order is that of a key of the one relation it reads row by row.
   *
   * @return which way, or null if it is not, or sorting is quicker
   */
  static Along of(Command.QueryPlan query, Snapshot snapshot) {
    List<Integer> columns = query.order().stream().map(SortKey::column).toList();
    PlanNode plan = query.plan();
    while (plan instanceof PlanNode.Transform t) {
      Program program = t.program();
      List<Integer> below = new ArrayList<>();
      for (int column : columns) {
        below.add(program.outputs().get(column) instanceof Expr.Column c ? c.index() : -1);
      }
      columns = below;
      plan = t.input();
      if (columns.contains(-1)) {
        return null;
      }
    }
    if (columns.isEmpty() || !(plan instanceof PlanNode.Source source)) {
      return null;
    }
    RelationVersion version = snapshot.readable(source.relationId());
    boolean descending = query.order().get(0).descending();
    // The key's order has NULLs last.
    boolean oneWay =
        query.order().stream()
            .allMatch(k -> k.descending() == descending && k.nullsFirst() == descending);
    if (version == null || !oneWay) {
      return null;
    }
    List<RelationVersion> ways = new ArrayList<>(version.others());
    ways.add(0, version);
    for (RelationVersion way : ways) {
      if (startsWith(way.key(), columns) && way.worthOrder()) {
        return new Along(way, descending);
      }
    }
    return null;
  }

  private static boolean startsWith(int[] key, List<Integer> columns) {
    for (int i = 0; i < columns.size(); i++) {
      if (i >= key.length || key[i] != columns.get(i)) {
        return false;
      }
    }
    return true;
  }
}
