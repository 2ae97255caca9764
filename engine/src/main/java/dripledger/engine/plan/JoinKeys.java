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

  /** For each column joined on whether NULL equals NULL, and is on both sides. */
  static List<Boolean> nullMatches(
      PlanNode left,
      List<Integer> leftKeys,
      PlanNode right,
      List<Integer> rightKeys,
      List<Boolean> asked) {
    List<Boolean> matches = new ArrayList<>();
    for (int i = 0; i < asked.size(); i++) {
      boolean onBoth =
          left.schema().type(leftKeys.get(i)).nullable()
              && right.schema().type(rightKeys.get(i)).nullable();
      matches.add(asked.get(i) && onBoth);
    }
    return List.copyOf(matches);
  }

  /** See {@link PlanNode.Join#table}. */
  static int table(PlanNode.Join j) {
    if (j.ending(0) != null || j.ending(1) != null) {
      return -1; // what meets within a time is forgotten by both sides alike
    }
    int byKey = byKey(j);
    if (byKey >= 0) {
      return byKey;
    }
    boolean right = j.kind().keepsLeft() && kept(j.right()) != null;
    return right ? 1 : j.kind().keepsRight() && kept(j.left()) != null ? 0 : -1;
  }

  /** See {@link PlanNode.Join#bothElsewhere}. */
  static boolean bothElsewhere(PlanNode.Join j) {
    int table = j.kind() == JoinKind.INNER ? table(j) : -1;
    return table >= 0 && kept(j.inputs().get(1 - table)) != null;
  }

  /** The input that is joined on the key it is kept by, or −1. */
  static int byKey(PlanNode.Join j) {
    if (j.nullMatches().contains(true)) {
      return -1;
    }
    boolean right = j.kind().keepsLeft() && isByKey(j.right(), j.rightKeys());
    return right ? 1 : j.kind().keepsRight() && isByKey(j.left(), j.leftKeys()) ? 0 : -1;
  }

  /** The relation that an input is, or columns of it, if its rows are kept by a key; or null. */
  static Source kept(PlanNode input) {
    PlanNode below = input;
    if (input instanceof PlanNode.Transform t && t.program().onlyPicks()) {
      below = t.input();
    }
    return below instanceof Source s && s.byKey() ? s : null;
  }

  private static boolean isByKey(PlanNode input, List<Integer> on) {
    return kept(input) != null
        && input.key() != null
        && !on.isEmpty()
        && input.key().size() == on.size()
        && input.key().containsAll(on)
        && on.containsAll(input.key());
  }
}
