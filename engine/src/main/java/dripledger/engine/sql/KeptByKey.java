package dripledger.engine.sql;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.plan.PlanNode;
import java.util.Arrays;
import java.util.HashSet;
import java.util.List;
import java.util.Set;
import java.util.stream.Collectors;

/** Whether the rows of a view are found by its key where they are kept. Pure. */
final class KeptByKey {
  private KeptByKey() {}

  /**
   * Whether a view's key is that of the store its rows are in. The rows of a step, and what is made
   * of them one by one, are in the store of the step; any others are kept by the view's key.
   */
  static boolean is(CatalogObject.MaterializedView view) {
    if (!view.keyProven() || view.key().length == 0) {
      return false;
    }
    Set<Integer> key = Arrays.stream(view.key()).boxed().collect(Collectors.toSet());
    PlanNode plan = view.plan();
    List<Integer> places = plan.key();
    if (plan instanceof PlanNode.Transform t) {
      places = t.program().whereIs(t.input().key());
    } else if (!(plan instanceof PlanNode.Source) && !(plan instanceof PlanNode.Aggregate)) {
      return true;
    }
    return places != null && places.size() == key.size() && key.equals(new HashSet<>(places));
  }
}
