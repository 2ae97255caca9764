package dripledger.engine.epoch;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.circuit.ChangeListener;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.QueryNodes;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.store.Versions;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.concurrent.atomic.AtomicLong;
import org.junit.jupiter.api.Test;

class EpochLoopTest {
  private static final Schema SCHEMA =
      Schema.of(new Column("k", ColumnType.of(ColumnType.Kind.BIGINT).notNull()));
  private static final RowLayout LAYOUT = new RowLayout(SCHEMA);

  private static Page page(long weight, long... keys) {
    Page page = new Page(LAYOUT);
    for (long key : keys) {
      BoxedRows.write(page.begin(), key);
      page.commit(weight);
    }
    return page;
  }

  private static EpochLoop loop(long maxQueuedBytes) {
    long[] next = {1};
    return new EpochLoop(
        new EpochLimits(100, maxQueuedBytes, 1L << 30, 2, 1),
        () -> 0,
        count -> {
          next[0] += count;
          return next[0] - count;
        });
  }

  /** A step; another with the same number takes its place. */
  private static QueryNode distinct(long id, long reads) {
    PlanNode source = new PlanNode.Source(reads, "source", SCHEMA, false, null);
    PlanNode.Aggregate plan = new PlanNode.Aggregate(source, List.of(0), List.of(), SCHEMA);
    return QueryNodes.step(new PlanCut.Step(id, plan), "view" + id);
  }

  /** A view whose rows are kept apart. */
  private static QueryNode kept(long id, long reads) {
    PlanNode source = new PlanNode.Source(reads, "source", SCHEMA, false, null);
    return QueryNodes.view(id, "view" + id, PlanCut.of(source, r -> null), SCHEMA, new int[] {0});
  }

  @Test
  void epochsPublishEverythingAtOnce() throws Exception {
    try (EpochLoop loop = loop(1 << 20)) {
      loop.attach(InputNode.stream(1, "s", LAYOUT, -1, 0, 60_000));
      loop.attach(distinct(2, 1));
      loop.attach(distinct(3, 2));
      loop.start();
      loop.submit(7, List.of(new EpochInput.Change(1, page(1, 5, 5, 6))));
      long epoch = loop.awaitSequence(7, 5000);
      assertThat(loop.snapshot().epoch()).isGreaterThanOrEqualTo(epoch);
      assertThat(loop.snapshot().sequence()).isEqualTo(7);
      assertThat(loop.snapshot().relation(2).count()).isEqualTo(2);
      assertThat(loop.snapshot().relation(3).count()).isEqualTo(2);
    }
  }

  @Test
  void aCircuitThatFailsStopsAloneWithWhatReadsIt() throws Exception {
    try (EpochLoop loop = loop(1 << 20)) {
      QueryNode bad = kept(3, 1);
      LiveNode reader = distinct(4, 3);
      LiveNode good = distinct(5, 2);
      loop.attach(InputNode.stream(1, "s", LAYOUT, -1, 0, 60_000));
      loop.attach(InputNode.stream(2, "other", LAYOUT, -1, 0, 60_000));
      loop.attach(bad);
      loop.attach(reader);
      loop.attach(good);
      loop.start();
      // The view's store is told to take out what it never had: an operator with a mistake.
      bad.store().apply(page(1, 9));
      bad.store().apply(page(-1, 9));
      loop.submit(1, List.of(new EpochInput.Change(1, page(1, 1))));
      loop.awaitSequence(1, 5000);
      bad.store().apply(page(-1, 1));
      loop.submit(2, List.of(new EpochInput.Change(1, page(-1, 1))));
      loop.awaitSequence(2, 5000);
      assertThat(bad.failure()).contains("taken out");
      loop.submit(
          3, List.of(new EpochInput.Change(2, page(1, 8)), new EpochInput.Change(1, page(1, 4))));
      loop.awaitSequence(3, 5000);
      assertThat(reader.failure()).contains("which it reads, has stopped");
      assertThat(good.failure()).isNull();
      assertThat(loop.snapshot().relation(5).count()).isEqualTo(1);
    }
  }

  @Test
  void inputsWaitWhileTooMuchIsQueued() throws Exception {
    try (EpochLoop loop = loop(100)) {
      loop.attach(InputNode.stream(1, "s", LAYOUT, -1, 0, 60_000));
      loop.start();
      CountDownLatch hold = new CountDownLatch(1);
      List<Object> ignored = new ArrayList<>();
      ignored.add(loop.between(() -> waitFor(hold)));
      Thread pusher =
          new Thread(
              () -> {
                for (int i = 1; i <= 50; i++) {
                  loop.submit(i, List.of(new EpochInput.Change(1, page(1, i, i, i, i))));
                }
              });
      pusher.start();
      pusher.join(500);
      assertThat(pusher.isAlive()).as("it waits").isTrue();
      assertThat(loop.queuedBytes()).isLessThan(200);
      hold.countDown();
      pusher.join(5000);
      assertThat(pusher.isAlive()).isFalse();
      loop.awaitSequence(50, 5000);
      assertThat(loop.rowsTaken()).isEqualTo(200);
    }
  }

  private static void waitFor(CountDownLatch latch) {
    try {
      assertThat(latch.await(10, TimeUnit.SECONDS)).isTrue();
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }

  @Test
  void numbersAreReservedAheadAndNobodyDiesIfTheRecordsDoNotAnswer() throws Exception {
    AtomicBoolean away = new AtomicBoolean();
    AtomicLong next = new AtomicLong(1);
    try (EpochLoop loop =
        new EpochLoop(
            new EpochLimits(100, 1 << 20, 1L << 30, 2, 1),
            () -> 0,
            count -> {
              if (away.get()) {
                throw new IllegalStateException("the database does not answer");
              }
              return next.getAndAdd(count);
            })) {
      loop.attach(InputNode.stream(1, "s", LAYOUT, -1, 0, 60_000));
      loop.attach(distinct(2, 1));
      loop.start();
      away.set(true);
      // As many epochs as two blocks have: the one in use, and the one that cannot be reserved.
      for (int i = 1; i <= EpochNumbers.BLOCK + 100; i++) {
        CompletableFuture<Long> ignored = loop.between(() -> {});
      }
      CompletableFuture<Long> waiting = loop.between(() -> {});
      // On a busy machine it may be slow before it waits.
      long deadline = System.nanoTime() + TimeUnit.SECONDS.toNanos(30);
      while (!waits(loop) && System.nanoTime() < deadline) {
        Thread.sleep(10);
      }
      assertThat(waits(loop)).isTrue();
      assertThat(waiting.isDone()).isFalse();
      away.set(false);
      long epoch = waiting.get(10, TimeUnit.SECONDS);
      loop.submit(1, List.of(new EpochInput.Change(1, page(1, 5))));
      assertThat(loop.awaitSequence(1, 5000)).isGreaterThan(epoch);
      assertThat(loop.ailment(5000)).isNull();
    }
  }

  private static boolean waits(EpochLoop loop) {
    String ailment = loop.ailment(50);
    return ailment != null && ailment.contains("waits for the database");
  }

  @Test
  void whateverANodeOrAListenerThrowsStopsThatNodeOnly() throws Exception {
    try (EpochLoop loop = loop(1 << 20)) {
      List<String> ends = new ArrayList<>();
      LiveNode follower =
          QueryNodes.follower(
              new PlanNode.Source(1, "s", SCHEMA, true, null),
              Set.of(1L),
              new ChangeListener() {
                @Override
                public void changed(long epoch, Page delta) {
                  throw new LinkageError("a mistake of ours");
                }

                @Override
                public void ended(String reason) {
                  ends.add(reason);
                }
              });
      loop.attach(InputNode.stream(1, "s", LAYOUT, -1, 0, 60_000));
      loop.attach(distinct(2, 1));
      loop.attach(follower);
      loop.start();
      loop.submit(1, List.of(new EpochInput.Change(1, page(1, 5))));
      loop.awaitSequence(1, 5000);
      loop.submit(2, List.of(new EpochInput.Change(1, page(1, 6))));
      loop.awaitSequence(2, 5000);
      assertThat(follower.failure()).isEqualTo("a mistake of ours");
      assertThat(ends).containsExactly("a mistake of ours");
      assertThat(loop.snapshot().relation(2).count()).isEqualTo(2);
    }
  }

  @Test
  void anActionThatFailsIsToldToWhoAskedAndNobodyElse() throws Exception {
    try (EpochLoop loop = loop(1 << 20)) {
      loop.start();
      CompletableFuture<Long> failed =
          loop.between(
              () -> {
                throw new AssertionError("not like this");
              });
      assertThatThrownBy(() -> failed.get(5, TimeUnit.SECONDS)).hasMessageContaining("like this");
      assertThat(loop.between(() -> {}).get(5, TimeUnit.SECONDS)).isPositive();
    }
  }

  @Test
  void aLoopThatCannotGoOnTellsEverybodyWhoWaits() throws Exception {
    EpochLoop loop = loop(1 << 20);
    CompletableFuture<Throwable> told = new CompletableFuture<>();
    loop.onEnd(told::complete);
    loop.attach(InputNode.stream(1, "s", LAYOUT, -1, 0, 60_000));
    loop.start();
    loop.submit(
        new EpochInput(
            List.of(),
            -1,
            dripledger.engine.source.InputProgress.NOTHING,
            () -> {
              throw new IllegalStateException("outside of any node");
            }));
    assertThat(told.get(5, TimeUnit.SECONDS)).hasMessage("outside of any node");
    assertThat(loop.ailment(1 << 20)).contains("has ended").contains("outside of any node");
    assertThatThrownBy(() -> loop.awaitSequence(9, 60_000)).hasMessageContaining("has ended");
    assertThatThrownBy(() -> loop.between(() -> {}).get(5, TimeUnit.SECONDS))
        .hasMessageContaining("has ended");
    loop.close();
  }

  @Test
  void nobodySpinsForASnapshotOfALoopThatEndedMidway() throws Exception {
    EpochLoop loop = loop(1 << 20);
    CompletableFuture<Throwable> told = new CompletableFuture<>();
    loop.onEnd(told::complete);
    LiveNode view = distinct(2, 1);
    loop.attach(InputNode.stream(1, "s", LAYOUT, -1, 0, 60_000));
    loop.attach(view);
    loop.start();
    // Fails once the stores have published and before the snapshot says so.
    loop.versions()
        .add(
            new Versions.Versioned() {
              @Override
              public void end(long version) {}

              @Override
              public void trim(long floor) {
                throw new IllegalStateException("between the two");
              }
            });
    loop.submit(1, List.of(new EpochInput.Change(1, page(1, 5))));
    told.get(5, TimeUnit.SECONDS);
    assertThatThrownBy(() -> CompletableFuture.supplyAsync(loop::pin).get(5, TimeUnit.SECONDS))
        .hasMessageContaining("has ended");
    loop.close();
  }
}
