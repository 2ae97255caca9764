package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.io.IOException;
import java.io.OutputStream;
import java.net.HttpURLConnection;
import java.net.URI;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.concurrent.atomic.AtomicLong;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;

/**
 * kill -9 while events are pushed: after a restart every acknowledged event is in every view
 * exactly once. Each event has a number of its own; a batch whose answer was lost may be in or not,
 * but whole.
 */
class CrashTest {
  private static final int KILLS = 4;
  private static final int BATCH = 50;
  private static LiveService service;

  @BeforeAll
  static void open() throws Exception {
    service = new LiveService();
  }

  @AfterAll
  static void close() throws Exception {
    service.close();
  }

  @Test
  void everyAcknowledgedEventIsThereExactlyOnce() throws Exception {
    long seed = 42;
    Random random = new Random(seed);
    service.drip(
        """
          CREATE STREAM scan (parcel BIGINT NOT NULL, batch BIGINT NOT NULL, gate VARCHAR);
          CREATE MATERIALIZED VIEW per_parcel AS SELECT parcel, COUNT(*) AS n FROM scan GROUP BY parcel;
          CREATE MATERIALIZED VIEW per_batch AS SELECT batch, COUNT(*) AS n FROM scan GROUP BY batch;
          CREATE MATERIALIZED VIEW totals AS SELECT COUNT(*) AS events, SUM(parcel) AS parcels FROM scan;
          """,
        "sql",
        "-");
    AtomicLong nextBatch = new AtomicLong();
    java.util.Set<Long> acknowledged = java.util.concurrent.ConcurrentHashMap.newKeySet();
    for (int kill = 1; kill <= KILLS; kill++) {
      AtomicBoolean pushing = new AtomicBoolean(true);
      Thread[] pushers = new Thread[3];
      for (int i = 0; i < pushers.length; i++) {
        pushers[i] =
            new Thread(
                () -> {
                  while (pushing.get()) {
                    long batch = nextBatch.getAndIncrement();
                    if (push(service.url(), batch)) {
                      acknowledged.add(batch);
                    }
                  }
                });
        pushers[i].start();
      }
      Thread.sleep(400 + random.nextInt(1200));
      service.kill();
      pushing.set(false);
      for (Thread pusher : pushers) {
        pusher.join();
      }
      if (kill == 2) {
        // The database of records goes down and comes back as well.
        service.cluster().stop();
        service.cluster().start();
      }
      service.start();
      check(service, acknowledged, "seed " + seed + ", kill " + kill);
    }
    assertThat(acknowledged.size()).isGreaterThan(20);
  }

  /**
   * The client's push goes on where it was when the service comes back: each event is taken once,
   * each reject is kept once. What was answered to have been rejected is there after a kill.
   */
  @Test
  void aPushGoesOnWhereItWas() throws Exception {
    int events = 60_000;
    StringBuilder lines = new StringBuilder("parcel,note\n");
    for (int i = 0; i < events; i++) {
      lines.append(i).append(i % 1000 == 7 ? ",\"two\nlines\"\n" : i % 100 == 3 ? "\n" : ",x\n");
    }
    service.sql("CREATE STREAM note (parcel BIGINT NOT NULL, note VARCHAR)");
    Path file = Files.createTempFile("drip-notes", ".csv");
    Files.writeString(file, lines);
    CompletableFuture<LiveService.Run> pushing =
        CompletableFuture.supplyAsync(() -> push(service, file));
    String before = count(service, "note");
    SourceTest.soon(service, "SELECT COUNT(*) > " + before + " FROM note", "[[true]]", 20);
    service.kill();
    service.start();
    LiveService.Run run = pushing.get(60, TimeUnit.SECONDS);
    assertThat(run.out()).startsWith("59400 accepted, 600 rejected, position 59400");
    service.kill();
    service.start();
    assertThat(String.valueOf(service.sql("SELECT COUNT(*), COUNT(DISTINCT parcel) FROM note")))
        .isEqualTo("[[59400, 59400]]");
    assertThat(count(service, "note WHERE note LIKE '%lines'")).isEqualTo("60");
    assertThat(count(service, "drip.rejects WHERE object = 'note'")).isEqualTo("600");
    Files.delete(file);
  }

  private static LiveService.Run push(LiveService service, Path file) {
    try {
      return service.drip("", "push", "note", file.toString());
    } catch (IOException | InterruptedException e) {
      throw new IllegalStateException(e);
    }
  }

  private static String count(LiveService service, String of) throws Exception {
    return String.valueOf(service.sql("SELECT COUNT(*) FROM " + of)).replaceAll("[\\[\\]]", "");
  }

  /** One batch; answers whether it was acknowledged. */
  private static boolean push(String url, long batch) {
    StringBuilder body = new StringBuilder();
    for (int i = 0; i < BATCH; i++) {
      body.append("{\"parcel\":")
          .append(batch * BATCH + i)
          .append(",\"batch\":")
          .append(batch)
          .append("}\n");
    }
    try {
      HttpURLConnection c =
          (HttpURLConnection)
              URI.create(url + "/api/v1/streams/scan/events").toURL().openConnection();
      c.setDoOutput(true);
      c.setReadTimeout(10_000);
      c.setRequestProperty("Content-Type", "application/x-ndjson");
      try (OutputStream out = c.getOutputStream()) {
        out.write(body.toString().getBytes(StandardCharsets.UTF_8));
      }
      return c.getResponseCode() == 200
          && new String(c.getInputStream().readAllBytes(), StandardCharsets.UTF_8)
              .contains("\"accepted\":" + BATCH);
    } catch (IOException e) {
      return false;
    }
  }

  private static void check(LiveService service, java.util.Set<Long> acknowledged, String when)
      throws Exception {
    java.util.Set<Long> found = new java.util.HashSet<>();
    String csv = service.drip("", "sql", "--format", "csv", "SELECT batch, n FROM per_batch").out();
    csv.lines()
        .skip(1)
        .forEach(
            line -> {
              String[] cells = line.split(",");
              assertThat(cells[1]).as(when + ": batch " + cells[0]).isEqualTo("" + BATCH);
              found.add(Long.valueOf(cells[0]));
            });
    assertThat(found).as(when).containsAll(acknowledged);
    assertThat(value(service, "SELECT COUNT(*) AS c FROM per_parcel WHERE n <> 1"))
        .as(when)
        .isEqualTo("0");
    long expected = 0;
    for (long batch : found) {
      for (int i = 0; i < BATCH; i++) {
        expected += batch * BATCH + i;
      }
    }
    assertThat(value(service, "SELECT parcels FROM totals")).as(when).isEqualTo("" + expected);
    assertThat(value(service, "SELECT COUNT(*) AS c FROM scan"))
        .as(when)
        .isEqualTo("" + found.size() * BATCH);
  }

  private static String value(LiveService service, String query) throws Exception {
    return service
        .drip("", "sql", "--format", "csv", query)
        .out()
        .lines()
        .skip(1)
        .findFirst()
        .orElse("");
  }

  @Test
  void aCleanShutdownIsQuickAndLosesNothing() throws Exception {
    service.drip(
        "", "sql", "CREATE TABLE t (k INTEGER PRIMARY KEY); INSERT INTO t VALUES (1), (2)");
    Thread follower =
        new Thread(
            () -> {
              try {
                service.drip("", "follow", "t");
              } catch (Exception e) {
                throw new IllegalStateException(e);
              }
            });
    follower.start();
    Thread.sleep(1500);
    assertThat(service.stop()).as("it ends although somebody follows").isTrue();
    follower.join();
    service.start();
    assertThat(value(service, "SELECT COUNT(*) AS c FROM t")).isEqualTo("2");
  }

  private static int status(LiveService service, String method, String path, String body) {
    try {
      return service.call(method, path, body).status();
    } catch (IOException e) {
      return -1;
    }
  }

  @Test
  void readsGoOnWhileTheDatabaseOfRecordsIsAway() throws Exception {
    try (LiveService service =
        new LiveService(
            "--drip.max-waiting-pushes=8",
            "--drip.change-millis=2000",
            "--spring.datasource.hikari.connection-timeout=1000")) {
      service.sql(
          "CREATE STREAM scan (parcel BIGINT);"
              + "CREATE TABLE t (k INTEGER PRIMARY KEY, v INTEGER); INSERT INTO t VALUES (1, 10);"
              + "CREATE MATERIALIZED VIEW n AS SELECT k, SUM(v) AS v FROM t GROUP BY k");
      service.cluster().crash();
      List<CompletableFuture<Integer>> pushes = new ArrayList<>();
      for (int i = 0; i < 60; i++) {
        String event = "{\"parcel\":" + i + "}";
        pushes.add(
            CompletableFuture.supplyAsync(
                () -> status(service, "POST", "/api/v1/streams/scan/events", event),
                task -> new Thread(task).start()));
      }
      long began = System.nanoTime();
      for (int i = 0; i < 50; i++) {
        assertThat(service.sql("SELECT v FROM n WHERE k = 1")).hasToString("[[10]]");
        assertThat(status(service, "GET", "/api/v1/views/n/rows/1", null)).isEqualTo(200);
      }
      assertThat((System.nanoTime() - began) / 1e9).as("seconds for 100 reads").isLessThan(20);
      LiveService.Answer change =
          service.call(
              "POST", "/api/v1/sql", "{\"sql\":\"UPDATE t SET v = v + 1\",\"id\":\"once\"}");
      assertThat(change.status()).as(change.body()).isEqualTo(503);
      List<Integer> answers = pushes.stream().map(CompletableFuture::join).toList();
      assertThat(answers).as("all are answered, none is acknowledged").containsOnly(503);
      service.cluster().start();
      String again = "{\"sql\":\"UPDATE t SET v = v + 1\",\"id\":\"once\"}";
      for (int i = 0; i < 100 && status(service, "POST", "/api/v1/sql", again) != 200; i++) {
        Thread.sleep(100);
      }
      assertThat(service.sql("SELECT v FROM n")).as("made once").hasToString("[[11]]");
      assertThat(service.call("GET", "/api/v1/changes/once/1", null).body())
          .contains("\"made\":true");
      assertThat(service.call("GET", "/api/v1/changes/never", null).body())
          .contains("\"made\":false");
    }
  }

  @Test
  void aSecondServiceIsRefusedTheDatabaseOfTheFirst() throws Exception {
    service.sql("CREATE TABLE held (k INTEGER PRIMARY KEY); INSERT INTO held VALUES (1)");
    assertThatThrownBy(() -> service.second())
        .hasMessageContaining("another Drip Ledger service is using this database");
    service.sql("INSERT INTO held VALUES (2)");
    assertThat(service.sql("SELECT COUNT(*) FROM held")).hasToString("[[2]]");
  }
}
