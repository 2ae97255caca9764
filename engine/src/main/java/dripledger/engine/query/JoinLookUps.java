package dripledger.engine.query;

import dripledger.engine.expr.Expr;
import dripledger.engine.plan.JoinKind;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.ColumnType;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;

/**
 * Finds the relations of a query asked once of which a join needs only what a few rows of its other
 * side match, and that can find it: by their key or an index. The rows that are left out would meet
 * nothing. Stateless.
 */
public final class JoinLookUps {
  /** More rows of the other side than this are not few. */
  static final int FEW = 1000;

  private final Snapshot snapshot;
  private final Map<Long, Integer> reads = new HashMap<>();

  private JoinLookUps(PlanNode plan, Snapshot snapshot) {
    this.snapshot = snapshot;
    countReads(plan);
  }

  /**
   * A relation that is read by what it is joined on.
   *
   * @param way the relation, or the order of one of its indexes
   * @param other the other side of the join, which is expected to have few rows
   * @param columns of the other side, each to be equal to a leading column of the way's key
   */
  public record LookUp(
      PlanNode.Source source, RelationVersion way, PlanNode other, List<Integer> columns) {}

  /** What a plan reads by look-ups, by the relation's number. */
  public static Map<Long, LookUp> of(PlanNode plan, Snapshot snapshot) {
    Map<Long, LookUp> found = new HashMap<>();
    if (hasJoin(plan)) {
      new JoinLookUps(plan, snapshot).find(plan, found);
    }
    return found;
  }

  private static boolean hasJoin(PlanNode plan) {
    return plan instanceof PlanNode.Join || plan.inputs().stream().anyMatch(JoinLookUps::hasJoin);
  }

  private void countReads(PlanNode plan) {
    if (plan instanceof PlanNode.Source s) {
      reads.merge(s.relationId(), 1, Integer::sum);
    }
    plan.inputs().forEach(this::countReads);
  }

  private void find(PlanNode plan, Map<Long, LookUp> into) {
    if (plan instanceof PlanNode.Join join) {
      LookUp found = lookUp(join);
      if (found != null) {
        into.put(found.source().relationId(), found);
      }
    }
    plan.inputs().forEach(input -> find(input, into));
  }

  /** How one side of a join can be read by the rows of the other, or null. */
  private LookUp lookUp(PlanNode.Join join) {
    LookUp right = join.kind().keepsLeft() ? right(join) : null;
    if (right != null) {
      return right;
    }
    return join.kind().keepsRight() || join.kind() == JoinKind.SEMI ? left(join) : null;
  }

  private LookUp right(PlanNode.Join join) {
    LookUp found = way(join.right(), join.rightKeys(), join.left(), join.leftKeys(), join);
    return found != null && isFew(join.left()) ? found : null;
  }

  private LookUp left(PlanNode.Join join) {
    LookUp found = way(join.left(), join.leftKeys(), join.right(), join.rightKeys(), join);
    return found != null && isFew(join.right()) ? found : null;
  }

  private LookUp way(
      PlanNode side, List<Integer> keys, PlanNode other, List<Integer> otherKeys, PlanNode.Join j) {
    Map<Integer, Integer> equal = new HashMap<>(); // column of the relation: of the other side
    PlanNode.Source source = null;
    for (int k = 0; k < keys.size(); k++) {
      Place place = place(side, keys.get(k));
      ColumnType type = side.schema().type(keys.get(k)).notNull();
      ColumnType otherType = other.schema().type(otherKeys.get(k)).notNull();
      boolean alike =
          type.equals(otherType) || type.kind().isInteger() && otherType.kind().isInteger();
      if (place != null && alike && !j.nullMatches().get(k)) {
        source = place.source;
        equal.putIfAbsent(place.column, otherKeys.get(k));
      }
    }
    if (source == null || reads.get(source.relationId()) > 1) {
      return null;
    }
    RelationVersion version = snapshot.relation(source.relationId());
    if (version == null || isKnown(side, version)) {
      return null;
    }
    List<Integer> columns = leading(version, equal);
    if (!columns.isEmpty() && version.finds(columns.size())) {
      return new LookUp(source, version, other, columns);
    }
    for (RelationVersion index : version.others()) {
      columns = leading(index, equal);
      if (!columns.isEmpty()) {
        return new LookUp(source, index, other, columns);
      }
    }
    return null;
  }

  /** The columns of the other side that leading columns of a key are equal to. */
  private static List<Integer> leading(RelationVersion version, Map<Integer, Integer> equal) {
    List<Integer> columns = new ArrayList<>();
    for (int column : version.key()) {
      if (!equal.containsKey(column)) {
        break;
      }
      columns.add(equal.get(column));
    }
    return columns;
  }

  private record Place(PlanNode.Source source, int column) {}

  /**
   * Where a column comes from as it is, if a row of the side is made of rows of one relation that
   * are alike in it, and of no others.
   */
  private static Place place(PlanNode side, int column) {
    if (side instanceof PlanNode.Source s) {
      return new Place(s, column);
    }
    if (side instanceof PlanNode.Transform t) {
      return t.program().outputs().get(column) instanceof Expr.Column c
          ? place(t.input(), c.index())
          : null;
    }
    if (side instanceof PlanNode.Aggregate a && column < a.groupColumns().size()) {
      return place(a.input(), a.groupColumns().get(column));
    }
    return null;
  }

  /** Whether a side is expected to have few rows, and to be read quickly. */
  private boolean isFew(PlanNode side) {
    if (side instanceof PlanNode.Values) {
      return true;
    }
    if (side instanceof PlanNode.Source s) {
      RelationVersion version = snapshot.relation(s.relationId());
      return version != null && version.count() <= FEW;
    }
    if (side instanceof PlanNode.Transform t && t.input() instanceof PlanNode.Source s) {
      RelationVersion version = snapshot.relation(s.relationId());
      return version != null && (version.count() <= FEW || isKnown(side, version));
    }
    if (side instanceof PlanNode.Join join) {
      return join.kind() != JoinKind.FULL
          && (isFew(join.left()) && (isFew(join.right()) || right(join) != null)
              || isFew(join.right()) && left(join) != null);
    }
    return side.inputs().stream().allMatch(this::isFew);
  }

  /** Whether a side is found by values that are known. */
  private static boolean isKnown(PlanNode side, RelationVersion version) {
    if (!(side instanceof PlanNode.Transform t) || t.program().filter() == null) {
      return false;
    }
    if (!(t.input() instanceof PlanNode.Source)) {
      return isKnown(t.input(), version);
    }
    List<KeyRanges.Range> ranges = KeyRanges.of(t.program().filter(), version);
    boolean whole = ranges != null && ranges.stream().allMatch(r -> r.values() != null);
    return whole && version.finds(version.key().length)
        || version.others().stream().anyMatch(v -> KeyRanges.of(t.program().filter(), v) != null);
  }
}
