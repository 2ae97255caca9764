package dripledger.engine;

import dripledger.engine.EngineException.Code;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.EpochLoop;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.sql.Command;
import dripledger.engine.view.Pinned;
import dripledger.engine.view.Snapshot;
import java.util.HashMap;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.function.Consumer;
import java.util.function.Supplier;

/**
 * Fills what is new from what is there. The new node joins the graph at once, but only keeps what
 * its inputs change from then on; beside the live work it is fed everything up to that epoch, in
 * bounded pieces, and then what has been kept, until little is left. That little is taken in
 * between two epochs, from memory: nothing is read on the loop's thread.
 */
final class Backfill {
  private static final int CATCH_UP_ROUNDS = 50;
  private static final int LITTLE_ROWS = 20_000;
  private static final int FLUSH_ROWS = 50_000;

  private final EpochLoop loop;
  private final QueryRunner runner;
  private final Supplier<Catalog> catalog;

  Backfill(EpochLoop loop, QueryRunner runner, Supplier<Catalog> catalog) {
    this.loop = loop;
    this.runner = runner;
    this.catalog = catalog;
  }

  /**
   * Fills a view that is not attached yet; it is then attached and needs {@link #live}.
   *
   * @param check run now and then; it throws to stop the work
   */
  void fill(LiveNode node, Runnable check) {
    fill(node, sink(node), check);
  }

  private void fill(LiveNode node, Consumer<Page> sink, Runnable check) {
    node.fill(sink);
    Pinned[] start = new Pinned[1];
    Definitions.await(
        loop.between(
            () -> {
              start[0] = loop.pin();
              loop.attach(node);
            }));
    try {
      try (Pinned from = start[0]) {
        feed(node.circuit(), from.snapshot(), sink, check);
      }
      long rows = LITTLE_ROWS;
      for (int round = 0; round < CATCH_UP_ROUNDS && rows >= LITTLE_ROWS; round++) {
        check.run();
        refuseIfFailed(node);
        rows = node.catchUp();
      }
    } catch (RuntimeException | Error e) {
      leave(node);
      throw e;
    }
  }

  /** Where rows go that the circuit puts out: nowhere, if they are read from its state. */
  private static Consumer<Page> sink(LiveNode node) {
    if (node.store() != null) {
      return node.store()::apply;
    }
    node.circuit().rowsWanted(false);
    return page -> {};
  }

  /** Fills a view at a start, before the loop runs: nothing changes meanwhile. */
  void fillAtStart(LiveNode node) {
    feed(node.circuit(), loop.snapshot(), sink(node), () -> {});
  }

  private void feed(Circuit circuit, Snapshot from, Consumer<Page> sink, Runnable check) {
    Map<Long, RowLayout> layouts = layouts(circuit);
    long[] sinceFlush = new long[1];
    for (long input : circuit.inputs()) {
      runner.feed(
          input,
          layouts.get(input),
          from,
          page -> {
            check.run();
            circuit.feed(input, page);
            sinceFlush[0] += page.size();
            if (sinceFlush[0] > FLUSH_ROWS) {
              sink.accept(circuit.flush());
              circuit.clearOutput();
              sinceFlush[0] = 0;
            }
          });
    }
    sink.accept(circuit.flush());
    circuit.clearOutput();
  }

  /** Lets a filled node take part in epochs; if it cannot, it is as if it had never been. */
  void live(LiveNode node, Runnable also) {
    try {
      Definitions.await(
          loop.between(
              () -> {
                loop.live(node);
                also.run();
              }));
      refuseIfFailed(node);
    } catch (RuntimeException | Error e) {
      leave(node);
      throw e;
    }
  }

  private static void refuseIfFailed(LiveNode node) {
    if (node.failure() != null) {
      throw new EngineException(
          Code.FAILED, node.name() + " could not be filled: " + node.failure(), null);
    }
  }

  /** Takes a node out of the graph again. */
  void leave(LiveNode node) {
    CompletableFuture<Long> left = loop.between(() -> loop.detach(node));
    Definitions.await(left.exceptionally(e -> 0L)); // the loop has ended, and the graph with it
  }

  private Map<Long, RowLayout> layouts(Circuit circuit) {
    Map<Long, RowLayout> layouts = new HashMap<>();
    for (long input : circuit.inputs()) {
      layouts.put(input, new RowLayout(catalog.get().find(input).schema()));
    }
    return layouts;
  }

  /** Begins to follow a query. */
  Following follow(Command.QueryPlan query, int maxRows) {
    return new Following(query, maxRows);
  }

  /** A query that is about to be followed: first filled, then joined to the graph. */
  final class Following {
    private final LiveNode node;
    private final Subscription subscription;
    private final Page gathered; // the answer, until the graph is joined

    private Following(Command.QueryPlan query, int maxRows) {
      RowLayout layout = new RowLayout(new Schema(query.columns()));
      subscription = new Subscription(query.columns(), layout, maxRows);
      node = LiveNode.follower(new Circuit(query.plan()), subscription);
      gathered = new Page(layout);
    }

    /** The relations it reads. */
    Set<Long> inputs() {
      return Set.copyOf(node.circuit().inputs());
    }

    void fill(Runnable check) {
      Backfill.this.fill(node, gathered::appendAll, check);
    }

    /** Joins the graph; the answer so far is the first batch. */
    Subscription join() {
      long[] epoch = new long[1];
      live(node, () -> epoch[0] = loop.snapshot().epoch());
      subscription.first(epoch[0], gathered);
      subscription.onClose(
          () -> {
            CompletableFuture<Long> ignored = loop.between(() -> loop.detach(node));
            ignored.exceptionally(e -> null);
          });
      return subscription;
    }
  }
}
