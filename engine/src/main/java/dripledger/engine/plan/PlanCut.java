package dripledger.engine.plan;

import java.util.ArrayList;
import java.util.IdentityHashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.function.LongFunction;

/**
 * A plan as the graph runs it: cut below every step whose state is its rows, each of which becomes
 * a node of its own that whoever needs it reads. Equal steps, of one plan or of several, have one
 * number. Immutable.
 *
 * @param top what is left above the steps; reads them, and relations, as sources
 * @param steps each once, what is read before what reads it
 * @param numbers which step a node of the plan is, by identity
 * @param keeping what a node that keeps rows inside of a step or the top is there, by identity
 */
public record PlanCut(
    PlanNode top, List<Step> steps, Map<PlanNode, Long> numbers, Map<PlanNode, PlanNode> keeping) {
  /**
   * A step that keeps state.
   *
   * @param id negative; the same for equal steps, in every process
   * @param plan reads other steps as sources
   */
  public record Step(long id, PlanNode.Aggregate plan) {}

  /**
   * Cuts a plan.
   *
   * @param aliases what a relation is read as instead, if it is nothing but a step; else null
   */
  public static PlanCut of(PlanNode plan, LongFunction<PlanNode.Source> aliases) {
    Cutter cutter = new Cutter(aliases);
    PlanNode top = plan.accept(cutter);
    return new PlanCut(top, List.copyOf(cutter.steps.values()), cutter.numbers, cutter.keeping);
  }

  /** The step that all of the plan is, or that it makes its rows of one by one; or null. */
  public PlanNode.Source base() {
    PlanNode below = top instanceof PlanNode.Transform t ? t.input() : top;
    return below instanceof PlanNode.Source s && s.relationId() < 0 ? s : null;
  }

  /** The step that is all of the plan, or null. */
  public PlanNode.Source alias() {
    boolean same =
        top instanceof PlanNode.Source
            || top instanceof PlanNode.Transform t && t.program().isIdentity();
    return same ? base() : null;
  }

  private static final class Cutter implements PlanVisitor<PlanNode> {
    final Map<Long, Step> steps = new LinkedHashMap<>();
    final Map<PlanNode, Long> numbers = new IdentityHashMap<>();
    final Map<PlanNode, PlanNode> keeping = new IdentityHashMap<>();
    private final LongFunction<PlanNode.Source> aliases;

    Cutter(LongFunction<PlanNode.Source> aliases) {
      this.aliases = aliases;
    }

    @Override
    public PlanNode source(PlanNode.Source s) {
      PlanNode.Source alias = aliases.apply(s.relationId());
      return alias == null ? s : alias;
    }

    @Override
    public PlanNode values(PlanNode.Values v) {
      return v;
    }

    @Override
    public PlanNode transform(PlanNode.Transform t) {
      return new PlanNode.Transform(t.input().accept(this), t.program());
    }

    @Override
    public PlanNode aggregate(PlanNode.Aggregate a) {
      PlanNode input = a.input().accept(this);
      PlanNode.Aggregate own =
          new PlanNode.Aggregate(input, a.groupColumns(), a.calls(), a.schema(), a.ending());
      if (a.publishesEnds()) { // what it has put out is no longer in it for others to read
        keeping.put(a, own);
        return own;
      }
      long id = PlanDigest.number(PlanDigest.canonical(own));
      steps.putIfAbsent(id, new Step(id, own));
      numbers.put(a, id);
      return new PlanNode.Source(id, "a step", a.schema(), a.appendOnly(), a.key());
    }

    @Override
    public PlanNode join(PlanNode.Join j) {
      PlanNode own =
          new PlanNode.Join(
              j.left().accept(this),
              j.right().accept(this),
              j.kind(),
              j.leftKeys(),
              j.rightKeys(),
              j.nullMatches(),
              j.condition(),
              j.schema());
      keeping.put(j, own);
      return own;
    }

    @Override
    public PlanNode repeat(PlanNode.Repeat r) {
      return new PlanNode.Repeat(r.input().accept(this), r.schema());
    }

    @Override
    public PlanNode unnest(PlanNode.Unnest u) {
      PlanNode input = u.input().accept(this);
      return new PlanNode.Unnest(input, u.kept(), u.ordinality(), u.outer(), u.schema());
    }

    @Override
    public PlanNode window(PlanNode.Window w) {
      PlanNode own =
          new PlanNode.Window(
              w.input().accept(this), w.partition(), w.order(), w.calls(), w.kept(), w.schema());
      keeping.put(w, own);
      return own;
    }

    @Override
    public PlanNode timeWindows(PlanNode.TimeWindows w) {
      PlanNode own =
          new PlanNode.TimeWindows(
              w.input().accept(this),
              w.time(),
              w.sizeMicros(),
              w.slideMicros(),
              w.offsetMicros(),
              w.judged(),
              w.schema());
      keeping.put(w, own);
      return own;
    }

    @Override
    public PlanNode settle(PlanNode.Settle s) {
      PlanNode own =
          new PlanNode.Settle(s.input().accept(this), s.time(), s.delayMicros(), s.keepMicros());
      keeping.put(s, own);
      return own;
    }

    @Override
    public PlanNode unionAll(PlanNode.UnionAll u) {
      List<PlanNode> inputs = new ArrayList<>();
      u.inputs().forEach(input -> inputs.add(input.accept(this)));
      return new PlanNode.UnionAll(inputs, u.schema());
    }
  }
}
