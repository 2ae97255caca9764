package dripledger.engine.circuit;

import dripledger.engine.plan.PlanNode;
import java.util.List;

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
    int groups = aggregate.groupColumns().size();
    if (key.length != groups || groups == 0) {
      return null;
    }
    List<Integer> places = root.key(); // where the group columns are, if they all are there
    if (places == null || places.size() != groups) {
      return null;
    }
    int[] moved = places.stream().mapToInt(Integer::intValue).toArray();
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
