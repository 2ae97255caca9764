package dripledger.engine;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.EpochLoop;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.sql.Command;
import dripledger.engine.view.Snapshot;
import java.util.HashMap;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.function.Consumer;
import java.util.function.Supplier;

/**
 * Fills what is new from what is there: a snapshot in bounded pieces beside the live work, then the
 * differences since, until little is left; the last of them are taken in between two epochs.
 */
final class Backfill {
  /** Rounds of catching up beside the live work before the last one stops it for a moment. */
  private static final int CATCH_UP_ROUNDS = 5;

  private static final int FLUSH_ROWS = 500_000;

  private final EpochLoop loop;
  private final QueryRunner runner;
  private final Supplier<Catalog> catalog;

  Backfill(EpochLoop loop, QueryRunner runner, Supplier<Catalog> catalog) {
    this.loop = loop;
    this.runner = runner;
    this.catalog = catalog;
  }

  /**
   * Fills a view that is not attached yet; answers the snapshot it stands for.
   *
   * @param check run now and then; it throws to stop the work
   */
  Snapshot fill(LiveNode node, Runnable check) {
    return fill(node.circuit(), page -> node.store().apply(page), check);
  }

  private Snapshot fill(Circuit circuit, Consumer<Page> sink, Runnable check) {
    Map<Long, RowLayout> layouts = layouts(circuit);
    Snapshot at = loop.snapshot();
    Snapshot start = at;
    long[] sinceFlush = new long[1];
    for (long input : circuit.inputs()) {
      runner.feed(
          input,
          layouts.get(input),
          start,
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
    for (int round = 0; round < CATCH_UP_ROUNDS; round++) {
      Snapshot now = loop.snapshot();
      if (now.epoch() == at.epoch()) {
        break;
      }
      feedChanges(circuit, layouts, at, now);
      sink.accept(circuit.flush());
      circuit.clearOutput();
      at = now;
    }
    return at;
  }

  /** Takes in what changed between two snapshots; on the loop's thread if the view is to join. */
  void catchUp(LiveNode node, Snapshot from, Snapshot to) {
    feedChanges(node.circuit(), layouts(node.circuit()), from, to);
    node.store().apply(node.circuit().flush());
    node.circuit().clearOutput();
  }

  private void feedChanges(
      Circuit circuit, Map<Long, RowLayout> layouts, Snapshot from, Snapshot to) {
    for (long input : circuit.inputs()) {
      runner.feedChanges(input, layouts.get(input), from, to, page -> circuit.feed(input, page));
    }
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
    private final Circuit circuit;
    private final Subscription subscription;
    // The answer is gathered apart until the graph is joined.
    private final Page gathered;
    private Snapshot filledTo;

    private Following(Command.QueryPlan query, int maxRows) {
      circuit = new Circuit(query.plan());
      RowLayout layout = new RowLayout(new Schema(query.columns()));
      subscription = new Subscription(query.columns(), layout, maxRows);
      gathered = new Page(layout);
    }

    /** The relations it reads. */
    Set<Long> inputs() {
      return Set.copyOf(circuit.inputs());
    }

    void fill(Runnable check) {
      filledTo = Backfill.this.fill(circuit, gathered::appendAll, check);
    }

    /** Joins the graph; the answer so far is the first batch. */
    Subscription join() {
      LiveNode node = LiveNode.follower(circuit, subscription::changed);
      Definitions.await(
          loop.between(
              () -> {
                feedChanges(circuit, layouts(circuit), filledTo, loop.snapshot());
                circuit.flush().appendAll(gathered);
                subscription.first(loop.snapshot().epoch(), circuit);
                loop.attach(node);
              }));
      subscription.onClose(
          () -> {
            CompletableFuture<Long> ignored = loop.between(() -> loop.detach(node));
            ignored.exceptionally(e -> null);
          });
      return subscription;
    }
  }
}
