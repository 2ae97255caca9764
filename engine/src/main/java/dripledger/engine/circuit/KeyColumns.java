package dripledger.engine.circuit;

import dripledger.engine.plan.PlanNode;

/** Where a grouped result has its group columns. Stateless. */
final class KeyColumns {
  private KeyColumns() {}

  /**
   * For each group column which column of the result it is.
   *
   * @param key the columns the result is looked up by
   * @return null if the key is not exactly the group columns, each as it is
   */
  static int[] of(PlanNode root, int[] key) {
    PlanNode below = root instanceof PlanNode.Transform t ? t.input() : root;
    if (key == null || !(below instanceof PlanNode.Aggregate aggregate)) {
      return null;
    }
    int groups = aggregate.groupColumns().length;
    if (key.length != groups || groups == 0) {
      return null;
    }
    int[] moved = root.key(); // where the group columns are, in their order, if they all are there
    if (moved == null || moved.length != groups) {
      return null;
    }
    for (int k : key) {
      boolean found = false;
      for (int m : moved) {
        found |= m == k;
      }
      if (!found) {
        return null;
      }
    }
    return moved;
  }
}
