package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.time.LocalDateTime;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.concurrent.atomic.AtomicBoolean;
import org.junit.jupiter.api.Test;

/** What a view would keep, before it is made. */
class ForecastTest {
  @Test
  void explainsAViewThatIsNotMade() {
    try (TestEngine db = new TestEngine()) {
      db.run("CREATE STREAM scan (gate VARCHAR, at TIMESTAMP, EVENT TIME at)");
      assertThat(
              db.rows(
                      "EXPLAIN CREATE MATERIALIZED VIEW v OPTIONS (rows 'settled') AS SELECT gate, window_end,"
                          + " COUNT(*) AS n FROM TABLE(TUMBLE(TABLE scan, DESCRIPTOR(at), INTERVAL '1' MINUTE))"
                          + " GROUP BY gate, window_end")
                  .toString())
          .contains("put out when they end")
          .contains("groups until the watermark has reached window_end");
      assertThat(db.rows("SHOW VIEWS")).isEmpty();
      assertThat(db.error("EXPLAIN CREATE TABLE t (id INTEGER PRIMARY KEY)"))
          .hasMessageContaining("EXPLAIN of this statement");
    }
  }

  @Test
  void whatCannotBeForetoldSaysWhyAndHarmsNobody() {
    try (TestEngine db = new TestEngine()) {
      db.run("CREATE STREAM scan (n BIGINT, at TIMESTAMP NOT NULL, EVENT TIME at)");
      db.run("CREATE STREAM note (body VARCHAR)");
      db.run("CREATE TABLE gate (gate VARCHAR PRIMARY KEY)");
      String create = "EXPLAIN CREATE MATERIALIZED VIEW v AS ";
      assertThat(last(db, create + "SELECT body FROM note"))
          .contains("stream note has no event time");
      assertThat(last(db, create + "SELECT gate FROM gate")).contains("it reads no stream");
      assertThat(last(db, create + "SELECT n FROM scan")).contains("there are too few events");
      LocalDateTime start = LocalDateTime.parse("2026-03-02T06:00:00");
      Object[][] events = new Object[4000][];
      for (int i = 0; i < events.length; i++) {
        events[i] = new Object[] {(long) i, start.plusSeconds(i)};
      }
      db.push("scan", events);
      assertThat(last(db, create + "SELECT a.n AS a, b.n AS b FROM scan a CROSS JOIN scan b"))
          .contains("it had become too much for a trial");
    }
  }

  @Test
  void tablesMayChangeWhileItIsForetold() throws InterruptedException {
    try (TestEngine db = new TestEngine()) {
      db.run(
          "CREATE STREAM scan (n BIGINT, gate INTEGER, at TIMESTAMP NOT NULL, EVENT TIME at);"
              + " CREATE TABLE gate (gate INTEGER PRIMARY KEY, hall INTEGER);"
              + " INSERT INTO gate SELECT CAST(g AS INTEGER), 0 FROM generate_series(0, 9) AS s (g)");
      LocalDateTime start = LocalDateTime.parse("2026-03-02T06:00:00");
      Object[][] events = new Object[6000][];
      for (int i = 0; i < events.length; i++) {
        events[i] = new Object[] {(long) i, i % 10, start.plusSeconds(i)};
      }
      db.push("scan", events);
      AtomicBoolean ends = new AtomicBoolean();
      Thread changes =
          new Thread(
              () -> {
                while (!ends.get()) {
                  db.run("UPDATE gate SET hall = hall + 1");
                }
              });
      changes.start();
      try {
        for (int i = 0; i < 5; i++) {
          String join = "SELECT s.n, g.hall FROM scan AS s JOIN gate AS g ON g.gate = s.gate";
          assertThat(last(db, "EXPLAIN CREATE MATERIALIZED VIEW v AS " + join))
              .contains("as seen of 6000 events");
        }
      } finally {
        ends.set(true);
        changes.join();
      }
    }
  }

  /** A stream that was not read for a while: what is foretold does not take that for an end. */
  @Test
  void aGapIsNoEndOfGrowth() {
    try (TestEngine db = new TestEngine()) {
      db.run("CREATE STREAM scan (n BIGINT, at TIMESTAMP NOT NULL, EVENT TIME at)");
      LocalDateTime start = LocalDateTime.parse("2026-03-02T06:00:00");
      Object[][] events = new Object[6000][];
      for (int i = 0; i < events.length; i++) {
        int gap = i < 4500 ? 0 : 3000;
        events[i] = new Object[] {(long) i, start.plusSeconds(i + gap)};
      }
      db.push("scan", events);
      String told =
          db.rows(
                  "EXPLAIN CREATE MATERIALIZED VIEW v AS SELECT n, COUNT(*) AS c FROM scan GROUP BY n")
              .get(0);
      assertThat((double) numbers(told, 1)).isBetween(86_400 / 1.1, 86_400 * 1.1);
    }
  }

  private static String last(TestEngine db, String sql) {
    List<String> rows = db.rows(sql);
    return rows.get(rows.size() - 1);
  }

  private static final Map<String, String> VIEWS = new LinkedHashMap<>();

  static {
    VIEWS.put("by_gate", "SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
    VIEWS.put("by_parcel", "SELECT parcel, COUNT(*) AS n FROM scan GROUP BY parcel");
    VIEWS.put("by_number", "SELECT n, MAX(gate) AS gate FROM scan GROUP BY n");
    VIEWS.put(
        "windows",
        "SELECT gate, window_end, COUNT(*) AS n FROM TABLE(HOP(TABLE scan, DESCRIPTOR(at), INTERVAL '1' MINUTE,"
            + " INTERVAL '10' MINUTE)) GROUP BY gate, window_end");
    VIEWS.put(
        "spells",
        "SELECT gate, window_start, window_end, COUNT(*) AS n FROM TABLE(SESSION(TABLE scan PARTITION BY gate,"
            + " DESCRIPTOR(at), INTERVAL '1' MINUTE)) GROUP BY gate, window_start, window_end");
    VIEWS.put(
        "again",
        "SELECT * FROM scan MATCH_RECOGNIZE (PARTITION BY gate ORDER BY at MEASURES FIRST(n) AS first_n,"
            + " LAST(n) AS last_n PATTERN (a b c d) WITHIN INTERVAL '5' MINUTE DEFINE b AS b.n % 3 = 0, d AS"
            + " d.n % 2 = 0) AS m");
    VIEWS.put(
        "met",
        "SELECT s.n, t.n AS later FROM scan s JOIN scan t ON t.parcel = s.parcel AND t.at BETWEEN s.at AND"
            + " s.at + INTERVAL '20' MINUTE");
    VIEWS.put(
        "nearest",
        "SELECT s.n, t.n AS before FROM scan s LEFT JOIN LATERAL (SELECT scan.n FROM scan WHERE scan.gate ="
            + " s.gate AND scan.at < s.at ORDER BY scan.at DESC, scan.n LIMIT 1) AS t ON TRUE");
  }

  /** Twenty minutes are seen; then a day goes by. */
  @Test
  void whatIsForetoldComesTrueWithinHalfAsMuchAgain() {
    try (TestEngine db = new TestEngine()) {
      db.run(
          "CREATE STREAM scan (n BIGINT, gate VARCHAR, parcel BIGINT, at TIMESTAMP NOT NULL, EVENT TIME at"
              + " LATENESS INTERVAL '10' SECOND)");
      push(db, 0, 40 * 60);
      Map<String, List<String>> told = new LinkedHashMap<>();
      for (String view : VIEWS.keySet()) {
        String options = view.equals("windows") ? " OPTIONS (rows 'settled')" : "";
        String create = "MATERIALIZED VIEW " + view + options + " AS " + VIEWS.get(view);
        told.put(view, db.rows("EXPLAIN CREATE " + create));
        db.run("CREATE " + create);
      }
      push(db, 40 * 60, 60 * 60);
      compare(db, told, 0);
      push(db, 60 * 60, 24 * 60 * 60);
      compare(db, told, 1);
      assertThat(told.get("by_number").toString()).as("without an end").contains("null, null]");
    }
  }

  private static void push(TestEngine db, int from, int to) {
    Random random = new Random(from);
    LocalDateTime start = LocalDateTime.parse("2026-03-02T06:00:00");
    for (int at = from; at < to; at += 600) {
      Object[][] events = new Object[600][];
      for (int i = 0; i < 600; i++) {
        events[i] =
            new Object[] {
              (long) at + i,
              "G" + random.nextInt(40),
              (long) random.nextInt(1500),
              start.plusSeconds(at + i)
            };
      }
      db.push("scan", events);
    }
  }

  /**
   * @param when 0 for the hour, 1 for the day
   */
  private static void compare(TestEngine db, Map<String, List<String>> told, int when) {
    for (Map.Entry<String, List<String>> view : told.entrySet()) {
      List<String> kept = db.rows("EXPLAIN ANALYZE " + view.getKey());
      for (int line = 0; line < kept.size(); line++) {
        long actual = number(kept.get(line), 3);
        Long said = numbers(view.getValue().get(line), when);
        if (actual > 100) {
          assertThat((double) said / actual)
              .as(
                  "%s, line %d, %d: %s %s",
                  view.getKey(), line, when, kept.get(line), view.getValue())
              .isBetween(1 / 1.5, 1.5);
        }
      }
      Long rows = numbers(view.getValue().get(kept.size()), when);
      long actual = (Long) db.value("SELECT COUNT(*) FROM " + view.getKey());
      assertThat((double) rows / actual).as("rows of %s %s", view, actual).isBetween(1 / 1.5, 1.5);
    }
  }

  /** A column of a row that is written as text, counted from its end. */
  private static long number(String row, int fromEnd) {
    String[] all = row.substring(1, row.length() - 1).split(", ");
    return Long.parseLong(all[all.length - fromEnd]);
  }

  private static Long numbers(String row, int when) {
    String[] all = row.substring(1, row.length() - 1).split(", ");
    String text = all[all.length - 6 + 2 * when];
    return text.equals("null") ? 0L : Long.valueOf(text);
  }
}
