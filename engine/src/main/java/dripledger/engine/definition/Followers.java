package dripledger.engine.definition;

import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.QueryNodes;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.query.Subscription;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.sql.Command;
import java.util.HashSet;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.function.Function;

/**
 * Queries that are followed: each is a node that is filled like a view, shares the steps that are
 * there already, and tells its {@link Subscription} what changes. Callers hold the definition lock.
 */
final class Followers {
  private final EpochLoop loop;
  private final Backfill backfill;
  private final SharedSteps steps;
  private final OngoingWork ongoing;
  private final Function<PlanNode, PlanCut> cutter;

  Followers(
      EpochLoop loop,
      Backfill backfill,
      SharedSteps steps,
      OngoingWork ongoing,
      Function<PlanNode, PlanCut> cutter) {
    this.loop = loop;
    this.backfill = backfill;
    this.steps = steps;
    this.ongoing = ongoing;
    this.cutter = cutter;
  }

  /** Starts following a query; the answer so far is its first batch. */
  Subscription follow(Command.QueryPlan query, int maxRows) {
    RowLayout layout = new RowLayout(new Schema(query.columns()));
    Subscription subscription = new Subscription(query.columns(), layout, maxRows);
    Set<Long> relations = new HashSet<>();
    relations(query.plan(), relations);
    PlanCut cut = cutter.apply(query.plan());
    QueryNode node = QueryNodes.follower(cut.top(), relations, subscription);
    Page gathered = new Page(layout); // the answer, until the graph is joined
    steps.use(cut, node.name());
    long[] epoch = new long[1];
    boolean joined = false;
    try {
      ongoing.beside(
          null,
          "a followed query",
          relations,
          check -> {
            steps.make(cut, check);
            backfill.fill(node, gathered::appendAll, check);
          });
      backfill.live(node, () -> epoch[0] = loop.snapshot().epoch());
      joined = true;
    } finally {
      if (!joined) {
        backfill.leave(node);
        steps.release(cut);
      }
    }
    AtomicBoolean left = new AtomicBoolean();
    subscription.first(epoch[0], gathered);
    subscription.onClose(
        () -> {
          if (left.compareAndSet(false, true)) {
            CompletableFuture<Long> gone = loop.between(() -> loop.detach(node));
            CompletableFuture<Void> ignored =
                gone.handle((done, e) -> null).thenRunAsync(() -> steps.release(cut));
          }
        });
    return subscription;
  }

  /** The relations that a plan reads. */
  static void relations(PlanNode plan, Set<Long> into) {
    if (plan instanceof PlanNode.Source s) {
      into.add(s.relationId());
    }
    plan.inputs().forEach(input -> relations(input, into));
  }
}
