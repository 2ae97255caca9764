package dripledger.engine.plan;

import java.util.IdentityHashMap;
import java.util.Map;
import java.util.function.LongFunction;

/** A plan in which relations that are views are the plans of these. Single use. */
public final class Inlined extends PlanRewriter {
  private final LongFunction<PlanNode> views;
  private final Map<PlanNode, PlanNode> now = new IdentityHashMap<>();

  /**
   * @param views the plan of a relation, or null if it is none
   */
  public Inlined(LongFunction<PlanNode> views) {
    this.views = views;
  }

  /** What a node of the plan has become, by identity; null if it is none of it. */
  public PlanNode of(PlanNode node) {
    return now.get(node);
  }

  @Override
  PlanNode made(PlanNode old, PlanNode made) {
    now.put(old, made);
    return made;
  }

  @Override
  public PlanNode source(PlanNode.Source s) {
    PlanNode plan = views.apply(s.relationId());
    return plan == null ? s : plan.accept(this);
  }

  @Override
  public PlanNode aggregate(PlanNode.Aggregate a) {
    PlanNode input = a.input().accept(this);
    return made(
        a, new PlanNode.Aggregate(input, a.groupColumns(), a.calls(), a.schema(), a.ending()));
  }
}
