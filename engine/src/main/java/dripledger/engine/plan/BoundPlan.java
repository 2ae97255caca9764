package dripledger.engine.plan;

import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Program;
import java.util.List;

/**
 * A plan that was made before the values of its parameters were known, with the values in it.
 * Single use.
 */
public final class BoundPlan extends PlanRewriter {
  private final List<Expr.Constant> values;

  private BoundPlan(List<Expr.Constant> values) {
    this.values = values;
  }

  /** The plan with these values. */
  public static PlanNode of(PlanNode plan, List<Expr.Constant> values) {
    return values.isEmpty() ? plan : plan.accept(new BoundPlan(values));
  }

  /** Whether all places that parameters may be in are known here. */
  public static boolean canBind(PlanNode plan) {
    return !(plan instanceof Matches) && plan.inputs().stream().allMatch(BoundPlan::canBind);
  }

  @Override
  public PlanNode transform(PlanNode.Transform t) {
    Program p = t.program();
    Expr filter = p.filter() == null ? null : Expr.bound(p.filter(), values);
    List<Expr> outputs = p.outputs().stream().map(o -> Expr.bound(o, values)).toList();
    return new PlanNode.Transform(
        t.input().accept(this), new Program(p.input(), filter, outputs, p.output()));
  }

  @Override
  public PlanNode aggregate(PlanNode.Aggregate a) {
    return new PlanNode.Aggregate(
        a.input().accept(this), a.groupColumns(), a.calls(), a.schema(), a.ending());
  }

  @Override
  public PlanNode join(PlanNode.Join j) {
    return new PlanNode.Join(
        j.left().accept(this),
        j.right().accept(this),
        j.kind(),
        j.leftKeys(),
        j.rightKeys(),
        j.nullMatches(),
        j.condition() == null ? null : Expr.bound(j.condition(), values),
        j.schema());
  }
}
