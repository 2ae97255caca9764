package dripledger.engine.plan;

import java.util.ArrayList;
import java.util.List;

/** What follows from the keys of a join's inputs. Pure. */
final class JoinKeys {
  private JoinKeys() {}

  /** Columns of a join that are unique together, or null. */
  static List<Integer> key(PlanNode.Join j) {
    List<Integer> leftKey = j.left().key();
    List<Integer> rightKey = j.right().key();
    if (!j.kind().pairs()) {
      return leftKey;
    }
    // Of a full join a row of either side may be alone, both with keys that are NULL.
    if (leftKey == null || rightKey == null || j.kind() == JoinKind.FULL) {
      return null;
    }
    if (j.kind() != JoinKind.RIGHT && j.rightKeys().containsAll(rightKey)) {
      return leftKey; // a left row meets one row at most
    }
    List<Integer> key = new ArrayList<>(leftKey);
    rightKey.forEach(column -> key.add(j.left().schema().size() + column));
    return key;
  }

  /** See {@link PlanNode.Join#table}. */
  static int table(PlanNode.Join j) {
    if (j.nullMatches().contains(true)) {
      return -1;
    }
    if (j.kind().keepsLeft() && isByKey(j.right(), j.rightKeys())) {
      return 1;
    }
    return j.kind().keepsRight() && isByKey(j.left(), j.leftKeys()) ? 0 : -1;
  }

  private static boolean isByKey(PlanNode input, List<Integer> on) {
    PlanNode below = input;
    if (input instanceof PlanNode.Transform t && t.program().onlyPicks()) {
      below = t.input();
    }
    return below instanceof PlanNode.Source s
        && s.table()
        && input.key() != null
        && !on.isEmpty()
        && input.key().size() == on.size()
        && input.key().containsAll(on)
        && on.stream().noneMatch(c -> input.schema().type(c).nullable())
        && on.containsAll(input.key());
  }
}
