package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.IOException;
import java.math.BigDecimal;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.Collections;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.TreeMap;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.apache.kafka.clients.producer.ProducerRecord;
import org.junit.jupiter.api.Test;

/**
 * kill -9 at random moments while a broker and a database change at random: in the end every view
 * equals what PostgreSQL computes from the sources, and no answer on the way showed half of a
 * transaction. Now and then the broker, the source database or the database of records goes down
 * too. {@code -Ddrip.kills=200} makes it long; {@code -Ddrip.seed=N} repeats one run.
 */
class SourceCrashTest {
  private static final int KILLS = Integer.getInteger("drip.kills", 3);
  private static final long SEED = Long.getLong("drip.seed", 20260302);
  private static final int CHECK_EVERY = 5;
  private static final int TOTAL = 100_000;

  private static final Map<String, String> VIEWS =
      Map.of(
          "per_gate",
          "SELECT gate, COUNT(*) AS n, SUM(grams) AS grams, MAX(grams) AS most FROM scan GROUP BY gate",
          "heavy",
          "SELECT parcel, gate, grams FROM scan WHERE grams > 2900",
          "per_service",
          "SELECT service, COUNT(*) AS n, SUM(grams) AS grams, MIN(area) AS area,"
              + " COUNT(DISTINCT area) AS areas FROM parcel GROUP BY service",
          "notes",
          "SELECT service, MAX(CHAR_LENGTH(note)) AS longest FROM parcel GROUP BY service",
          "boxes_in",
          "SELECT SUM(boxes) AS boxes FROM depot",
          "boxes_out",
          "SELECT SUM(boxes) AS boxes FROM van");

  private volatile boolean working = true;
  private volatile Exception failure;

  @Test
  void everyViewEqualsItsSourcesAfterKills() throws Exception {
    Random random = new Random(SEED);
    try (Hub hub = new Hub();
        LiveService service = new LiveService("--drip.checkpoint-millis=700")) {
      prepare(hub, service);
      List<Thread> workers = start(hub, random);
      for (int kill = 1; kill <= KILLS; kill++) {
        Thread.sleep(200 + random.nextInt(2200));
        wholeness(service, kill);
        service.kill();
        outside(hub, service, kill);
        service.start();
        if (kill % CHECK_EVERY == 0 || kill == KILLS) {
          pause(workers);
          check(hub, service, kill);
          System.out.println(kill + " kills: every view equals its sources");
          workers = start(hub, random);
        }
      }
      pause(workers);
      assertThat(service.log()).doesNotContain("has stopped").doesNotContain("is made again");
    }
  }

  private static void prepare(Hub hub, LiveService service) throws Exception {
    hub.topic("scan", 3);
    hub.execute(
        "CREATE TABLE parcel (id bigint PRIMARY KEY, service text, area text, grams integer, note text)",
        "ALTER TABLE parcel ALTER COLUMN note SET STORAGE EXTERNAL",
        "CREATE TABLE depot (id integer PRIMARY KEY, boxes bigint NOT NULL)",
        "CREATE TABLE van (id integer PRIMARY KEY, boxes bigint NOT NULL)",
        "INSERT INTO depot SELECT g, " + TOTAL + " / 10 FROM generate_series(0, 9) g",
        "INSERT INTO van SELECT g, 0 FROM generate_series(0, 9) g",
        "INSERT INTO parcel SELECT g, 'bulky', 'QH-N1', g, repeat('x', 3000) FROM generate_series(1, 500) g");
    hub.connect(service);
    service.sql(
        """
        CREATE STREAM scan (parcel BIGINT NOT NULL, gate VARCHAR, at TIMESTAMP, grams INTEGER, EVENT TIME at)
          FROM hub_log (topic 'scan') FORMAT json;
        CREATE TABLE parcel FROM hub_ops (table 'public.parcel');
        CREATE TABLE depot FROM hub_ops (table 'public.depot');
        CREATE TABLE van FROM hub_ops (table 'public.van');
        """);
    for (Map.Entry<String, String> view : VIEWS.entrySet()) {
      service.sql("CREATE MATERIALIZED VIEW " + view.getKey() + " AS " + view.getValue());
    }
    service.sql(
        """
        CREATE SINK out_gate TO hub_log (topic 'out.gate', partitions 2) KEY (gate)
          AS SELECT gate, n, grams, most FROM per_gate;
        CREATE SINK out_heavy TO hub_log (topic 'out.heavy', partitions 3)
          OPTIONS (start 'with snapshot') AS SELECT parcel, gate, grams FROM heavy;
        CREATE SINK out_service TO hub_ops (table 'delivered.service', create 'if missing') KEY (service)
          AS SELECT service, n, grams, area, areas FROM per_service;
        """);
  }

  private List<Thread> start(Hub hub, Random random) {
    working = true;
    long seed = random.nextLong();
    List<Thread> workers =
        List.of(
            new Thread(() -> guarded(() -> produce(hub, new Random(seed)))),
            new Thread(() -> guarded(() -> change(hub, new Random(seed + 1)))),
            new Thread(() -> guarded(() -> move(hub, new Random(seed + 2)))));
    workers.forEach(Thread::start);
    return workers;
  }

  private interface Work {
    void run() throws Exception;
  }

  private void guarded(Work work) {
    while (working) {
      try {
        work.run();
      } catch (SQLException e) {
        sleep(200); // the database is down for a moment
      } catch (Exception e) {
        failure = e;
        return;
      }
    }
  }

  private static void sleep(long millis) {
    try {
      Thread.sleep(millis);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }

  private void pause(List<Thread> workers) throws Exception {
    working = false;
    for (Thread worker : workers) {
      worker.join();
    }
    if (failure != null) {
      throw failure;
    }
  }

  /** Random scans: some twice, some broken, some without a gate. */
  private void produce(Hub hub, Random random) {
    while (working) {
      for (int i = 0; i < 30; i++) {
        String value =
            "{\"parcel\":%d,\"gate\":%s,\"at\":\"2026-03-02T06:%02d:%02dZ\",\"grams\":%d}"
                .formatted(
                    random.nextInt(3000),
                    random.nextInt(20) == 0 ? "null" : "\"G" + random.nextInt(24) + "\"",
                    random.nextInt(60),
                    random.nextInt(60),
                    random.nextInt(3000));
        if (random.nextInt(40) == 0) {
          value = value.substring(0, 1 + random.nextInt(value.length() - 2));
        }
        for (int n = random.nextInt(25) == 0 ? 2 : 1; n > 0; n--) {
          var ignored =
              hub.producer().send(new ProducerRecord<>("scan", random.nextInt(3), null, value));
        }
      }
      hub.producer().flush();
      sleep(20 + random.nextInt(60));
    }
  }

  /** Random inserts, updates (of keys too), deletes, and now and then all rows go. */
  private void change(Hub hub, Random random) throws SQLException {
    try (Connection c = hub.connect()) {
      c.setAutoCommit(false);
      while (working) {
        for (int i = 1 + random.nextInt(6); i > 0; i--) {
          step(c, random);
        }
        if (random.nextInt(8) == 0) {
          c.rollback();
        } else {
          c.commit();
        }
        sleep(random.nextInt(40));
      }
    }
  }

  private static void step(Connection c, Random random) throws SQLException {
    long id = random.nextInt(1500);
    switch (random.nextInt(8)) {
      case 0, 1, 2 ->
          run(
              c,
              "INSERT INTO parcel VALUES (?, ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET grams = excluded.grams",
              id,
              List.of("next_day", "standard", "bulky").get(random.nextInt(3)),
              random.nextInt(9) == 0 ? null : "QH-" + "NESW".charAt(random.nextInt(4)),
              random.nextInt(9) == 0 ? null : random.nextInt(5000),
              "n"
                  .repeat(
                      random.nextInt(10) == 0 ? 2500 + random.nextInt(9000) : random.nextInt(50)));
      case 3, 4 ->
          run(
              c,
              "UPDATE parcel SET grams = grams + 1, service = 'standard' WHERE id % 97 = ?",
              id % 97);
      case 5 ->
          run(
              c,
              "UPDATE parcel SET id = id + 5000 WHERE id = ? AND NOT EXISTS"
                  + " (SELECT 1 FROM parcel q WHERE q.id = parcel.id + 5000)",
              id);
      case 6 -> run(c, "DELETE FROM parcel WHERE id % 89 = ?", id % 89);
      default -> {
        if (random.nextInt(60) == 0) {
          run(c, "TRUNCATE parcel");
        } else {
          run(c, "DELETE FROM parcel WHERE id = ?", id);
        }
      }
    }
  }

  /** Moves boxes between two tables: their sum never changes. */
  private void move(Hub hub, Random random) throws SQLException {
    try (Connection c = hub.connect()) {
      c.setAutoCommit(false);
      while (working) {
        int boxes = random.nextInt(100) - 50;
        run(c, "UPDATE depot SET boxes = boxes - ? WHERE id = ?", boxes, random.nextInt(10));
        run(c, "UPDATE van SET boxes = boxes + ? WHERE id = ?", boxes, random.nextInt(10));
        c.commit();
        sleep(random.nextInt(10));
      }
    }
  }

  private static void run(Connection c, String sql, Object... values) throws SQLException {
    try (PreparedStatement s = c.prepareStatement(sql)) {
      for (int i = 0; i < values.length; i++) {
        s.setObject(i + 1, values[i]);
      }
      s.executeUpdate();
    }
  }

  /** What an epoch shows of both tables is never half of a move. */
  private static void wholeness(LiveService service, int kill) throws IOException {
    for (int i = 0; i < 10; i++) {
      List<List<Object>> rows =
          service.sql("SELECT boxes FROM boxes_in UNION ALL SELECT boxes FROM boxes_out");
      BigDecimal sum = BigDecimal.ZERO;
      for (List<Object> row : rows) {
        sum = sum.add(new BigDecimal(String.valueOf(row.get(0))));
      }
      assertThat(sum.longValueExact()).as("seed %d, kill %d", SEED, kill).isEqualTo(TOTAL);
    }
  }

  /** Other things that go down while the service is. */
  private static void outside(Hub hub, LiveService service, int kill) throws Exception {
    if (kill % 7 == 3) {
      hub.restartBroker();
    } else if (kill % 7 == 5) {
      hub.operations().crash();
      hub.operations().start();
    } else if (kill % 7 == 6) {
      service.cluster().crash();
      service.cluster().start();
    }
  }

  private void check(Hub hub, LiveService service, int kill) throws Exception {
    try (Connection c = hub.connect();
        Statement s = c.createStatement()) {
      oracle(hub, c, s);
      for (Map.Entry<String, String> view : VIEWS.entrySet()) {
        List<String> expected = theirs(s, view.getValue().replace("FROM scan", "FROM oracle_scan"));
        List<String> found = List.of();
        long end = System.nanoTime() + 60_000_000_000L;
        while (!found.equals(expected) && System.nanoTime() < end) {
          found = ours(service, "SELECT * FROM " + view.getKey());
          if (!found.equals(expected)) {
            Thread.sleep(100);
          }
        }
        assertThat(found)
            .as("seed %d, after kill %d: %s", SEED, kill, view.getKey())
            .isEqualTo(expected);
      }
      String gates = VIEWS.get("per_gate").replace("FROM scan", "FROM oracle_scan");
      awaitDelivered(kill, "out.gate", () -> newest(hub, "out.gate"), theirs(s, gates));
      String heavy = VIEWS.get("heavy").replace("FROM scan", "FROM oracle_scan");
      awaitDelivered(kill, "out.heavy", () -> each(hub, "out.heavy"), theirs(s, heavy));
      String delivered = "SELECT service, n, grams, area, areas FROM delivered.service";
      List<String> services = theirs(s, VIEWS.get("per_service"));
      awaitDelivered(kill, "delivered.service", () -> theirs(s, delivered), services);
      s.execute("DROP TABLE oracle_scan");
    }
  }

  private interface Delivered {
    List<String> rows() throws Exception;
  }

  /** Fails unless a target has what the sources say within some seconds, each row once. */
  private static void awaitDelivered(
      int kill, String target, Delivered delivered, List<String> expected) throws Exception {
    List<String> found = delivered.rows();
    long end = System.nanoTime() + 60_000_000_000L;
    while (!found.equals(expected) && System.nanoTime() < end) {
      Thread.sleep(200);
      found = delivered.rows();
    }
    assertThat(found).as("seed %d, after kill %d: %s", SEED, kill, target).isEqualTo(expected);
  }

  /** What somebody knows who has read a topic of keys. */
  private static List<String> newest(Hub hub, String topic) {
    Map<String, String> rows = new TreeMap<>();
    for (ConsumerRecord<String, String> message : hub.all(topic)) {
      if (message.value() == null) {
        rows.remove(message.key());
      } else {
        rows.put(message.key(), row(message.value()));
      }
    }
    return rows.values().stream().sorted().toList();
  }

  /** Every message of a topic. */
  private static List<String> each(Hub hub, String topic) {
    return hub.all(topic).stream().map(m -> row(m.value())).sorted().toList();
  }

  private static String row(String message) {
    return String.valueOf(new ArrayList<>(Json.read(message).values()));
  }

  /** Every readable message of the topic, in a table of PostgreSQL. */
  private static void oracle(Hub hub, Connection c, Statement s) throws SQLException {
    s.execute("DROP TABLE IF EXISTS oracle_scan");
    s.execute("CREATE UNLOGGED TABLE oracle_scan (parcel bigint, gate text, grams integer)");
    try (PreparedStatement insert =
        c.prepareStatement("INSERT INTO oracle_scan VALUES (?, ?, ?)")) {
      for (ConsumerRecord<String, String> record : hub.all("scan")) {
        if (record.value().endsWith("}")) {
          Map<String, Object> value = Json.read(record.value());
          insert.setObject(1, ((Number) value.get("parcel")).longValue());
          insert.setObject(2, value.get("gate"));
          insert.setObject(3, value.get("grams"));
          insert.addBatch();
        }
      }
      insert.executeBatch();
    }
  }

  private static List<String> theirs(Statement s, String query) throws SQLException {
    List<String> rows = new ArrayList<>();
    try (ResultSet r = s.executeQuery(query)) {
      while (r.next()) {
        List<String> row = new ArrayList<>();
        for (int i = 1; i <= r.getMetaData().getColumnCount(); i++) {
          row.add(r.getString(i));
        }
        rows.add(String.valueOf(row));
      }
    }
    Collections.sort(rows);
    return rows;
  }

  private static List<String> ours(LiveService service, String query) throws IOException {
    List<String> rows = new ArrayList<>();
    for (List<Object> row : service.sql(query)) {
      rows.add(String.valueOf(row));
    }
    Collections.sort(rows);
    return rows;
  }
}
