package dripledger.engine.query;

import dripledger.engine.circuit.Circuit;
import dripledger.engine.expr.Expr;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Schema;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Locale;
import java.util.stream.Collectors;

/** Says how a query that is asked once reads its relations. Stateless. */
public final class QueryReads {
  private QueryReads() {}

  /**
   * How a step of a plan reads its relation now; nothing for a step that reads none.
   *
   * @param node of the plan
   */
  public static String text(PlanNode node, PlanNode plan, Snapshot snapshot) {
    if (!(node instanceof PlanNode.Source s) || s.relationId() < 0) {
      return "";
    }
    RelationVersion version = snapshot.relation(s.relationId());
    if (version == null) {
      return "all that is kept";
    }
    if (isLookedUp(s, plan) && Circuit.looksUpIn(version)) {
      return way(version, version, version.key().length) + ", as the other side asks";
    }
    JoinLookUps.LookUp lookUp = JoinLookUps.of(plan, snapshot).get(s.relationId());
    if (lookUp != null) {
      int columns = lookUp.columns().size();
      return way(lookUp.way(), version, columns) + ", as the other side asks";
    }
    Expr filter = QueryRunner.filters(plan).get(s.relationId());
    List<RelationVersion> ways = new ArrayList<>(version.others());
    ways.add(0, version);
    for (RelationVersion each : ways) {
      List<KeyRanges.Range> ranges = filter == null ? null : KeyRanges.of(filter, each);
      boolean whole = ranges != null && ranges.stream().allMatch(r -> r.values() != null);
      boolean ready = each != version || version.finds(whole ? version.key().length : 0);
      if (ranges != null && ready) {
        return way(each, version, each.key().length) + (whole ? "" : ", in part");
      }
    }
    return String.format(Locale.ROOT, "all, %,d rows", version.count());
  }

  /** Whether a join of the plan looks rows up in a table. */
  private static boolean isLookedUp(PlanNode.Source table, PlanNode plan) {
    return plan instanceof PlanNode.Join j && j.byKey() && j.kept(j.table()) == table
        || plan.inputs().stream().anyMatch(input -> isLookedUp(table, input));
  }

  private static String way(RelationVersion way, RelationVersion version, int columns) {
    Schema schema = version.schema();
    String names =
        Arrays.stream(way.key())
            .limit(columns)
            .mapToObj(c -> schema.column(c).name())
            .collect(Collectors.joining(", "));
    return (way == version ? "by key " : "by index on ") + names;
  }
}
