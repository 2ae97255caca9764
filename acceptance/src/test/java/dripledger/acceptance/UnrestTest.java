package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.IOException;
import java.math.BigDecimal;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.Collections;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.Set;
import java.util.TreeSet;
import org.junit.jupiter.api.Test;

/**
 * Random statements, kill -9 of the service, and crashes and stops of its database, for a while:
 * every statement is sent until it is known to be made, and made in PostgreSQL too; then and again
 * every view must be there, running, and, refreshed if it is one of those, equal to what PostgreSQL
 * answers. {@code -Ddrip.unrest.seconds=1800} makes it long; {@code -Ddrip.seed=N} chooses the run.
 */
class UnrestTest {
  private static final int SECONDS = Integer.getInteger("drip.unrest.seconds", 15);
  private static final long SEED = Long.getLong("drip.seed", 20261126);
  private static final int CHECK_EVERY = 60;
  private static final int GIVEN_UP_AFTER = 600;

  private static final List<String> QUERIES =
      List.of(
          "SELECT gate, COUNT(*) AS n, SUM(grams) AS grams, MAX(grams) AS most FROM scan GROUP BY gate",
          "SELECT parcel, gate, grams FROM scan WHERE grams > 2900",
          "SELECT area, COUNT(*) AS n, SUM(grams) AS grams, MIN(note) AS note FROM parcel GROUP BY area",
          "SELECT area, COUNT(DISTINCT service) AS services, AVG(grams) AS mean FROM parcel GROUP BY area",
          "SELECT service, area FROM parcel WHERE grams IS NOT NULL",
          "SELECT DISTINCT service FROM parcel",
          "SELECT COUNT(*) AS n, SUM(grams) AS grams, MIN(note) AS first, MAX(note) AS last FROM parcel",
          "SELECT area, COUNT(*) AS n FROM parcel GROUP BY area HAVING COUNT(*) > 3",
          "SELECT n, COUNT(*) AS gates FROM (SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate) AS t"
              + " GROUP BY n",
          "SELECT area, service, grams FROM (SELECT area, service, grams, RANK() OVER (PARTITION BY area ORDER"
              + " BY grams DESC NULLS LAST, service) AS n FROM parcel) AS t WHERE n <= 2",
          "SELECT area, STRING_AGG(service, ',' ORDER BY service) AS services, MODE() WITHIN GROUP (ORDER BY"
              + " grams) AS usual FROM parcel GROUP BY area",
          "SELECT gate, grams, SUM(grams) OVER (PARTITION BY gate ORDER BY grams) AS running FROM scan",
          "SELECT service, grams FROM parcel ORDER BY grams DESC NULLS LAST, service LIMIT 5",
          "SELECT gate AS place, grams FROM scan UNION ALL SELECT area AS place, grams FROM parcel");

  private final Random random = new Random(SEED);
  private final Map<String, String> views = new LinkedHashMap<>();
  private final List<String> history = new ArrayList<>(); // since the start
  private LiveService service;
  private Connection oracle;
  private int statements;
  private int troubles;
  private int checks;

  @Test
  void everyViewEqualsWhatTheDatabaseAnswers() throws Exception {
    try (LiveService live = new LiveService("--drip.checkpoint-millis=500")) {
      service = live;
      connect();
      String tables =
          "CREATE TABLE parcel (id INTEGER PRIMARY KEY, service VARCHAR, area VARCHAR, grams INTEGER,"
              + " note VARCHAR)";
      make(tables + "; CREATE STREAM scan (parcel INTEGER, gate VARCHAR, grams INTEGER)");
      inOracle("CREATE SCHEMA unrest");
      inOracle(tables.replace("TABLE ", "TABLE unrest."));
      inOracle("CREATE TABLE unrest.scan (parcel INTEGER, gate VARCHAR, grams INTEGER)");
      long end = System.nanoTime() + SECONDS * 1_000_000_000L;
      while (System.nanoTime() < end || troubles == 0) { // on a slow machine too
        step();
      }
      check();
      System.out.printf(
          "seed %d: %d statements, %d troubles, every view equal %d times%n",
          SEED, statements, troubles, checks);
      assertThat(troubles).isGreaterThan(0);
    }
  }

  private void step() throws Exception {
    statements++;
    int what = random.nextInt(1000);
    if (what < 10) {
      trouble();
    } else if (what < 40) {
      define();
    } else {
      change();
    }
    if (statements % CHECK_EVERY == 0) {
      check();
    }
  }

  // ---- what happens

  private void trouble() throws Exception {
    troubles++;
    int kind = random.nextInt(4);
    history.add(statements + ": trouble " + kind);
    switch (kind) {
      case 0 -> {
        service.cluster().crash();
        service.cluster().start();
      }
      case 1 -> {
        service.cluster().stop();
        service.cluster().start();
      }
      case 2 -> {
        service.kill();
        service.cluster().crash();
        service.cluster().start();
        service.start();
      }
      default -> {
        service.kill();
        service.start();
      }
    }
    connect();
  }

  private void define() throws Exception {
    int place = random.nextInt(QUERIES.size());
    String name = "v" + place;
    if (views.containsKey(name) && random.nextInt(3) == 0) {
      history.add(statements + ": drop " + name);
      make("DROP MATERIALIZED VIEW IF EXISTS " + name);
      views.remove(name);
    } else {
      history.add(statements + ": create " + name);
      String replace = random.nextBoolean() ? "OR REPLACE " : "";
      String query = QUERIES.get(place);
      String unless = replace.isEmpty() ? "IF NOT EXISTS " : "";
      String options = random.nextInt(3) == 0 ? " OPTIONS (upkeep 'on demand')" : "";
      make("CREATE " + replace + "MATERIALIZED VIEW " + unless + name + options + " AS " + query);
      views.put(name, query);
    }
  }

  private void change() throws Exception {
    String sql =
        switch (random.nextInt(8)) {
          case 0 -> "UPDATE parcel SET grams = grams + 7, area = " + area() + where();
          case 1 -> "UPDATE parcel SET note = " + note() + ", grams = " + grams() + where();
          case 2 -> "DELETE FROM parcel" + where();
          case 3, 4 -> events();
          default -> rows();
        };
    make(sql);
    inOracle(
        sql.replace("parcel SET", "unrest.parcel SET")
            .replace("FROM p", "FROM unrest.p")
            .replace("INTO ", "INTO unrest."));
  }

  private String where() {
    int from = random.nextInt(300);
    return " WHERE id BETWEEN " + from + " AND " + (from + random.nextInt(20));
  }

  private String rows() throws SQLException {
    Set<Integer> ids = new TreeSet<>();
    for (int i = 0; i <= random.nextInt(20); i++) {
      ids.add(random.nextInt(300));
    }
    try (Statement s = oracle.createStatement();
        ResultSet there = s.executeQuery("SELECT id FROM unrest.parcel")) {
      while (there.next()) {
        ids.remove(there.getInt(1));
      }
    }
    if (ids.isEmpty()) {
      return events();
    }
    List<String> rows = new ArrayList<>();
    for (int id : ids) {
      String service = random.nextInt(9) == 0 ? "NULL" : "'s" + random.nextInt(3) + "'";
      rows.add("(" + id + ", " + service + ", " + area() + ", " + grams() + ", " + note() + ")");
    }
    return "INSERT INTO parcel VALUES " + String.join(", ", rows);
  }

  private String events() {
    List<String> rows = new ArrayList<>();
    for (int i = 0; i <= random.nextInt(30); i++) {
      rows.add("(" + random.nextInt(500) + ", 'G" + random.nextInt(12) + "', " + grams() + ")");
    }
    return "INSERT INTO scan VALUES " + String.join(", ", rows);
  }

  private String area() {
    return random.nextInt(9) == 0 ? "NULL" : "'QH-N" + random.nextInt(6) + "'";
  }

  private String grams() {
    return random.nextInt(9) == 0 ? "NULL" : "" + random.nextInt(3000);
  }

  private String note() {
    return "'" + "long ".repeat(random.nextInt(12)) + random.nextInt(40) + "'";
  }

  /** Sends a statement until it is known to be made; one that changes data has an id for that. */
  private void make(String sql) throws Exception {
    String body = Json.write(Map.of("sql", sql, "id", "unrest-" + SEED + "-" + statements));
    // Now and then the service ends in the middle of it.
    if (random.nextInt(150) == 0) {
      troubles++;
      history.add(statements + ": killed in it");
      int millis = random.nextInt(12);
      Thread killer = new Thread(() -> killAfter(millis));
      killer.start();
      send(body);
      killer.join();
      service.start();
    }
    LiveService.Answer answer = send(body);
    for (int i = 0; answer.status() != 200; i++) {
      boolean mayHelp = answer.status() == 503 || answer.status() == 0 || answer.status() == 504;
      assertThat(mayHelp && i < GIVEN_UP_AFTER).as("seed %d, %s: %s", SEED, sql, answer).isTrue();
      Thread.sleep(50);
      answer = send(body);
    }
  }

  private LiveService.Answer send(String body) {
    try {
      return service.call("POST", "/api/v1/sql", body);
    } catch (IOException e) {
      return new LiveService.Answer(0, e.toString());
    }
  }

  private void killAfter(int millis) {
    try {
      Thread.sleep(millis);
      service.kill();
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }

  // ---- what PostgreSQL says

  private void connect() throws Exception {
    oracle = DriverManager.getConnection(service.cluster().jdbcUrl("drip"), "drip", "loopback");
  }

  private void inOracle(String sql) throws SQLException {
    try (Statement s = oracle.createStatement()) {
      s.execute(sql);
    }
  }

  private void check() throws Exception {
    checks++;
    for (Map.Entry<String, String> view : views.entrySet()) {
      make("REFRESH MATERIALIZED VIEW " + view.getKey()); // nothing, of those that need none
      String query =
          view.getValue()
              .replace("FROM scan", "FROM unrest.scan")
              .replace("FROM parcel", "FROM unrest.parcel");
      List<String> expected = new ArrayList<>();
      try (PreparedStatement s = oracle.prepareStatement(query);
          ResultSet rows = s.executeQuery()) {
        int columns = rows.getMetaData().getColumnCount();
        while (rows.next()) {
          List<String> row = new ArrayList<>();
          for (int c = 1; c <= columns; c++) {
            row.add(plain(rows.getObject(c)));
          }
          expected.add(row.toString());
        }
      }
      List<String> found = new ArrayList<>();
      for (List<Object> row : service.sql("SELECT * FROM " + view.getKey())) {
        found.add(row.stream().map(UnrestTest::plain).toList().toString());
      }
      Collections.sort(expected);
      Collections.sort(found);
      assertThat(found)
          .as("seed %d, statement %d, %s, %s", SEED, statements, view, history)
          .isEqualTo(expected);
    }
    assertThat(service.log()).doesNotContain("has stopped").doesNotContain("is made again");
  }

  /** A value without what the two write differently: digits after the point. */
  private static String plain(Object value) {
    if (value == null) {
      return "null";
    }
    try {
      BigDecimal number = new BigDecimal(value.toString());
      return number.setScale(3, java.math.RoundingMode.HALF_UP).toPlainString();
    } catch (NumberFormatException e) {
      return value.toString();
    }
  }
}
