package dripledger.engine.plan;

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
 * @param isWhole whether it is run as a whole, see {@link #whole}
 */
public record PlanCut(
    PlanNode top,
    List<Step> steps,
    Map<PlanNode, Long> numbers,
    Map<PlanNode, PlanNode> keeping,
    boolean isWhole) {
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
    return new PlanCut(
        top, List.copyOf(cutter.steps.values()), cutter.numbers, cutter.keeping, false);
  }

  /** A join of the plan as it is run; null if it keeps the rows of both inputs. */
  public PlanNode.Join run(PlanNode.Join join) {
    return !isWhole && keeping.get(join) instanceof PlanNode.Join now ? now : null;
  }

  /** A plan that is run as a whole: its steps are its own, and it looks nothing up elsewhere. */
  public static PlanCut whole(PlanNode plan) {
    Map<PlanNode, PlanNode> keeping = new IdentityHashMap<>();
    keep(plan, keeping);
    return new PlanCut(plan, List.of(), Map.of(), keeping, true);
  }

  private static void keep(PlanNode node, Map<PlanNode, PlanNode> keeping) {
    keeping.put(node, node);
    node.inputs().forEach(input -> keep(input, keeping));
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

  private static final class Cutter extends PlanRewriter {
    final Map<Long, Step> steps = new LinkedHashMap<>();
    final Map<PlanNode, Long> numbers = new IdentityHashMap<>();
    final Map<PlanNode, PlanNode> keeping = new IdentityHashMap<>();
    private final LongFunction<PlanNode.Source> aliases;

    Cutter(LongFunction<PlanNode.Source> aliases) {
      this.aliases = aliases;
    }

    @Override
    PlanNode made(PlanNode old, PlanNode now) {
      keeping.put(old, now);
      return now;
    }

    @Override
    public PlanNode source(PlanNode.Source s) {
      PlanNode.Source alias = aliases.apply(s.relationId());
      return alias == null ? s : alias;
    }

    @Override
    public PlanNode aggregate(PlanNode.Aggregate a) {
      PlanNode input = a.input().accept(this);
      PlanNode.Aggregate own =
          new PlanNode.Aggregate(input, a.groupColumns(), a.calls(), a.schema(), a.ending());
      if (a.publishesEnds() || SessionGroups.withdraws(a)) {
        // what it has put out is no longer in it for others to read
        return made(a, own);
      }
      long id = PlanDigest.number(PlanDigest.canonical(own));
      steps.putIfAbsent(id, new Step(id, own));
      numbers.put(a, id);
      boolean byKey = !a.groupColumns().isEmpty() && SessionGroups.merged(a) == null;
      return new PlanNode.Source(id, "a step", a.schema(), a.appendOnly(), a.key(), byKey);
    }
  }
}
