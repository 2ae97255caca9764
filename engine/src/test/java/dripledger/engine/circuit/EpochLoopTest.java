package dripledger.engine.circuit;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.view.ViewStore;
import java.util.ArrayList;
import java.util.List;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.TimeUnit;
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
        new EpochLoop.Limits(100, maxQueuedBytes, 1L << 30),
        count -> {
          next[0] += count;
          return next[0] - count;
        },
        0);
  }

  private static LiveNode distinct(long id, long reads) {
    PlanNode source = new PlanNode.Source(reads, "source", SCHEMA, false, null);
    PlanNode plan = new PlanNode.Aggregate(source, new int[] {0}, List.of(), SCHEMA);
    return LiveNode.view(id, "view" + id, new Circuit(plan), new ViewStore(SCHEMA, new int[] {0}));
  }

  @Test
  void epochsPublishEverythingAtOnce() throws Exception {
    try (EpochLoop loop = loop(1 << 20)) {
      loop.attach(LiveNode.stream(1, "s", LAYOUT, -1, 0, 60_000));
      loop.attach(distinct(2, 1));
      loop.attach(distinct(3, 2));
      loop.start();
      loop.submit(7, List.of(new EpochLoop.Change(1, page(1, 5, 5, 6))));
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
      LiveNode bad = distinct(3, 1);
      LiveNode reader = distinct(4, 3);
      LiveNode good = distinct(5, 2);
      loop.attach(LiveNode.stream(1, "s", LAYOUT, -1, 0, 60_000));
      loop.attach(LiveNode.stream(2, "other", LAYOUT, -1, 0, 60_000));
      loop.attach(bad);
      loop.attach(reader);
      loop.attach(good);
      loop.start();
      // The view's store is told to take out what it never had: an operator with a mistake.
      bad.store().apply(page(1, 9));
      bad.store().apply(page(-1, 9));
      loop.submit(1, List.of(new EpochLoop.Change(1, page(1, 1))));
      loop.awaitSequence(1, 5000);
      bad.store().apply(page(-1, 1));
      loop.submit(2, List.of(new EpochLoop.Change(1, page(-1, 1))));
      loop.awaitSequence(2, 5000);
      assertThat(bad.failure()).contains("taken out");
      loop.submit(
          3, List.of(new EpochLoop.Change(2, page(1, 8)), new EpochLoop.Change(1, page(1, 4))));
      loop.awaitSequence(3, 5000);
      assertThat(reader.failure()).contains("which it reads, has stopped");
      assertThat(good.failure()).isNull();
      assertThat(loop.snapshot().relation(5).count()).isEqualTo(1);
    }
  }

  @Test
  void inputsWaitWhileTooMuchIsQueued() throws Exception {
    try (EpochLoop loop = loop(100)) {
      loop.attach(LiveNode.stream(1, "s", LAYOUT, -1, 0, 60_000));
      loop.start();
      CountDownLatch hold = new CountDownLatch(1);
      List<Object> ignored = new ArrayList<>();
      ignored.add(loop.between(() -> waitFor(hold)));
      Thread pusher =
          new Thread(
              () -> {
                for (int i = 1; i <= 50; i++) {
                  loop.submit(i, List.of(new EpochLoop.Change(1, page(1, i, i, i, i))));
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
}
