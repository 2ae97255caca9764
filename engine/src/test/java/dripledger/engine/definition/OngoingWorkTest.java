package dripledger.engine.definition;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.error.EngineException;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.locks.ReentrantLock;
import org.junit.jupiter.api.Test;

class OngoingWorkTest {
  private static final CatalogObject SCAN = stream("", Map.of());

  private final ReentrantLock lock = new ReentrantLock();
  private volatile Catalog catalog = Catalog.EMPTY.with(SCAN);
  private final OngoingWork ongoing = new OngoingWork(lock, () -> catalog);
  private final CountDownLatch working = new CountDownLatch(1);
  private final CountDownLatch goOn = new CountDownLatch(1);

  private static CatalogObject stream(
      String sql, Map<Integer, dripledger.engine.catalog.SourcePosition> addedAt) {
    Schema schema = new Schema(List.of(new Column("v", ColumnType.varchar(-1))));
    return new CatalogObject.Stream(7, "scan", sql, schema, -1, 0, Origins.NONE, null, addedAt);
  }

  private CompletableFuture<String> start() throws InterruptedException {
    CompletableFuture<String> made =
        CompletableFuture.supplyAsync(
            () -> {
              lock.lock();
              try {
                ongoing.beside(
                    "v",
                    "view v",
                    Set.of(7L),
                    check -> {
                      working.countDown();
                      goOn.await();
                      check.run();
                    });
                return lock.isHeldByCurrentThread() ? "made" : "made without the lock";
              } catch (EngineException e) {
                return e.getMessage();
              } finally {
                lock.unlock();
              }
            });
    assertThat(working.await(10, TimeUnit.SECONDS)).isTrue();
    lock.lock(); // it is free meanwhile
    return made;
  }

  private String end(CompletableFuture<String> made) throws Exception {
    goOn.countDown();
    lock.unlock();
    return made.get(10, TimeUnit.SECONDS);
  }

  @Test
  void whatIsReadIsKeptAndTheNameIsTaken() throws Exception {
    CompletableFuture<String> made = start();
    assertThat(ongoing.has("v")).isTrue();
    assertThat(ongoing.has("w")).isFalse();
    assertThat(ongoing.uses(SCAN)).isTrue();
    assertThatThrownBy(() -> ongoing.refuseIfUsed(SCAN, "dropped"))
        .hasMessage("scan cannot be dropped: view v is being made from it");
    assertThat(end(made)).isEqualTo("made");
    assertThat(ongoing.has("v")).isFalse();
    ongoing.refuseIfUsed(SCAN, "dropped");
  }

  @Test
  void itCanBeStopped() throws Exception {
    CompletableFuture<String> made = start();
    assertThat(ongoing.stop("w")).isFalse();
    assertThat(ongoing.stop("v")).isTrue();
    assertThat(end(made)).isEqualTo("view v was dropped while it was being made");
    assertThat(ongoing.stop("v")).isFalse();
  }

  @Test
  void whatIsMadeOfSomethingThatChangedIsNotKept() throws Exception {
    CompletableFuture<String> made = start();
    catalog = catalog.with(stream("altered", Map.of()));
    assertThat(end(made)).isEqualTo("\"scan\" was changed while view v was being made");
  }
}
