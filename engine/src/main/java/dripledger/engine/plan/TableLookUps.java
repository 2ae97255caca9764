package dripledger.engine.plan;

import java.util.List;

/** Which joins look the rows of a table up by its key. Pure. */
final class TableLookUps {
  private TableLookUps() {}

  /** See {@link PlanNode.Join#table}. */
  static int table(PlanNode.Join j) {
    if (j.nullMatches().contains(true)) {
      return -1;
    }
    boolean inner = j.kind() == PlanNode.Join.Kind.INNER;
    if ((inner || j.kind() == PlanNode.Join.Kind.LEFT) && isByKey(j.right(), j.rightKeys())) {
      return 1;
    }
    return (inner || j.kind() == PlanNode.Join.Kind.RIGHT) && isByKey(j.left(), j.leftKeys())
        ? 0
        : -1;
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
