package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.SQLException;
import java.sql.Statement;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.parallel.ResourceLock;

/**
 * State that is bounded, lost, of another release, or cut off from its source: with a service of
 * its own that holds little.
 */
@ResourceLock(SourceTest.TWO)
class RecoveryTest extends SourceTest {
  private static LiveService small;

  @BeforeAll
  static void open() throws Exception {
    small =
        new LiveService(
            "--drip.checkpoint-millis=300",
            "--drip.max-held-bytes=60000000",
            "--drip.connection-check-seconds=1");
    lane(RecoveryTest.class).hub().connect(small, "drip_small");
  }

  @AfterAll
  static void close() throws Exception {
    small.close();
  }

  private static void smallExpect(String query, String rows) throws Exception {
    assertThat(soon(small, query, rows, 30)).as(query).isEqualTo(rows);
  }

  private static void records(String... statements) throws SQLException {
    try (Connection c =
            DriverManager.getConnection(small.cluster().jdbcUrl("drip"), "drip", "loopback");
        Statement s = c.createStatement()) {
      for (String statement : statements) {
        assertThat(s.executeUpdate(statement)).as(statement).isPositive();
      }
    }
  }

  @Test
  void whatIsNotInTheCheckpointOrOfAnotherPlanIsMadeAgain() throws Exception {
    hub.topic("again.scan", 2);
    hub.topic("again.gate", 1);
    hub.execute(
        "CREATE TABLE again (id bigint PRIMARY KEY, gate text)",
        "INSERT INTO again SELECT g, 'G0' || g % 3 FROM generate_series(1, 30000) g");
    small.sql(
        "CREATE TABLE again FROM hub_ops (table 'public.again');"
            + "CREATE TABLE again_gate (gate VARCHAR PRIMARY KEY, hall VARCHAR) FROM hub_log (topic 'again.gate') FORMAT json;"
            + "CREATE STREAM again_scan (parcel BIGINT, gate VARCHAR, at TIMESTAMP, grams INTEGER,"
            + " EVENT TIME at) FROM hub_log (topic 'again.scan') FORMAT json;"
            + "CREATE MATERIALIZED VIEW again_gates AS SELECT gate, COUNT(*) AS n FROM again GROUP BY gate;"
            + "CREATE MATERIALIZED VIEW again_halls AS SELECT CASE gate WHEN 'G02' THEN 'South' ELSE 'North' END"
            + " AS hall, SUM(n) AS n FROM again_gates GROUP BY CASE gate WHEN 'G02' THEN 'South' ELSE 'North' END;"
            + "CREATE MATERIALIZED VIEW again_in AS SELECT hall, COUNT(*) AS n FROM again_gate GROUP BY hall;"
            + "CREATE MATERIALIZED VIEW again_scans AS SELECT gate, SUM(grams) AS g FROM again_scan GROUP BY gate");
    for (int i = 0; i < 50; i++) {
      hub.send("again.scan", "k" + i, scan(i, "G0" + i % 3, i));
    }
    hub.send("again.gate", "G00", "{\"hall\":\"North\"}");
    hub.send("again.gate", "G01", "{\"hall\":\"North\"}");
    hub.send("again.gate", "G02", "{\"hall\":\"South\"}");
    String halls = "SELECT hall, n FROM again_halls ORDER BY hall";
    String scans = "SELECT gate, g FROM again_scans ORDER BY gate";
    smallExpect(halls, "[[North, 20000], [South, 10000]]");
    smallExpect(scans, "[[G00, 408], [G01, 425], [G02, 392]]");
    smallExpect("SELECT hall, n FROM again_in ORDER BY hall", "[[North, 2], [South, 1]]");
    Thread.sleep(1000);
    String[][] losses = {
      // a table of the database and what reads it
      {
        "DELETE FROM checkpoint_node USING definition WHERE node_id = definition.id AND name = 'again'"
      },
      // a table of a topic
      {
        "DELETE FROM checkpoint_node USING definition WHERE node_id = definition.id AND name = 'again_gate'"
      },
      // the steps of views, which have numbers below zero: of another plan, or of a form nobody has
      {"UPDATE checkpoint_node SET plan = 'other' WHERE node_id < 0"},
      {
        "UPDATE checkpoint_chunk SET payload = '\\x28b52ffd2002110000ffff', raw_bytes = 2"
            + " WHERE node_id < 0"
      },
      {"DELETE FROM checkpoint_node", "DELETE FROM checkpoint_chunk"},
    };
    int parcels = 30_000;
    for (String[] loss : losses) {
      small.kill();
      records(loss);
      hub.execute("INSERT INTO again VALUES (" + (parcels + 1) + ", 'G02')");
      parcels++;
      hub.send("again.scan", "k", scan(1, "G02", 100));
      small.start();
      smallExpect(halls, "[[North, 20000], [South, " + (parcels - 20_000) + "]]");
      smallExpect(
          scans, "[[G00, 408], [G01, 425], [G02, " + (392 + 100 * (parcels - 30_000)) + "]]");
      smallExpect("SELECT COUNT(*) FROM again", "[[" + parcels + "]]");
      smallExpect("SELECT hall, n FROM again_in ORDER BY hall", "[[North, 2], [South, 1]]");
      hub.execute("DELETE FROM again WHERE id = 3"); // the second time nothing is there
      smallExpect("SELECT COUNT(*) FROM again WHERE id = 3", "[[0]]");
      hub.execute("INSERT INTO again VALUES (3, 'G00')");
      Thread.sleep(1000);
    }
  }

  @Test
  void sourcesWaitWhenTheViewsAreFull() throws Exception {
    hub.topic("flood", 2);
    small.sql(
        "CREATE STREAM flood (parcel BIGINT, note VARCHAR) FROM hub_log (topic 'flood') FORMAT json;"
            + "CREATE MATERIALIZED VIEW flood_count AS SELECT COUNT(*) AS n FROM flood;"
            + "CREATE MATERIALIZED VIEW flood_notes AS SELECT parcel, note FROM flood");
    String note = "x".repeat(400);
    for (int i = 0; i < 200_000; i++) {
      var ignored =
          hub.producer()
              .send(
                  new org.apache.kafka.clients.producer.ProducerRecord<>(
                      "flood", i % 2, null, "{\"parcel\":" + i + ",\"note\":\"" + note + "\"}"));
    }
    hub.producer().flush();
    smallExpect(
        "SELECT state, reason FROM drip.inputs WHERE name = 'flood'",
        "[[waiting, the views hold or are to take in as much as they may]]");
    Object held = small.sql("SELECT n FROM flood_count").get(0).get(0);
    assertThat(((Number) held).intValue()).isLessThan(200_000);
    assertThat(small.drip("", "status").out()).contains("flood").contains("waiting");
    assertThatThrownBy(
            () -> small.sql("CREATE STREAM pushed (v INTEGER); INSERT INTO pushed VALUES (1)"))
        .hasMessageContaining("MB, which is all they may");
    small.sql("DROP MATERIALIZED VIEW flood_notes");
    smallExpect("SELECT n FROM flood_count", "[[200000]]");
    smallExpect("SELECT state FROM drip.inputs WHERE name = 'flood'", "[[reading]]");
  }

  @Test
  void aTableWhoseReloadFailsSaysSoUntilItWorks() throws Exception {
    hub.execute("CREATE TABLE cut (id bigint PRIMARY KEY)", "INSERT INTO cut VALUES (1)");
    small.sql("CREATE TABLE cut FROM hub_ops (table 'public.cut')");
    hub.operations().crash();
    try {
      assertThatThrownBy(() -> small.sql("REFRESH TABLE cut")).hasMessageContaining("database");
      assertThat(String.valueOf(small.sql("SELECT * FROM cut"))).isEqualTo("[[1]]");
      assertThat(small.call("GET", "/api/v1/objects/cut", null).body())
          .contains("it could not be loaded again");
      String health = "";
      for (int i = 0; i < 100 && !health.contains("cannot be reached"); i++) {
        Thread.sleep(100);
        health = String.valueOf(small.sql("SHOW CONNECTIONS"));
      }
      assertThat(health).contains("cannot be reached");
    } finally {
      hub.operations().start();
    }
    hub.execute("INSERT INTO cut VALUES (2)");
    small.sql("REFRESH TABLE cut");
    smallExpect("SELECT * FROM cut ORDER BY id", "[[1], [2]]");
    hub.execute("INSERT INTO cut VALUES (3)");
    smallExpect("SELECT * FROM cut ORDER BY id", "[[1], [2], [3]]");
    assertThat(small.call("GET", "/api/v1/objects/cut", null).body())
        .doesNotContain("loaded again");
  }

  @Test
  void aViewThatCannotBeMadeAtTheStartIsMadeWhenItsBrokerIsBack() throws Exception {
    hub.topic("late.scan", 1);
    small.sql(
        "CREATE STREAM late_scan (parcel BIGINT, gate VARCHAR, grams INTEGER) FROM hub_log (topic 'late.scan') FORMAT json;"
            + "CREATE MATERIALIZED VIEW late_sums AS SELECT gate, SUM(grams) AS g FROM late_scan GROUP BY gate;"
            + "CREATE MATERIALIZED VIEW late_all AS SELECT SUM(g) AS g FROM late_sums;"
            + "CREATE TABLE late_by_hand (k INTEGER PRIMARY KEY)");
    hub.send("late.scan", "k", scan(1, "G01", 5), scan(2, "G02", 6));
    smallExpect("SELECT g FROM late_all", "[[11]]");
    small.stop();
    records(
        "UPDATE checkpoint_node n SET plan = 'other' FROM definition d"
            + " WHERE n.node_id < 0 AND d.name = 'late_scan' AND n.plan LIKE '%read ' || d.id || '(%'");
    hub.broker().kill();
    try {
      small.start();
      small.sql("INSERT INTO late_by_hand VALUES (1)");
      smallExpect("SELECT COUNT(*) FROM late_by_hand", "[[1]]");
      assertThat(small.call("GET", "/api/v1/objects/late_sums", null).body())
          .contains("could not be made again from its inputs yet");
      assertThat(small.call("GET", "/actuator/health", null).status()).isEqualTo(503);
      assertThat(small.call("GET", "/actuator/health/liveness", null).status()).isEqualTo(200);
      assertThat(small.call("GET", "/api/v1/findings", null).body())
          .contains("\"severe\":true", "late_sums has stopped");
      assertThatThrownBy(() -> small.sql("SELECT * FROM late_all"))
          .hasMessageContaining("late_all");
    } finally {
      hub.startBroker();
    }
    hub.send("late.scan", "k", scan(3, "G01", 7));
    String sums = "";
    for (int i = 0; i < 600 && !sums.equals("[[18]]"); i++) {
      Thread.sleep(100);
      try {
        sums = String.valueOf(small.sql("SELECT g FROM late_all"));
      } catch (java.io.IOException e) {
        sums = "not yet";
      }
    }
    assertThat(sums).isEqualTo("[[18]]");
    smallExpect("SELECT * FROM late_sums ORDER BY gate", "[[G01, 12], [G02, 6]]");
    assertThat(small.call("GET", "/actuator/health", null).status()).isEqualTo(200);
  }

  @Test
  void brokenEventsAreAnsweredAlsoWhenTheViewsAreFull() throws Exception {
    small.sql(
        "CREATE STREAM overfull (k BIGINT NOT NULL, body VARCHAR);"
            + "CREATE MATERIALIZED VIEW overfull_all AS SELECT k, body FROM overfull");
    String body = "x".repeat(100_000);
    LiveService.Answer answer = null;
    for (int i = 0; i < 2000 && (answer == null || answer.status() == 200); i++) {
      answer =
          small.call(
              "POST",
              "/api/v1/streams/overfull/events?wait=applied",
              "{\"k\":" + i + ",\"body\":\"" + i + body + "\"}");
    }
    assertThat(answer.status()).isEqualTo(413);
    LiveService.Answer broken =
        small.call("POST", "/api/v1/streams/overfull/events", "{\"k\":\"heavy\"}\n{\"k\":");
    assertThat(broken.status()).isEqualTo(200);
    assertThat(broken.body()).contains("\"rejected\":2");
    small.sql("DROP STREAM overfull CASCADE");
  }
}
