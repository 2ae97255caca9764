package dripledger.engine.definition;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.QueryNodes;
import dripledger.engine.delivery.Deliveries;
import dripledger.engine.delivery.Outbox;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.epoch.EpochWait;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.query.Result;
import dripledger.engine.source.Connectors;
import dripledger.engine.sql.Command;
import java.util.HashSet;
import java.util.List;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ExecutionException;
import java.util.function.Supplier;

/**
 * Makes deliveries. What is there when one is made is read beside the live work; it is answered
 * once a checkpoint holds it, so that from then on nothing of it can be missing or be doubled.
 * Callers hold the definition lock.
 */
final class Sinks {
  private final LiveCatalog live;
  private final DefinitionStore store;
  private final EpochLoop loop;
  private final Backfill backfill;
  private final SharedSteps steps;
  private final OngoingWork ongoing;
  private final Connectors connectors;
  private final Deliveries deliveries;
  private final Supplier<CompletableFuture<Void>> checkpoint;

  Sinks(
      LiveCatalog live,
      DefinitionStore store,
      EpochLoop loop,
      Backfill backfill,
      SharedSteps steps,
      OngoingWork ongoing,
      Connectors connectors,
      Deliveries deliveries,
      Supplier<CompletableFuture<Void>> checkpoint) {
    this.live = live;
    this.store = store;
    this.loop = loop;
    this.backfill = backfill;
    this.steps = steps;
    this.ongoing = ongoing;
    this.connectors = connectors;
    this.deliveries = deliveries;
    this.checkpoint = checkpoint;
  }

  Result create(String sql, Command.CreateSink command) {
    CatalogObject.Sink sink = (CatalogObject.Sink) LiveCatalog.object(store.nextId(), sql, command);
    connectors.prepare(
        (CatalogObject.Connection) live.catalog().find(sink.target().connectionId()), sink);
    PlanCut cut = live.cut(sink.plan());
    Outbox outbox = deliveries.newOutbox(sink);
    QueryNode node = node(sink, cut, outbox);
    steps.use(cut, sink.name());
    Set<Long> uses = new HashSet<>(sink.dependsOn());
    Followers.relations(sink.plan(), uses);
    boolean stored = false;
    try {
      ongoing.beside(
          sink.name(),
          "sink " + sink.name(),
          uses,
          check -> {
            steps.make(cut, check);
            backfill.fill(node, page -> deliveries.filled(sink, page), check);
          });
      backfill.live(node, () -> {});
      store.apply(List.of(LiveCatalog.stored(sink, null)), List.of());
      stored = true;
    } finally {
      if (!stored) {
        backfill.leave(node);
        steps.release(cut);
        deliveries.drop(sink);
      }
    }
    live.keep(sink, cut);
    live.publish(sink, node);
    long epoch = EpochWait.await(loop.between(() -> {}));
    deliveries.start(sink); // carries nothing that no checkpoint holds
    awaitCheckpoint();
    return new Result.Done("created sink " + sink.name(), epoch);
  }

  private void awaitCheckpoint() {
    try {
      checkpoint.get().get();
    } catch (ExecutionException e) {
      throw new EngineException(
          Code.UNAVAILABLE, "the sink is made, but no checkpoint could be written yet", null);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
  }

  static QueryNode node(CatalogObject.Sink sink, PlanCut cut, Outbox outbox) {
    return QueryNodes.delivery(sink.id(), sink.name(), cut, outbox);
  }
}
