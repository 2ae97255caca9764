package dripledger.engine.definition;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.TableDifference;
import dripledger.engine.epoch.EpochInput;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.epoch.EpochWait;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.intake.Sources;
import dripledger.engine.intake.StreamHistory;
import dripledger.engine.query.Result;
import dripledger.engine.row.Page;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Feed;
import dripledger.engine.sql.Command;
import dripledger.engine.time.Arrival;
import dripledger.engine.view.Pinned;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Brings tables of shared connections to what their source has: when they are made, on REFRESH, and
 * at a start without saved rows. Rows are loaded beside the live work and beside other definitions;
 * then the table joins its connection's feed between two epochs. Callers hold the definition lock.
 */
public final class TableLoads {
  private static final Logger LOG = LoggerFactory.getLogger(TableLoads.class);

  private final LiveCatalog live;
  private final DefinitionStore store;
  private final EpochLoop loop;
  private final StreamHistory history;
  private final Connectors connectors;
  private final Sources sources;
  private final OngoingWork ongoing;

  TableLoads(
      LiveCatalog live,
      DefinitionStore store,
      EpochLoop loop,
      StreamHistory history,
      Connectors connectors,
      Sources sources,
      OngoingWork ongoing) {
    this.live = live;
    this.store = store;
    this.loop = loop;
    this.history = history;
    this.connectors = connectors;
    this.sources = sources;
    this.ongoing = ongoing;
  }

  /** Loads the rows of a table beside the live work and lets it join its connection's feed. */
  void load(
      CatalogObject.Table table,
      InputNode node,
      CatalogObject.Connection connection,
      SourcePosition begin) {
    if (history.begin(connection.id()) == null) {
      history.begin(connection.id(), begin);
    }
    Feed feed = sources.shared(connection, table);
    boolean joined = false;
    boolean stored = false;
    try {
      fill(table, feed, node);
      // A crash from here on finds a table without saved rows, and loads it again.
      store.apply(List.of(LiveCatalog.stored(table, begin)), List.of());
      stored = true;
      join(feed, table, () -> loop.attach(node));
      joined = true;
      live.publish(table, node);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    } finally {
      if (!joined) {
        if (stored) {
          store.apply(List.of(), List.of(table.id()));
        }
        feed.leave(table.id());
        closeIfUnused(connection);
      }
    }
  }

  private void fill(CatalogObject.Table table, Feed feed, InputNode node) {
    ongoing.beside(
        table.name(),
        "table " + table.name(),
        live.catalog().find(table.id()) == null
            ? Set.of(table.source().connectionId())
            : Set.of(table.source().connectionId(), table.id()),
        check ->
            feed.load(
                table,
                page -> {
                  check.run();
                  node.store().apply(page);
                }));
  }

  /** Gives back what the source of a shared connection holds for us, if nothing reads it now. */
  void closeIfUnused(CatalogObject.Connection connection) {
    if (live.catalog().dependents(connection).isEmpty() && !ongoing.uses(connection)) {
      sources.closeShared(connection);
      sources.forget(connection.id());
      try {
        connectors.release(connection);
      } catch (EngineException e) {
        // What goes here must go all the same; the next table of the connection takes it over.
        LOG.warn("{} still keeps something for us: {}", connection.name(), e.getMessage());
      }
    }
  }

  /** Loads a table of a shared feed again: its rows change to what the source has now. */
  public Result refresh(Command.RefreshTable command) {
    CatalogObject.Table table = (CatalogObject.Table) live.catalog().find(command.name());
    CatalogObject.Connection connection = live.catalog().connectionOf(table);
    if (!sources.shared(connection)) {
      throw new EngineException(
          Code.INVALID,
          "\"" + table.name() + "\" holds what its topic says and cannot be loaded apart from it",
          "DROP it and create it again to read the topic from the start");
    }
    if (ongoing.has(table.name())) {
      throw new EngineException(
          Code.INVALID, "\"" + table.name() + "\" is being loaded already", null);
    }
    sources.close(table, connection);
    try {
      reload(table);
    } catch (RuntimeException e) {
      if (live.catalog().find(table.id()) == null) {
        throw e; // it was dropped meanwhile
      }
      // Nothing follows it now, and it must not look as if.
      String reason = "it could not be loaded again: " + e.getMessage();
      EpochWait.await(loop.between(() -> loop.stopBySource(table.id(), reason)));
      throw e;
    }
    live.defined();
    return new Result.Done("loaded table " + table.name() + " again", loop.snapshot().epoch());
  }

  /**
   * Brings a table that is attached to what its source has now, in one epoch. Nothing feeds it
   * meanwhile, so what differs is worked out beside the live work.
   */
  public void reload(CatalogObject.Table table) {
    CatalogObject.Connection connection = live.catalog().connectionOf(table);
    InputNode fresh = LiveCatalog.newInput(table);
    Feed feed = sources.shared(connection, table);
    try {
      fill(table, feed, fresh);
      InputNode node = (InputNode) live.node(table.id());
      List<EpochInput.Change> changes = new ArrayList<>();
      try (Pinned now = loop.pinFirmly()) {
        TableDifference.between(
            now.snapshot().relation(table.id()),
            fresh.store(),
            page -> {
              Page own = new Page(page.layout(), page.size());
              own.appendAll(page);
              changes.add(new EpochInput.Change(table.id(), own, 0, Arrival.now()));
            });
      }
      join(
          feed,
          table,
          () -> {
            node.resume();
            loop.stepNow(-1, changes);
          });
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
  }

  /**
   * Lets a table join its feed, and waits for it; what the action on the loop throws comes here.
   */
  private void join(Feed feed, CatalogObject.Table table, Runnable action)
      throws InterruptedException {
    CompletableFuture<Void> joined = new CompletableFuture<>();
    feed.join(
        table,
        () -> {
          try {
            action.run();
            joined.complete(null);
          } catch (Throwable e) {
            joined.completeExceptionally(e);
          }
        });
    sources.settle();
    if (joined.isCompletedExceptionally()) {
      joined.join();
    }
  }
}
