package dripledger.engine.circuit;

import dripledger.engine.plan.PlanCut;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.util.Arrays;
import java.util.List;
import java.util.Set;
import java.util.stream.Collectors;

/** Makes the nodes that are computed from others, each empty. Stateless. */
public final class QueryNodes {
  private QueryNodes() {}

  /**
   * A step that views share.
   *
   * @param name of the view it was first made for
   */
  public static QueryNode step(PlanCut.Step step, String name) {
    Circuit circuit = new Circuit(step.plan());
    return new QueryNode(
        step.id(), name, circuit, circuit.asItIs(), LiveNode.NO_NUMBER, null, null, Set.of(), null);
  }

  /**
   * A view.
   *
   * @param key the columns its rows are ordered by, or null for all
   */
  public static QueryNode view(long id, String name, PlanCut cut, Schema schema, int[] key) {
    Circuit circuit = new Circuit(cut.top());
    PlanNode.Source base = cut.base();
    if (base != null) {
      Finish finish = Finish.of(cut.top(), base, schema, key);
      return new QueryNode(
          id, name, circuit, finish, base.relationId(), null, null, Set.of(), null);
    }
    KeptRelation kept = kept(cut.top(), schema, key);
    return new QueryNode(id, name, circuit, null, LiveNode.NO_NUMBER, kept, null, Set.of(), null);
  }

  /**
   * A view that takes in what has changed only when it is refreshed.
   *
   * @param plan all of it: it shares no steps, since those of others are always up to date
   */
  public static QueryNode refreshed(
      long id, String name, PlanNode plan, Schema schema, int[] key, Refresher.Bounds bounds) {
    Circuit circuit = Circuit.keeping(plan);
    Refresher refresher = new Refresher(circuit, new RowLayout(schema), plan.appendOnly(), bounds);
    KeptRelation kept = kept(plan, schema, key);
    return new QueryNode(
        id, name, circuit, null, LiveNode.NO_NUMBER, kept, null, Set.of(), refresher);
  }

  private static KeptRelation kept(PlanNode top, Schema schema, int[] key) {
    boolean unique = key != null && key.length > 0 && isKey(top.key(), key);
    return unique
        ? KeptRows.unique(schema, key)
        : top.appendOnly() ? new LogRows(schema, key) : KeptRows.bag(schema, key);
  }

  private static boolean isKey(List<Integer> proven, int[] key) {
    return proven != null
        && Arrays.stream(key).boxed().collect(Collectors.toSet()).containsAll(proven);
  }

  /**
   * A delivery: its listener keeps what is to be carried, and outlives the process with it.
   *
   * @param id of the sink
   */
  public static QueryNode delivery(long id, String name, PlanCut cut, ChangeListener outbox) {
    return new QueryNode(
        id, name, new Circuit(cut.top()), null, LiveNode.NO_NUMBER, null, outbox, Set.of(), null);
  }

  /**
   * Somebody who is told of every change to a query's answer.
   *
   * @param follows the relations whose end is the follower's
   */
  public static QueryNode follower(PlanNode plan, Set<Long> follows, ChangeListener listener) {
    return new QueryNode(
        LiveNode.NO_NUMBER,
        "a follower",
        new Circuit(plan),
        null,
        LiveNode.NO_NUMBER,
        null,
        listener,
        follows,
        null);
  }
}
