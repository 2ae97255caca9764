package dripledger.engine.plan;

import java.util.ArrayList;
import java.util.List;

/**
 * Makes a plan of another, node by node from the inputs up: each as it was over what its inputs
 * have become, unless it is said otherwise. Stateless but for what it is extended by.
 */
abstract class PlanRewriter implements PlanVisitor<PlanNode> {
  /** Told of a node that is made again; answers what is to stand for it. */
  PlanNode made(PlanNode old, PlanNode now) {
    return now;
  }

  /** A join of other inputs that have the same columns. */
  static PlanNode.Join join(PlanNode.Join j, PlanNode left, PlanNode right) {
    return new PlanNode.Join(
        left,
        right,
        j.kind(),
        j.leftKeys(),
        j.rightKeys(),
        j.nullMatches(),
        j.condition(),
        j.schema());
  }

  @Override
  public PlanNode source(PlanNode.Source s) {
    return s;
  }

  @Override
  public PlanNode values(PlanNode.Values v) {
    return v;
  }

  @Override
  public PlanNode transform(PlanNode.Transform t) {
    return made(t, new PlanNode.Transform(t.input().accept(this), t.program()));
  }

  @Override
  public PlanNode join(PlanNode.Join j) {
    return made(j, join(j, j.left().accept(this), j.right().accept(this)));
  }

  @Override
  public PlanNode repeat(PlanNode.Repeat r) {
    return made(r, new PlanNode.Repeat(r.input().accept(this), r.schema()));
  }

  @Override
  public PlanNode unnest(PlanNode.Unnest u) {
    PlanNode input = u.input().accept(this);
    return made(u, new PlanNode.Unnest(input, u.kept(), u.ordinality(), u.outer(), u.schema()));
  }

  @Override
  public PlanNode window(PlanNode.Window w) {
    PlanNode input = w.input().accept(this);
    return made(
        w, new PlanNode.Window(input, w.partition(), w.order(), w.calls(), w.kept(), w.schema()));
  }

  @Override
  public PlanNode matches(Matches m) {
    return made(
        m,
        new Matches(
            m.input().accept(this),
            m.partition(),
            m.order(),
            m.pattern(),
            m.variables(),
            m.anchors(),
            m.after(),
            m.withinMicros(),
            m.allRows(),
            m.output(),
            m.delayMicros()));
  }

  @Override
  public PlanNode nearest(Nearest n) {
    return made(
        n,
        new Nearest(
            n.input().accept(this),
            n.keys(),
            n.kind(),
            n.order(),
            n.before(),
            n.behindEqual(),
            n.outer(),
            n.outputs(),
            n.firstOutputs(),
            n.schema()));
  }

  @Override
  public PlanNode timeWindows(TimeNode.TimeWindows w) {
    return made(
        w,
        new TimeNode.TimeWindows(
            w.input().accept(this),
            w.time(),
            w.sizeMicros(),
            w.slideMicros(),
            w.grows(),
            w.offsetMicros(),
            w.delayMicros(),
            w.rows(),
            w.reachMicros(),
            w.schema()));
  }

  /** Sessions of other rows that have the same columns. */
  static TimeNode.Sessions sessions(TimeNode.Sessions s, PlanNode input, long withdrawMicros) {
    return sessions(s, input, withdrawMicros, s.merged());
  }

  static TimeNode.Sessions sessions(
      TimeNode.Sessions s, PlanNode input, long withdrawMicros, boolean merged) {
    return new TimeNode.Sessions(
        input,
        s.partition(),
        s.time(),
        s.gapMicros(),
        s.delayMicros(),
        withdrawMicros,
        merged,
        s.schema());
  }

  @Override
  public PlanNode sessions(TimeNode.Sessions s) {
    return made(s, sessions(s, s.input().accept(this), s.withdrawMicros()));
  }

  @Override
  public PlanNode settle(TimeNode.Settle s) {
    PlanNode input = s.input().accept(this);
    return made(
        s, new TimeNode.Settle(input, s.time(), s.delayMicros(), s.keepMicros(), s.atOnce()));
  }

  @Override
  public PlanNode paced(Paced p) {
    PlanNode settled = p.settled().accept(this);
    PlanNode open = p.open().accept(this);
    return made(p, new Paced(settled, open, p.time(), p.delayMicros(), p.everyMicros()));
  }

  @Override
  public PlanNode tableVersions(TableVersions v) {
    return v; // of the table itself, whatever else becomes of sources
  }

  @Override
  public PlanNode reached(TimeNode.Reached r) {
    return made(r, new TimeNode.Reached(r.input().accept(this), r.times(), r.schema()));
  }

  @Override
  public PlanNode unionAll(PlanNode.UnionAll u) {
    List<PlanNode> inputs = new ArrayList<>();
    u.inputs().forEach(input -> inputs.add(input.accept(this)));
    return made(u, new PlanNode.UnionAll(inputs, u.schema()));
  }
}
