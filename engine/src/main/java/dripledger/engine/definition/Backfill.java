package dripledger.engine.definition;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.epoch.EpochWait;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.query.QueryRunner;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.view.Pinned;
import dripledger.engine.view.Snapshot;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ConcurrentHashMap;
import java.util.function.Consumer;
import java.util.function.Supplier;

/**
 * Fills what is new from what is there. The new node joins the graph at once, but only keeps what
 * its inputs change from then on; beside the live work it is fed everything up to that epoch, in
 * bounded pieces, and then what has been kept, until little is left. That little is taken in
 * between two epochs, from memory: nothing is read on the loop's thread.
 */
public final class Backfill {
  private static final int CATCH_UP_ROUNDS = 50;
  private static final int LITTLE_ROWS = 20_000;
  private static final int FLUSH_ROWS = 50_000;

  private final EpochLoop loop;
  private final QueryRunner runner;
  private final Supplier<Catalog> catalog;

  // Until a node is live: what goes meanwhile must still be found where the node has seen it.
  private final Map<QueryNode, Pinned> filledFrom = new ConcurrentHashMap<>();

  Backfill(EpochLoop loop, QueryRunner runner, Supplier<Catalog> catalog) {
    this.loop = loop;
    this.runner = runner;
    this.catalog = catalog;
  }

  /**
   * Fills a node that is not attached yet; it is then attached and needs {@link #live}.
   *
   * @param check run now and then; it throws to stop the work
   */
  void fill(QueryNode node, Runnable check) {
    fill(node, page -> {}, check);
  }

  /**
   * As above.
   *
   * @param sink is given the result too, in pages that are valid during the call
   */
  void fill(QueryNode node, Consumer<Page> sink, Runnable check) {
    node.fill(sink);
    Pinned from = pin(node, () -> loop.attach(node));
    try {
      feed(node, from.snapshot(), check);
      long rows = LITTLE_ROWS;
      for (int round = 0; round < CATCH_UP_ROUNDS && rows >= LITTLE_ROWS; round++) {
        check.run();
        refuseIfFailed(node);
        Pinned until = pin(node, () -> {});
        try {
          rows = node.catchUp();
        } finally {
          from.close();
          from = until;
        }
      }
      filledFrom.put(node, from);
    } catch (RuntimeException | Error e) {
      from.close();
      leave(node);
      throw e;
    }
  }

  /** Pins what is there now, up to which the node is filled next. */
  private Pinned pin(QueryNode node, Runnable before) {
    Pinned[] pinned = new Pinned[1];
    EpochWait.await(
        loop.between(
            () -> {
              before.run();
              pinned[0] = loop.pinFirmly();
              node.fillFrom(pinned[0].pin().version(), loop.currentMicros());
            }));
    return pinned[0];
  }

  /** Fills a node at a start, before the loop runs: nothing changes meanwhile. */
  public void fillAtStart(QueryNode node) {
    loop.tables(node);
    feed(node, loop.snapshot(), () -> {});
  }

  private void feed(QueryNode node, Snapshot from, Runnable check) {
    if (node.isPassive()) {
      return; // its rows are another's
    }
    node.circuit().rowsWanted(node.needsOwnRows());
    long[] sinceFlush = new long[1];
    for (long input : node.inputs()) {
      if (node.onlyLooksUpIn(input)) {
        continue;
      }
      runner.feed(
          input,
          layout(node, input),
          from,
          page -> {
            check.run();
            node.fed(input, page);
            sinceFlush[0] += page.size();
            if (sinceFlush[0] > FLUSH_ROWS) {
              node.settle();
              sinceFlush[0] = 0;
            }
          });
    }
    node.settle();
  }

  /** Relations are read in the layout that they have now, steps in the one they always have. */
  private RowLayout layout(QueryNode node, long input) {
    CatalogObject object = catalog.get().find(input);
    return object == null ? node.circuit().layout(input) : new RowLayout(object.schema());
  }

  /** Lets a filled node take part in epochs; if it cannot, it is as if it had never been. */
  void live(QueryNode node, Runnable also) {
    try {
      EpochWait.await(
          loop.between(
              () -> {
                loop.live(node);
                also.run();
              }));
      refuseIfFailed(node);
      letGo(node);
    } catch (RuntimeException | Error e) {
      leave(node);
      throw e;
    }
  }

  private void letGo(QueryNode node) {
    Pinned from = filledFrom.remove(node);
    if (from != null) {
      from.close();
    }
  }

  private static void refuseIfFailed(QueryNode node) {
    if (node.failure() != null) {
      throw new EngineException(
          Code.FAILED, node.name() + " could not be filled: " + node.failure(), null);
    }
  }

  /** Takes a node out of the graph again. */
  void leave(QueryNode node) {
    letGo(node);
    CompletableFuture<Long> left = loop.between(() -> loop.detach(node));
    EpochWait.await(left.exceptionally(e -> 0L)); // the loop has ended, and the graph with it
  }
}
