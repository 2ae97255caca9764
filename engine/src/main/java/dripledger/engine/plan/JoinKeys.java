package dripledger.engine.plan;

import dripledger.engine.plan.PlanNode.Source;
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
    Source right = j.kind().keepsLeft() ? byKey(j.right(), j.rightKeys()) : null;
    Source left = j.kind().keepsRight() ? byKey(j.left(), j.leftKeys()) : null;
    if (right == null && left == null || j.ending(0) != null || j.ending(1) != null) {
      return -1; // what meets within a time is forgotten by both sides alike
    }
    return right != null ? 1 : 0;
  }

  /** The relation whose rows an input is made of, if it is joined on the key they are kept by. */
  private static Source byKey(PlanNode input, List<Integer> on) {
    PlanNode below = input;
    if (input instanceof PlanNode.Transform t && t.program().onlyPicks()) {
      below = t.input();
    }
    boolean found =
        below instanceof Source s
            && s.byKey()
            && input.key() != null
            && !on.isEmpty()
            && input.key().size() == on.size()
            && input.key().containsAll(on)
            && on.containsAll(input.key());
    return found ? (Source) below : null;
  }
}
