package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.WebhookStandIn;
import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.security.MessageDigest;
import java.sql.Connection;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.Base64;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.TreeMap;
import java.util.stream.Stream;
import javax.crypto.Mac;
import javax.crypto.spec.SecretKeySpec;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;
import org.junit.jupiter.api.parallel.ResourceLock;

/** Deliveries to topics and tables, through the client, with kills. */
@ResourceLock(SourceTest.ONE)
class SinksTest extends SourceTest {
  /** What somebody who reads a topic from its start knows of each key. */
  private Map<String, String> known(String topic) {
    Map<String, String> known = new TreeMap<>();
    for (ConsumerRecord<String, String> message : hub.all(topic)) {
      if (message.value() == null) {
        known.remove(message.key());
      } else {
        known.put(message.key(), message.value());
      }
    }
    return known;
  }

  private void awaitKnown(String topic, Map<String, String> expected) throws Exception {
    Map<String, String> found = Map.of();
    for (int i = 0; i < 200; i++) {
      found = known(topic);
      if (found.equals(expected)) {
        return;
      }
      Thread.sleep(100);
    }
    assertThat(found).isEqualTo(expected);
  }

  private List<String> theirs(String query) throws SQLException {
    List<String> rows = new ArrayList<>();
    try (Connection c = hub.connect();
        Statement s = c.createStatement();
        ResultSet r = s.executeQuery(query)) {
      while (r.next()) {
        List<String> row = new ArrayList<>();
        for (int i = 1; i <= r.getMetaData().getColumnCount(); i++) {
          row.add(r.getString(i));
        }
        rows.add(String.join("|", row));
      }
    }
    return rows;
  }

  private void awaitTheirs(String query, List<String> expected) throws Exception {
    List<String> found = List.of();
    for (int i = 0; i < 200; i++) {
      found = theirs(query);
      if (found.equals(expected)) {
        return;
      }
      Thread.sleep(100);
    }
    assertThat(found).as(query).isEqualTo(expected);
  }

  @Test
  void aTopicSaysOfEachKeyWhatItIsNowThroughKills() throws Exception {
    service.sql(
        "CREATE TABLE sink_weighed (id BIGINT PRIMARY KEY, gate VARCHAR, grams BIGINT);"
            + " INSERT INTO sink_weighed VALUES (1, 'G1', 100), (2, 'G1', 50), (3, 'G2', 7);"
            + " CREATE SINK by_gate TO hub_log (topic 'sink.by_gate', partitions 3) FORMAT json KEY (gate)"
            + " AS SELECT gate, COUNT(*) AS n, SUM(grams) AS grams FROM sink_weighed GROUP BY gate");
    awaitKnown(
        "sink.by_gate",
        Map.of(
            "G1", "{\"gate\":\"G1\",\"n\":2,\"grams\":\"150\"}",
            "G2", "{\"gate\":\"G2\",\"n\":1,\"grams\":\"7\"}"));
    service.sql(
        "DELETE FROM sink_weighed WHERE gate = 'G2'; UPDATE sink_weighed SET grams = 60 WHERE id = 2");
    service.kill();
    service.start();
    awaitKnown("sink.by_gate", Map.of("G1", "{\"gate\":\"G1\",\"n\":2,\"grams\":\"160\"}"));
    Random random = new Random(7);
    for (int round = 0; round < 4; round++) {
      for (int i = 0; i < 20; i++) {
        service.sql(
            "DELETE FROM sink_weighed WHERE id = %d; INSERT INTO sink_weighed VALUES (%d, 'G%d', %d)"
                .formatted(100 + i, 100 + i, random.nextInt(5), random.nextInt(1000)));
      }
      service.kill();
      service.start();
    }
    Map<String, String> expected = new TreeMap<>();
    for (List<Object> row :
        rows(
            "SELECT gate, COUNT(*), CAST(SUM(grams) AS VARCHAR) FROM sink_weighed GROUP BY gate")) {
      expected.put(
          row.get(0) + "",
          "{\"gate\":\"%s\",\"n\":%s,\"grams\":\"%s\"}"
              .formatted(row.get(0), row.get(1), row.get(2)));
    }
    awaitKnown("sink.by_gate", expected);
    // What we deliver, we can read.
    service.sql(
        "CREATE TABLE read_back (gate VARCHAR PRIMARY KEY, n BIGINT, grams DECIMAL(20, 0)) FROM hub_log"
            + " (topic 'sink.by_gate') FORMAT json");
    expect("SELECT COUNT(*) FROM read_back", "[[" + expected.size() + "]]");
    assertThat(service.drip("", "sql", "SHOW SINKS").out())
        .containsPattern("by_gate +hub_log: sink.by_gate, json +upsert +delivering ");
    service.sql("DROP SINK by_gate; DROP TABLE read_back; DROP TABLE sink_weighed");
  }

  @SuppressWarnings("unchecked")
  private List<List<Object>> rows(String query) throws Exception {
    List<List<Object>> rows = new ArrayList<>();
    for (Object row : service.sql(query)) {
      rows.add((List<Object>) row);
    }
    return rows;
  }

  @Test
  void whatIsAppendedIsThereOnceThroughKills() throws Exception {
    hub.topic("sink.in", 2);
    service.sql(
        "CREATE STREAM passing (parcel BIGINT, gate VARCHAR) FROM hub_log (topic 'sink.in') FORMAT json;"
            + " CREATE SINK heavy TO hub_log (topic 'sink.out', partitions 2, headers 'on') FORMAT json"
            + " KEY (gate) AS SELECT parcel, gate FROM passing WHERE parcel > 10");
    for (int round = 0; round < 5; round++) {
      for (int i = 0; i < 100; i++) {
        int parcel = round * 100 + i + 11;
        hub.sendAt(
            "sink.in",
            i % 2,
            System.currentTimeMillis(),
            "{\"parcel\":%d,\"gate\":\"G%d\"}".formatted(parcel, i % 7));
      }
      Thread.sleep(150L * round); // so that it dies at some point or other
      service.kill();
      service.start();
    }
    List<String> expected = new ArrayList<>();
    for (int parcel = 11; parcel < 511; parcel++) {
      expected.add("{\"parcel\":%d,\"gate\":\"G%d\"}".formatted(parcel, (parcel - 11) % 100 % 7));
    }
    List<String> found = List.of();
    for (int i = 0; i < 200 && found.size() < expected.size(); i++) {
      found = hub.all("sink.out").stream().map(ConsumerRecord::value).toList();
      Thread.sleep(100);
    }
    assertThat(found).containsExactlyInAnyOrderElementsOf(expected);
    assertThat(hub.all("sink.out"))
        .allSatisfy(
            m -> assertThat(m.headers().lastHeader("sink").value()).isEqualTo(Hub.bytes("heavy")))
        .allSatisfy(m -> assertThat(m.value()).contains("\"gate\":\"" + m.key() + "\""));
    List<String> known = hub.groups();
    service.sql("DROP SINK heavy; DROP STREAM passing");
    for (int i = 0; i < 100 && hub.groups().containsAll(known); i++) {
      Thread.sleep(100);
    }
    assertThat(hub.groups()).as("how far it had come is forgotten").hasSize(known.size() - 1);
  }

  @Test
  void aTableIsMergedByKeyAndOnlyWhatDiffersIsTouched() throws Exception {
    service.sql(
        "CREATE TABLE charged (id BIGINT PRIMARY KEY, parcel BIGINT, cents INTEGER, note VARCHAR);"
            + " INSERT INTO charged VALUES (1, 7, 100, E'a\\tb'), (2, 8, 20, NULL), (3, 8, 5, 'x');"
            + " CREATE SINK bill TO hub_ops (table 'billing.charge', create 'if missing') KEY (parcel)"
            + " OPTIONS (upkeep 'on demand') AS SELECT parcel, SUM(cents) AS cents, MAX(note) AS note FROM"
            + " charged GROUP BY parcel");
    assertThat(service.drip("", "sql", "REFRESH SINK bill").out())
        .contains("refreshed bill: 2 put in, 0 changed, 0 unchanged, 0 removed");
    String bill = "SELECT parcel, cents, note FROM billing.charge ORDER BY parcel";
    assertThat(theirs(bill)).containsExactly("7|100|a\tb", "8|25|x");
    service.sql(
        "UPDATE charged SET cents = 95 WHERE id = 1; UPDATE charged SET cents = 90 WHERE id = 1; INSERT INTO charged VALUES (4, 9, 1, 'n')");
    service.kill();
    service.start();
    assertThat(theirs(bill)).containsExactly("7|100|a\tb", "8|25|x");
    assertThat(service.drip("", "sql", "REFRESH SINK bill").out())
        .contains("refreshed bill: 1 put in, 1 changed, 0 unchanged, 0 removed");
    service.sql("DELETE FROM charged WHERE parcel = 8");
    assertThat(service.drip("", "sql", "REFRESH SINK bill").out())
        .contains("refreshed bill: 0 put in, 0 changed, 0 unchanged, 1 removed");
    awaitTheirs(bill, List.of("7|90|a\tb", "9|1|n"));
    assertThat(service.drip("", "sql", "DROP SINK bill").out())
        .contains("dropped sink bill (what it has delivered stays at hub_ops: billing.charge;");
    assertThat(theirs(bill)).hasSize(2); // what was delivered stays
    service.sql(
        "CREATE SINK bill TO hub_ops (table 'billing.charge', deletes 'keep') KEY (parcel) OPTIONS (upkeep"
            + " 'on demand') AS SELECT parcel, SUM(cents) AS cents, MAX(note) AS note FROM charged GROUP BY"
            + " parcel");
    assertThat(service.drip("", "sql", "REFRESH SINK bill").out())
        .contains("refreshed bill: 0 put in, 0 changed, 2 unchanged, 0 removed");
    service.sql("DELETE FROM charged WHERE parcel = 9");
    assertThat(service.drip("", "sql", "REFRESH SINK bill").out())
        .contains("refreshed bill: 0 put in, 0 changed, 0 unchanged, 0 removed");
    assertThat(theirs(bill)).hasSize(2);
    service.sql("DROP SINK bill; DROP TABLE charged");
    hub.execute("DROP SCHEMA billing CASCADE");
  }

  @Test
  void aTargetThatIsAwayHoldsNobodyUpAndGetsAllOfItLater() throws Exception {
    service.sql(
        "CREATE TABLE told (id BIGINT PRIMARY KEY, at_gate VARCHAR); CREATE SINK telling TO hub_ops (table"
            + " 'told_them', create 'if missing') AS SELECT id, at_gate FROM told");
    hub.execute("ALTER TABLE public.told_them RENAME TO moved");
    service.sql("INSERT INTO told VALUES (1, 'G1')");
    expect("SELECT COUNT(*) FROM told", "[[1]]");
    for (int i = 0; i < 100 && !shown().contains("failing"); i++) {
      Thread.sleep(100);
    }
    assertThat(shown()).contains("failing").contains("told_them");
    service.sql("INSERT INTO told VALUES (2, 'G2')");
    hub.execute("ALTER TABLE public.moved RENAME TO told_them");
    awaitTheirs("SELECT id, at_gate FROM told_them ORDER BY id", List.of("1|G1", "2|G2"));
    service.sql("DROP SINK telling; DROP TABLE told");
    hub.execute("DROP TABLE told_them");
  }

  /** A table that was empty is only filled by COPY as long as nobody else puts rows there. */
  @Test
  void aRowThatSomebodyElsePutThereIsChanged() throws Exception {
    service.sql(
        "CREATE TABLE weighed (id BIGINT PRIMARY KEY, note VARCHAR, raw VARBINARY, ok BOOLEAN, kg DOUBLE);"
            + " INSERT INTO weighed VALUES (1, E'a\\\\b\\tc', X'00ff', TRUE, 1.5), (2, NULL, NULL, NULL, 2);"
            + " CREATE SINK weighing TO hub_ops (table 'weighed_them', create 'if missing') KEY (id) AS"
            + " SELECT * FROM weighed");
    String all = "SELECT id, note, raw, ok, kg FROM weighed_them ORDER BY id";
    awaitTheirs(all, List.of("1|a\\b\tc|\\x00ff|t|1.5", "2|null|null|null|2"));
    service.sql("INSERT INTO weighed (id, note) VALUES (3, '')");
    awaitTheirs(all + " OFFSET 2", List.of("3||null|null|null"));
    hub.execute("INSERT INTO weighed_them VALUES (4, 'theirs', NULL, NULL, NULL)");
    service.sql("INSERT INTO weighed (id, note) VALUES (4, 'ours'), (5, 'ours')");
    awaitTheirs(
        "SELECT id, note FROM weighed_them WHERE id > 3 ORDER BY id", List.of("4|ours", "5|ours"));
    service.sql("DELETE FROM weighed WHERE id = 5; INSERT INTO weighed (id, note) VALUES (6, 'n')");
    awaitTheirs(
        "SELECT id, note FROM weighed_them WHERE id > 3 ORDER BY id", List.of("4|ours", "6|n"));
    assertThat(theirs("SELECT sink FROM drip_delivered WHERE sink = 'weighing'")).hasSize(1);
    service.sql("DROP SINK weighing; DROP TABLE weighed");
    awaitTheirs("SELECT sink FROM drip_delivered WHERE sink = 'weighing'", List.of());
    hub.execute("DROP TABLE weighed_them");
  }

  @Test
  void aWebhookGetsSignedBatchesAgainUntilItTakesThemAndWhatItRefusesIsKept() throws Exception {
    try (WebhookStandIn carrier = new WebhookStandIn(0)) {
      service.call("PUT", "/api/v1/secrets/carrier_key", "{\"value\":\"very secret\"}");
      service.sql(
          "CREATE CONNECTION carrier TYPE webhook OPTIONS (url '%s', signing_key SECRET carrier_key, timeout '1 second');"
                  .formatted(carrier.url())
              + " CREATE STREAM sink_missed (parcel BIGINT, gate VARCHAR);"
              + " CREATE SINK posted TO carrier (path '/missed', batch_rows 2) AS SELECT parcel, gate FROM"
              + " sink_missed");
      service.sql("INSERT INTO sink_missed VALUES (1, 'G1'), (2, 'G2'), (3, 'G3')");
      awaitPosts(carrier, 2);
      assertThat(carrier.posts().get(0).path()).isEqualTo("/missed");
      assertThat(carrier.posts().get(0).body())
          .matches(
              "\\{\"sink\":\"posted\",\"epoch\":\\d+,\"rows\":\\[\\{\"parcel\":1,\"gate\":\"G1\"},\\{\"parcel\":2,\"gate\":\"G2\"}]}");
      assertSigned(carrier.posts().get(0));
      carrier.answer(500, 0);
      service.sql("INSERT INTO sink_missed VALUES (4, 'G4')");
      awaitPosts(carrier, 4);
      assertThat(shown()).contains("failing").contains("answers 500: told to answer so");
      carrier.answer(200, 3000); // too slow
      awaitPosts(carrier, 5);
      assertThat(carrier.posts().get(3).key()).isEqualTo(carrier.posts().get(2).key());
      service.kill();
      service.start();
      carrier.answer(422, 0);
      expect("SELECT COUNT(*) FROM drip.rejects WHERE object = 'posted'", "[[1]]");
      service.sql(
          "INSERT INTO sink_missed VALUES (5, 'G5')"); // refused too, and does not hold up others
      expect("SELECT COUNT(*) FROM drip.rejects WHERE object = 'posted'", "[[2]]");
      carrier.answer(200, 0);
      service.sql("INSERT INTO sink_missed VALUES (6, 'G6')");
      int before = carrier.posts().size();
      awaitPosts(carrier, before + 1);
      assertThat(service.drip("", "rejects", "posted").out()).contains("answers 422");
      expect("SELECT COUNT(*) FROM drip.rejects WHERE object = 'posted' AND id IS NULL", "[[0]]");
      assertThat(service.drip("", "rejects", "posted", "--replay").out()).contains("2 taken in");
      expect("SELECT COUNT(*) FROM drip.rejects WHERE object = 'posted'", "[[0]]");
      assertThat(
              carrier.posts().stream()
                  .filter(p -> p.answered() == 200)
                  .map(WebhookStandIn.Post::body))
          .anyMatch(b -> b.contains("\"parcel\":4"))
          .anyMatch(b -> b.contains("\"parcel\":5"))
          .anyMatch(b -> b.contains("\"parcel\":6"));
      service.sql("DROP SINK posted; DROP STREAM sink_missed; DROP CONNECTION carrier");
    }
  }

  private static void awaitPosts(WebhookStandIn carrier, int count) throws Exception {
    for (int i = 0; i < 200 && carrier.posts().size() < count; i++) {
      Thread.sleep(100);
    }
    assertThat(carrier.posts()).hasSizeGreaterThanOrEqualTo(count);
  }

  /** As who gets it would check it, by the standards' own words. */
  private static void assertSigned(WebhookStandIn.Post post) throws Exception {
    byte[] digest =
        MessageDigest.getInstance("SHA-256").digest(post.body().getBytes(StandardCharsets.UTF_8));
    assertThat(post.digest())
        .isEqualTo("sha-256=:" + Base64.getEncoder().encodeToString(digest) + ":");
    String params = post.signatureInput().substring("drip=".length());
    String base =
        "\"content-digest\": %s\n\"idempotency-key\": %s\n\"@signature-params\": %s"
            .formatted(post.digest(), post.key(), params);
    Mac mac = Mac.getInstance("HmacSHA256");
    mac.init(new SecretKeySpec("very secret".getBytes(StandardCharsets.UTF_8), "HmacSHA256"));
    byte[] signature = mac.doFinal(base.getBytes(StandardCharsets.UTF_8));
    assertThat(post.signature())
        .isEqualTo("drip=:" + Base64.getEncoder().encodeToString(signature) + ":");
  }

  @Test
  void rowsWhoseTimeIsOverAreToldFromThoseThatAreDeleted() throws Exception {
    hub.topic("sink.timed", 1);
    service.sql(
        "CREATE STREAM timed_in (gate VARCHAR, at TIMESTAMP NOT NULL, EVENT TIME at) FROM hub_log (topic"
            + " 'sink.timed') FORMAT json; CREATE MATERIALIZED VIEW kept_minutes OPTIONS (rows 'settled',"
            + " keep '1 minute') AS SELECT window_end, gate, COUNT(*) AS n FROM TABLE(TUMBLE(TABLE timed_in,"
            + " DESCRIPTOR(at), INTERVAL '1' MINUTE)) GROUP BY window_start, window_end, gate;"
            + " CREATE SINK minutes TO hub_log (topic 'sink.minutes', partitions 1) OPTIONS (rows 'append') AS"
            + " SELECT gate, n FROM kept_minutes;"
            + " CREATE SINK all_changes TO hub_log (topic 'sink.changes', partitions 1) OPTIONS (rows 'changes')"
            + " AS SELECT gate, n FROM kept_minutes");
    for (String at : List.of("06:00:10", "06:01:10", "06:05:00", "06:10:00")) {
      hub.sendAt(
          "sink.timed",
          0,
          System.currentTimeMillis(),
          "{\"gate\":\"G1\",\"at\":\"2026-03-02T%sZ\"}".formatted(at));
    }
    String changes = "";
    for (int i = 0; i < 200 && changes.split("expire", -1).length < 4; i++) {
      changes = hub.all("sink.changes").stream().map(ConsumerRecord::value).toList().toString();
      Thread.sleep(100);
    }
    assertThat(changes)
        .contains("\"operation\":\"insert\"")
        .contains("\"operation\":\"expire\"")
        .doesNotContain("\"operation\":\"delete\"");
    assertThat(hub.all("sink.minutes").stream().map(ConsumerRecord::value))
        .containsOnly("{\"gate\":\"G1\",\"n\":1}")
        .hasSize(3);
    service.sql(
        "DROP SINK minutes; DROP SINK all_changes; DROP MATERIALIZED VIEW kept_minutes; DROP STREAM timed_in");
  }

  @Test
  void aFolderGetsWholeFilesOnceThroughKills(@TempDir Path folder) throws Exception {
    service.sql(
        "CREATE CONNECTION sink_spool TYPE file OPTIONS (path '%s'); CREATE STREAM filed (id BIGINT, note VARCHAR);"
                .formatted(folder)
            + " CREATE SINK lines TO sink_spool FORMAT csv AS SELECT id, note FROM filed;"
            + " CREATE SINK documents TO sink_spool (file_rows 3) FORMAT json OPTIONS (upkeep 'on demand') AS SELECT"
            + " id, note FROM filed");
    for (int round = 0; round < 4; round++) {
      int first = round * 10;
      StringBuilder rows = new StringBuilder();
      for (int i = first; i < first + 10; i++) {
        rows.append(i == first ? "" : ", ").append("(%d, 'a, \"b\"')".formatted(i));
      }
      service.sql("INSERT INTO filed VALUES " + rows);
      Thread.sleep(300L * round);
      service.kill();
      service.start();
    }
    List<String> found = List.of();
    for (int i = 0; i < 200 && found.size() < 40; i++) {
      found = lines(folder, ".csv").stream().filter(l -> !l.equals("id,note")).toList();
      Thread.sleep(100);
    }
    List<String> expected = new ArrayList<>();
    for (int i = 0; i < 40; i++) {
      expected.add(i + ",\"a, \"\"b\"\"\"");
    }
    assertThat(found).containsExactlyInAnyOrderElementsOf(expected);
    assertThat(lines(folder, ".ndjson")).isEmpty();
    assertThat(service.drip("", "sql", "REFRESH SINK documents").out()).contains("40 put in");
    assertThat(lines(folder, ".ndjson"))
        .hasSize(40)
        .contains("{\"id\":7,\"note\":\"a, \\\"b\\\"\"}");
    service.sql(
        "ALTER SINK documents SET (upkeep 'continuous'); INSERT INTO filed VALUES (99, 'n')");
    for (int i = 0; i < 200 && lines(folder, ".ndjson").size() < 41; i++) {
      Thread.sleep(100);
    }
    assertThat(lines(folder, ".ndjson")).hasSize(41);
    service.kill();
    service.start();
    assertThat(String.valueOf(service.sql("SHOW CREATE SINK documents")))
        .contains("ALTER SINK documents SET (upkeep 'continuous')");
    assertThat(error("ALTER SINK documents SET (rows 'changes')"))
        .startsWith("option \"rows\" of a sink cannot be changed");
    service.sql(
        "DROP SINK lines; DROP SINK documents; DROP STREAM filed; DROP CONNECTION sink_spool");
  }

  private static List<String> lines(Path folder, String suffix) throws IOException {
    List<String> lines = new ArrayList<>();
    try (Stream<Path> files = Files.list(folder)) {
      for (Path file : files.sorted().toList()) {
        String name = file.getFileName().toString();
        if (name.endsWith(suffix) && !name.startsWith(".")) {
          lines.addAll(Files.readAllLines(file));
        }
      }
    }
    return lines;
  }

  private String shown() throws Exception {
    return service.drip("", "sql", "SHOW SINKS").out();
  }

  @Test
  void whatCannotBeDeliveredIsRefusedWithTheWayOut() throws Exception {
    service.sql("CREATE TABLE sink_one (id BIGINT PRIMARY KEY, gate VARCHAR)");
    String to = "CREATE SINK s TO hub_log (topic 'nowhere') ";
    assertThat(error(to + "OPTIONS (rows 'append') AS SELECT gate FROM sink_one"))
        .startsWith("the query revises rows that it has given, so they cannot only be appended @1:")
        .contains("rows 'settled'");
    assertThat(error(to + "KEY (gate) AS SELECT id, gate FROM sink_one"))
        .startsWith("nothing proves that only one row has this key")
        .contains("the rows are told apart by id");
    assertThat(error(to + "AS SELECT id, gate FROM sink_one"))
        .startsWith("option \"topic\": there is no topic \"nowhere\"")
        .contains("write partitions 6");
    assertThat(
            error("CREATE SINK s TO hub_ops (table 'public.no_such') AS SELECT id FROM sink_one"))
        .startsWith("option \"table\": there is no table \"public.no_such\"");
    assertThat(
            error("CREATE SINK s TO hub_log (topic 'x', colour 'red') AS SELECT id FROM sink_one"))
        .startsWith("a topic that is delivered to has no option \"colour\"");
    service.sql(
        "CREATE SINK s TO hub_log (topic 'sink.refused', partitions 1) AS SELECT id FROM sink_one");
    assertThat(error("DROP TABLE sink_one")).contains("sink s reads from it");
    assertThat(error("SELECT * FROM s")).startsWith("\"s\" is a sink and has no rows to read");
    service.sql("DROP SINK s; DROP TABLE sink_one");
  }

  @Test
  void itIsShownBeforeItIsMade() throws Exception {
    service.sql(
        "CREATE TABLE shown_first (id BIGINT PRIMARY KEY, gate VARCHAR);"
            + " INSERT INTO shown_first VALUES (1, 'G1')");
    assertThat(
            service
                .drip(
                    "",
                    "sql",
                    "EXPLAIN CREATE SINK s TO hub_log (topic 'x', partitions 1) AS SELECT id, gate FROM"
                        + " shown_first")
                .out())
        .contains("1 → {\"id\":1,\"gate\":\"G1\"}");
    assertThat(
            service
                .drip(
                    "",
                    "sql",
                    "EXPLAIN CREATE SINK s TO hub_ops (table 'a.b', create 'if missing') AS SELECT id,"
                        + " gate FROM shown_first")
                .out())
        .contains("CREATE TABLE IF NOT EXISTS a.b")
        .contains("COPY pg_temp.drip_stage FROM STDIN")
        .contains("1 | G1");
    service.sql("DROP TABLE shown_first");
  }
}
