package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.circuit.Refresher;
import dripledger.engine.query.Result;
import dripledger.engine.query.Subscription;
import dripledger.engine.source.Connectors;
import java.nio.file.Path;
import java.time.Duration;
import java.time.Instant;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.function.BooleanSupplier;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;

/** Views that are refreshed from time to time. */
final class UpkeepTest {
  private static final Instant SIX = TestEngine.CLOCK.instant();
  private final TestEngine db = new TestEngine();

  @BeforeEach
  void parcels() {
    db.run("CREATE TABLE parcel (id INTEGER PRIMARY KEY, hall VARCHAR, kg INTEGER)");
    db.run("INSERT INTO parcel VALUES (1, 'North', 5), (2, 'South', 7)");
  }

  @AfterEach
  void close() {
    db.close();
  }

  private void halls(String upkeep) {
    db.run(
        "CREATE MATERIALIZED VIEW halls OPTIONS ("
            + upkeep
            + ") AS SELECT hall, COUNT(*) AS parcels, SUM(kg) AS kg FROM parcel GROUP BY hall");
  }

  private List<String> halls() {
    return db.rows("SELECT * FROM halls ORDER BY hall");
  }

  private static void await(BooleanSupplier condition) {
    long until = System.nanoTime() + Duration.ofSeconds(30).toNanos();
    while (!condition.getAsBoolean()) {
      assertThat(System.nanoTime()).as("in time").isLessThan(until);
      Thread.onSpinWait();
    }
  }

  private String refresh(String view) {
    return ((Result.Done) db.run("REFRESH MATERIALIZED VIEW " + view)).message();
  }

  @Test
  void onDemandItShowsWhatWasThereAtTheLastRefresh() {
    halls("upkeep 'on demand'");
    assertThat(halls()).containsExactly("[North, 1, 5]", "[South, 1, 7]");
    db.run("INSERT INTO parcel VALUES (3, 'North', 2); UPDATE parcel SET kg = 8 WHERE id = 2");
    db.run("INSERT INTO parcel VALUES (4, 'East', 1); DELETE FROM parcel WHERE id = 4");
    assertThat(halls()).containsExactly("[North, 1, 5]", "[South, 1, 7]");
    assertThat(refresh("halls"))
        .startsWith("refreshed halls: 5 rows read, 2 put in, 2 taken out, 0 unchanged, 0 late,");
    assertThat(halls()).containsExactly("[North, 2, 7]", "[South, 1, 8]");
    db.run("INSERT INTO parcel VALUES (5, 'South', 1)");
    assertThat(refresh("halls")).contains("1 rows read, 1 put in, 1 taken out, 1 unchanged");
    assertThat(refresh("halls")).contains("0 rows read, 0 put in, 0 taken out, 2 unchanged");
    assertThat(db.rows("SELECT view, cause, read, put_in, taken_out, unchanged FROM drip.upkeep"))
        .containsExactly(
            "[halls, asked, 5, 2, 2, 0]",
            "[halls, asked, 1, 1, 1, 1]",
            "[halls, asked, 0, 0, 0, 2]");
  }

  @Test
  void whatWaitsAndWhatWasShownOutliveACrash() {
    halls("upkeep 'on demand'");
    db.run("INSERT INTO parcel VALUES (3, 'North', 2)");
    db.checkpoint();
    db.run("INSERT INTO parcel VALUES (4, 'North', 3)"); // in the ledger alone
    db.crash();
    assertThat(halls()).containsExactly("[North, 1, 5]", "[South, 1, 7]");
    assertThat(refresh("halls")).contains("2 rows read");
    assertThat(halls()).containsExactly("[North, 3, 10]", "[South, 1, 7]");
    db.crash(); // a refresh that was answered is not undone
    assertThat(halls()).containsExactly("[North, 3, 10]", "[South, 1, 7]");
    assertThat(refresh("halls")).contains("0 rows read");
    db.run("INSERT INTO parcel VALUES (5, 'North', 1)");
    assertThat(refresh("halls")).contains("1 rows read");
    db.checkpoint();
    db.crash();
    assertThat(halls()).containsExactly("[North, 4, 11]", "[South, 1, 7]");
  }

  @Test
  void itIsRefreshedWhenItIsDue() {
    halls("upkeep 'every 20 seconds'");
    db.run("INSERT INTO parcel VALUES (3, 'North', 2)");
    db.clock(SIX.plusSeconds(19));
    db.run("INSERT INTO parcel VALUES (4, 'North', 2)");
    assertThat(halls()).containsExactly("[North, 1, 5]", "[South, 1, 7]");
    db.clock(SIX.plusSeconds(20));
    await(() -> halls().contains("[North, 3, 9]"));
    db.run("INSERT INTO parcel VALUES (5, 'North', 2)");
    db.clock(SIX.plusSeconds(39));
    assertThat(halls()).contains("[North, 3, 9]");
    db.clock(SIX.plusSeconds(200)); // once, however often it would have been
    await(() -> halls().contains("[North, 4, 11]"));
    assertThat(db.rows("SELECT view, began, cause, read FROM drip.upkeep"))
        .containsExactly(
            "[halls, 2026-03-02T06:00:20, due, 2]", "[halls, 2026-03-02T06:03:20, due, 1]");
  }

  @Test
  void itFollowsASchedule() {
    halls("upkeep 'cron 30 6 * * *'");
    db.run("INSERT INTO parcel VALUES (3, 'North', 2)");
    db.clock(SIX.plusSeconds(1799));
    assertThat(halls()).contains("[North, 1, 5]");
    db.clock(SIX.plusSeconds(1800));
    await(() -> halls().contains("[North, 2, 7]"));
    db.run("INSERT INTO parcel VALUES (4, 'North', 2)");
    db.checkpoint();
    db.clock(SIX.plus(Duration.ofDays(1)).plusSeconds(1700));
    db.crash();
    assertThat(halls()).contains("[North, 2, 7]");
    db.clock(SIX.plus(Duration.ofDays(1)).plusSeconds(1900));
    await(() -> halls().contains("[North, 3, 9]"));
  }

  @Test
  void whatWasMissedWhileItWasDownIsMadeUpFor() {
    halls("upkeep 'cron 30 6 * * *'");
    db.run("INSERT INTO parcel VALUES (3, 'North', 2)");
    db.checkpoint();
    db.clock(SIX.plusSeconds(3000));
    db.crash();
    await(() -> halls().contains("[North, 2, 7]"));
  }

  @Test
  void itIsRefreshedBeforeWhatWaitsIsTooOld() {
    halls("upkeep 'on demand', fresh_within '10 minutes'");
    db.clock(Instant.now());
    db.run("INSERT INTO parcel VALUES (3, 'North', 2)");
    assertThat(halls()).contains("[North, 1, 5]");
    db.clock(Instant.now().plusSeconds(301));
    await(() -> halls().contains("[North, 2, 7]"));
    assertThat(db.rows("SELECT view, cause FROM drip.upkeep"))
        .containsExactly("[halls, fresh_within]");
    db.clock(Instant.now().plusSeconds(7000)); // nothing waits
    assertThat(refresh("halls")).contains("0 rows read");
  }

  @Test
  void freshnessIsMeasured() {
    db.run("CREATE STREAM scan (parcel INTEGER, at TIMESTAMP, EVENT TIME at)");
    db.run(
        "CREATE MATERIALIZED VIEW scans OPTIONS (fresh_within '1 hour') AS"
            + " SELECT parcel, COUNT(*) AS n FROM scan GROUP BY parcel");
    db.push("scan", new Object[] {1, java.time.LocalDateTime.of(2026, 3, 2, 6, 0)});
    List<String> rows =
        db.rows(
            "SELECT view, shown, in_time, arrival_ms >= 0 AND worst_arrival_ms >= arrival_ms AS ok,"
                + " event_ms > 0, wanted_ms FROM drip.freshness WHERE view = 'scans'");
    assertThat(rows).containsExactly("[scans, 1, 1, true, true, 3600000.0]");
  }

  @Test
  void manyRowsAreTakenInPieceByPieceAndShownAtOnce() throws InterruptedException {
    halls("upkeep 'on demand'");
    db.run("CREATE MATERIALIZED VIEW total AS SELECT SUM(parcels) AS n FROM halls");
    db.run(
        "CREATE MATERIALIZED VIEW light OPTIONS (upkeep 'on demand') AS"
            + " SELECT id, kg FROM parcel WHERE kg < 10");
    Subscription follower = db.engine.follow("SELECT n FROM total", Map.of());
    for (int part = 0; part < 5; part++) {
      db.run(
          "INSERT INTO parcel SELECT CAST(g AS INTEGER), 'H' || g % 100, CAST(g % 20 AS INTEGER)"
              + " FROM generate_series("
              + (part * 30_000 + 100)
              + ", "
              + (part * 30_000 + 30_099)
              + ") AS s (g)");
    }
    assertThat(db.rows("SELECT n FROM total")).containsExactly("[2]");
    assertThat(refresh("halls")).contains("150,000 rows read, 100 put in, 0 taken out, 2 unch");
    assertThat(db.rows("SELECT n FROM total")).containsExactly("[150002]");
    List<String> seen = new ArrayList<>();
    Subscription.Batch batch = follower.poll(Duration.ofSeconds(10).toMillis());
    while (batch != null && seen.size() < 3) {
      seen.addAll(TestEngine.changes(batch));
      batch = seen.size() < 3 ? follower.poll(Duration.ofSeconds(10).toMillis()) : null;
    }
    follower.close();
    assertThat(seen).containsExactlyInAnyOrder("+[2]", "-[2]", "+[150002]");
    assertThat(refresh("light")).contains("150,000 rows read, 75,000 put in, 0 taken out, 2 unch");
    assertThat(db.rows("SELECT COUNT(*) AS n FROM light")).containsExactly("[75002]");
  }

  @Test
  void itIsRefreshedWhenMoreWaitsThanMay(@TempDir Path waiting) {
    EngineOptions options =
        new EngineOptions(
            1000,
            1 << 20,
            1000,
            10,
            1L << 30,
            5000,
            60_000,
            1L << 30,
            30_000,
            2,
            1,
            new Refresher.Bounds(waiting, 2000),
            1000);
    try (Engine engine =
        new Engine(options, TestEngine.records(), Connectors.NONE, TestEngine.CLOCK)) {
      engine.start();
      engine.execute(
          "CREATE TABLE t (k INTEGER PRIMARY KEY); CREATE MATERIALIZED VIEW v OPTIONS (upkeep 'on"
              + " demand') AS SELECT k FROM t; INSERT INTO t VALUES (1)");
      assertThat(engine.relation("v").count()).isZero();
      engine.execute(
          "INSERT INTO t SELECT CAST(g AS INTEGER) FROM generate_series(2, 500) AS s (g)");
      await(() -> engine.relation("v").count() == 500);
      List<Result> runs = engine.execute("SELECT cause, read FROM drip.upkeep");
      assertThat(((Result.Rows) runs.get(0)).rows()).containsExactly(new Object[] {"full", 500L});
    }
  }

  @Test
  void whatWaitsIsSeen() {
    halls("upkeep 'on demand', fresh_within '1 day'");
    db.run("INSERT INTO parcel VALUES (3, 'North', 2)");
    assertThat(((Result.Rows) db.run("DESCRIBE halls")).note())
        .contains("; upkeep on demand, last at 2026-03-02T06:00, 1 rows wait (")
        .endsWith("; fresh within 1 day");
    assertThat(db.rows("EXPLAIN ANALYZE halls").get(0)).contains("2, "); // groups
    assertThat(db.rows("SHOW VIEWS").get(0)).startsWith("[halls, materialized view, 2, hall,");
  }

  @Test
  void aContinuousViewHasNothingToRefresh() {
    halls("upkeep 'continuous'");
    assertThat(refresh("halls")).contains("takes in everything as it comes");
    assertThatThrownBy(() -> refresh("parcel")).hasMessageContaining("\"parcel\" is a table");
    assertThatThrownBy(() -> refresh("nothing")).hasMessageContaining("\"nothing\"");
  }

  @Test
  void whatIsWrongWithAnOptionIsSaid() {
    assertThatThrownBy(() -> halls("upkeep 'sometimes'"))
        .hasMessage("upkeep 'sometimes' is not known")
        .extracting("hint")
        .asString()
        .contains("'every 20 seconds'");
    assertThatThrownBy(() -> halls("upkeep 'cron 99 * * * *'")).hasMessageContaining("schedule");
    assertThatThrownBy(() -> halls("upkeep 'every moon'")).hasMessageContaining("every moon");
    assertThatThrownBy(() -> halls("fresh_within 'soon'")).hasMessageContaining("not a time");
  }

  @Test
  void whoWaitsIsToldWhenTheViewGoes() {
    halls("upkeep 'on demand'");
    db.run("CREATE OR REPLACE MATERIALIZED VIEW halls AS SELECT hall, 1 AS one FROM parcel");
    assertThat(halls()).hasSize(2);
    db.run("DROP MATERIALIZED VIEW halls");
  }
}
