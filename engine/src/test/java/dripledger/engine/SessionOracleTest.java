package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.LocalDateTime;
import java.time.format.DateTimeFormatter;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/**
 * Sessions against PostgreSQL, which finds them as islands between gaps: at every epoch, while
 * events come that lengthen sessions at either end, bridge two or come late, while rows of a table
 * change and part them again, and after crashes.
 */
class SessionOracleTest extends BesidePostgres {
  private static final int PARTITIONS = 3;

  /** What came in time, its sessions, and the watermark; the same for rows that change. */
  private static final String ORACLE =
      """
      CREATE TABLE handoff_all (n bigserial, part int, van text, parcel bigint, at timestamp, grams int);
      CREATE TABLE stay (id int PRIMARY KEY, van text, at timestamp);
      CREATE VIEW in_time AS SELECT n, van, parcel, at, grams FROM (SELECT *, max(at) OVER (PARTITION BY part ORDER BY n)
        - interval '5 seconds' AS mark FROM handoff_all) s WHERE at + interval '6 seconds' > mark;
      CREATE VIEW watermark AS SELECT min(own) AS w FROM
        (SELECT max(at) - interval '5 seconds' AS own FROM handoff_all GROUP BY part) p;
      CREATE VIEW begins AS SELECT *, CASE WHEN at - lag(at) OVER (PARTITION BY van ORDER BY at, n)
        < interval '6 seconds' THEN 0 ELSE 1 END AS new FROM in_time;
      CREATE VIEW numbered AS SELECT *, sum(new) OVER (PARTITION BY van ORDER BY at, n) AS s FROM begins;
      CREATE VIEW sessions AS SELECT van, parcel, at, grams, min(at) OVER w AS window_start,
        max(at) OVER w + interval '6 seconds' AS window_end FROM numbered WINDOW w AS (PARTITION BY van, s);
      CREATE VIEW parcel_begins AS SELECT *, CASE WHEN at - lag(at) OVER (PARTITION BY parcel ORDER BY at, n)
        < interval '6 seconds' THEN 0 ELSE 1 END AS new FROM in_time;
      CREATE VIEW parcel_numbered AS SELECT *, sum(new) OVER (PARTITION BY parcel ORDER BY at, n) AS s
        FROM parcel_begins;
      CREATE VIEW parcel_sessions AS SELECT parcel, at, grams, min(at) OVER w AS window_start,
        max(at) OVER w + interval '6 seconds' AS window_end FROM parcel_numbered
        WINDOW w AS (PARTITION BY parcel, s);
      CREATE VIEW all_begin AS SELECT *, CASE WHEN at - lag(at) OVER (ORDER BY at, n)
        < interval '2 seconds' THEN 0 ELSE 1 END AS new FROM (SELECT n, van, parcel, at FROM (SELECT *, max(at)
        OVER (PARTITION BY part ORDER BY n) - interval '5 seconds' AS mark FROM handoff_all) s
        WHERE at + interval '2 seconds' > mark) t;
      CREATE VIEW all_numbered AS SELECT *, sum(new) OVER (ORDER BY at, n) AS s FROM all_begin;
      CREATE VIEW all_sessions AS SELECT van, at, min(at) OVER w AS window_start,
        max(at) OVER w + interval '2 seconds' AS window_end FROM all_numbered WINDOW w AS (PARTITION BY s);
      CREATE VIEW stay_begins AS SELECT *, CASE WHEN at - lag(at) OVER (PARTITION BY van ORDER BY at, id)
        < interval '6 seconds' THEN 0 ELSE 1 END AS new FROM stay;
      CREATE VIEW stay_numbered AS SELECT *, sum(new) OVER (PARTITION BY van ORDER BY at, id) AS s FROM stay_begins;
      CREATE VIEW stay_sessions AS SELECT id, van, at, min(at) OVER w AS window_start,
        max(at) OVER w + interval '6 seconds' AS window_end FROM stay_numbered WINDOW w AS (PARTITION BY van, s);
      """;

  private static final String OURS =
      "TABLE(SESSION(TABLE handoff PARTITION BY van, DESCRIPTOR(at), INTERVAL '6' SECOND))";
  private static final String OF_PARCEL =
      "TABLE(SESSION(TABLE handoff PARTITION BY parcel, DESCRIPTOR(at), INTERVAL '6' SECOND))";
  private static final String OF_ALL =
      "TABLE(SESSION(TABLE handoff, DESCRIPTOR(at), INTERVAL '2' SECOND))";
  private static final String OF_TABLE =
      "TABLE(SESSION(TABLE stay PARTITION BY van, DESCRIPTOR(at), INTERVAL '6' SECOND))";

  /** A view; and whether it can be settled: its rows say when they end. */
  private record View(String sql, boolean settles) {
    String theirs() {
      return sql.replace(OURS, "sessions")
          .replace(OF_PARCEL, "parcel_sessions")
          .replace(OF_ALL, "all_sessions")
          .replace(OF_TABLE, "stay_sessions");
    }
  }

  private static final DateTimeFormatter SECONDS =
      DateTimeFormatter.ofPattern("yyyy-MM-dd HH:mm:ss");
  private static final Map<String, View> VIEWS = new LinkedHashMap<>();
  private static final List<String> KEPT = List.of("sums", "added_up", "of_parcel");

  static {
    String sums =
        "SELECT van, window_start, window_end, COUNT(*) AS n, MIN(parcel) AS a, COUNT(DISTINCT parcel) AS"
            + " b FROM %s t GROUP BY van, window_start, window_end";
    VIEWS.put("sums", new View(sums.formatted(OURS), true));
    VIEWS.put(
        "added_up",
        new View(
            "SELECT van, window_start, window_end, COUNT(*) AS n, SUM(parcel) AS s, SUM(grams) AS g,"
                + " AVG(grams) AS a, COUNT(grams) AS c, MIN(parcel) AS least, MAX(grams) AS most FROM "
                + OURS
                + " t GROUP BY van, window_start, window_end",
            true));
    VIEWS.put(
        "of_parcel",
        new View(
            "SELECT window_end, parcel, window_start, SUM(grams) AS g, MIN(grams) AS a FROM "
                + OF_PARCEL
                + " t GROUP BY window_start, window_end, parcel",
            true));
    VIEWS.put(
        "of_all",
        new View(
            "SELECT window_start, window_end, COUNT(*) AS n FROM "
                + OF_ALL
                + " t GROUP BY window_start, window_end",
            true));
    VIEWS.put(
        "rows_alone",
        new View("SELECT van, parcel, at, window_start, window_end FROM " + OURS + " t", true));
    VIEWS.put(
        "by_end",
        new View(
            "SELECT window_end, van, MAX(at) AS last FROM " + OURS + " t GROUP BY window_end, van",
            true));
    VIEWS.put(
        "two_of_a_session",
        new View(
            "SELECT van, window_start, window_end, parcel, COUNT(*) AS n FROM "
                + OURS
                + " t GROUP BY van, window_start, window_end, parcel",
            true));
    VIEWS.put(
        "some",
        new View(
            "SELECT van, window_end, COUNT(*) AS n FROM "
                + OURS
                + " t WHERE parcel > 3 GROUP BY van, window_start, window_end",
            true));
    VIEWS.put(
        "long_ones",
        new View(
            "SELECT van, window_start, window_end FROM "
                + OURS
                + " t GROUP BY van, window_start, window_end HAVING COUNT(*) > 3",
            true));
    VIEWS.put(
        "per_minute",
        new View(
            "SELECT date_trunc('minute', window_end) AS minute, COUNT(*) AS n, SUM(c) AS c FROM (SELECT van, window_start,"
                + " window_end, COUNT(*) AS c FROM "
                + OURS
                + " t GROUP BY van, window_start, window_end) s GROUP BY"
                + " date_trunc('minute', window_end)",
            false));
    VIEWS.put("starts", new View("SELECT DISTINCT window_start FROM " + OURS + " t", false));
    VIEWS.put(
        "table_sums",
        new View(
            "SELECT van, window_start, window_end, COUNT(*) AS n FROM "
                + OF_TABLE
                + " t GROUP BY van, window_start, window_end",
            false));
    VIEWS.put(
        "table_rows",
        new View("SELECT id, window_start, window_end FROM " + OF_TABLE + " t", false));
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2})
  void equalsPostgresAtEveryEpoch(long seed) throws SQLException {
    Random random = new Random(seed);
    try (TestEngine db = new TestEngine();
        Connection pg = database("sessions_" + seed);
        Statement oracle = pg.createStatement();
        PreparedStatement insert =
            pg.prepareStatement(
                "INSERT INTO handoff_all (part, van, parcel, at, grams) VALUES (?, ?, ?, ?, ?)")) {
      oracle.execute(ORACLE);
      db.run(
          "CREATE STREAM handoff (van VARCHAR, parcel BIGINT, at TIMESTAMP NOT NULL, grams INTEGER, EVENT TIME at LATENESS"
              + " INTERVAL '5' SECOND); CREATE TABLE stay (id INTEGER PRIMARY KEY, van VARCHAR, at"
              + " TIMESTAMP NOT NULL)");
      EarlyTwins early = new EarlyTwins(db);
      LocalDateTime now = LocalDateTime.parse("2026-03-02T06:00:00");
      for (int epoch = 0; epoch < 70; epoch++) {
        int i = 0;
        for (Map.Entry<String, View> v : VIEWS.entrySet()) {
          if (epoch == i++ % 3 * 15) {
            db.run("CREATE MATERIALIZED VIEW v_%s AS %s".formatted(v.getKey(), v.getValue().sql));
            if (KEPT.contains(v.getKey())) {
              db.run(
                  "CREATE MATERIALIZED VIEW v_%s_kept OPTIONS (keep '1 minute') AS %s"
                      .formatted(v.getKey(), v.getValue().sql));
            }
            if (v.getValue().settles) {
              early.make(v.getKey(), v.getValue().sql);
              db.run(
                  "CREATE MATERIALIZED VIEW v_%s_settled OPTIONS (rows 'settled') AS %s"
                      .formatted(v.getKey(), v.getValue().sql));
            }
          }
        }
        now = now.plusNanos(random.nextInt(5_000) * 1_000_000L);
        for (int part = 0; part < PARTITIONS; part++) {
          push(db, "handoff", insert, part, events(random, now, epoch == 0));
        }
        for (String change : changes(random)) {
          db.run(change);
          oracle.execute(change);
        }
        if (random.nextInt(5) == 0) {
          db.checkpoint();
        }
        Boolean turned = false;
        if (random.nextInt(8) == 0) {
          db.crash();
          turned = null;
        }
        if (random.nextInt(3) == 0) {
          turned = true;
          early.turn();
        }
        compare(db, oracle, early, turned, seed, epoch);
      }
      assertThat(Answers.ours(db, "SELECT * FROM v_sums_settled")).hasSizeGreaterThan(10);
      // A row, its time, perhaps a group and what is put out of it; epochs are up to five seconds.
      String open =
          "SELECT * FROM sessions, watermark WHERE window_end + interval '12 seconds' > w";
      assertThat(db.state("v_long_ones_settled").keys())
          .as("nothing is kept of sessions that have ended")
          .isLessThan(4L * Answers.theirs(oracle, open).size());
    }
  }

  private static List<Object[]> events(Random random, LocalDateTime now, boolean first) {
    List<Object[]> events = new ArrayList<>();
    if (first) {
      events.add(new Object[] {"V0", 0L, now, 1}); // every partition says that it is there
    }
    for (int n = random.nextInt(5); n > 0; n--) {
      int behind = random.nextInt(8) == 0 ? random.nextInt(40_000) : random.nextInt(5_000);
      Object[] event = {
        random.nextInt(12) == 0 ? null : "V" + random.nextInt(6),
        (long) random.nextInt(8),
        now.minusNanos(behind * 1_000_000L),
        random.nextInt(10) == 0 ? null : (Integer) (random.nextInt(2000) - 700)
      };
      events.add(event);
      if (random.nextInt(10) == 0) {
        events.add(event);
      }
    }
    return events;
  }

  private static List<String> changes(Random random) {
    List<String> changes = new ArrayList<>();
    for (int n = random.nextInt(4); n > 0; n--) {
      int id = random.nextInt(40);
      LocalDateTime at = LocalDateTime.parse("2026-03-02T06:00:01").plusSeconds(random.nextInt(90));
      switch (random.nextInt(4)) {
        case 0 -> changes.add("DELETE FROM stay WHERE id = " + id);
        case 1 ->
            changes.add("UPDATE stay SET at = at + INTERVAL '3' SECOND WHERE id % 7 = " + id % 7);
        default -> {
          changes.add("DELETE FROM stay WHERE id = " + id);
          changes.add(
              "INSERT INTO stay VALUES (%d, 'V%d', TIMESTAMP '%s')"
                  .formatted(id, random.nextInt(3), SECONDS.format(at)));
        }
      }
    }
    return changes;
  }

  private static void compare(
      TestEngine db, Statement oracle, EarlyTwins early, Boolean turned, long seed, int epoch)
      throws SQLException {
    int i = 0;
    for (Map.Entry<String, View> v : VIEWS.entrySet()) {
      if (epoch < i++ % 3 * 15) {
        continue;
      }
      View view = v.getValue();
      List<String> all = Answers.theirs(oracle, view.theirs());
      assertThat(Answers.ours(db, "SELECT * FROM v_" + v.getKey()))
          .as("seed %d, epoch %d, view %s: %s", seed, epoch, v.getKey(), view.sql)
          .isEqualTo(all);
      if (view.settles) { // until so much later a row in time can still lengthen it
        String gap = view.sql.contains(OF_ALL) ? "2 seconds" : "6 seconds";
        String settled =
            "SELECT q.* FROM (%s) q, watermark WHERE window_end + interval '%s' <= w"
                .formatted(view.theirs(), gap);
        assertThat(Answers.ours(db, "SELECT * FROM v_" + v.getKey() + "_settled"))
            .as("seed %d, epoch %d, settled %s: %s", seed, epoch, v.getKey(), view.sql)
            .isEqualTo(Answers.theirs(oracle, settled));
        try (ResultSet row =
            oracle.executeQuery("SELECT w - interval '%s' FROM watermark".formatted(gap))) {
          LocalDateTime until = row.next() ? row.getObject(1, LocalDateTime.class) : null;
          early.compare(v.getKey(), turned, all, Answers.theirs(oracle, settled), until);
        }
      }
      if (KEPT.contains(v.getKey())) {
        String kept =
            "SELECT q.* FROM (%s) q, watermark WHERE window_end + interval '1 minute' + interval '6 seconds' > w"
                .formatted(view.theirs());
        assertThat(Answers.ours(db, "SELECT * FROM v_" + v.getKey() + "_kept"))
            .as("seed %d, epoch %d, kept %s", seed, epoch, v.getKey())
            .isEqualTo(Answers.theirs(oracle, kept));
      }
      if (epoch % 20 == 19) {
        assertThat(Answers.ours(db, view.sql))
            .as("seed %d, epoch %d, asked once: %s", seed, epoch, view.sql)
            .isEqualTo(Answers.theirs(oracle, view.theirs()));
      }
    }
  }
}
