package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/**
 * Joins of two streams within a time against PostgreSQL, which is told of every event as which of
 * its partition it came: at every epoch, while events come out of order, late and twice, and what
 * can meet no more is forgotten.
 */
class JoinTimeOracleTest extends BesidePostgres {
  static final int PARTITIONS = 2;

  /** What came in time, by what its partition had seen when it came; and the watermark of both. */
  static final String ORACLE =
      """
      CREATE TABLE scan_all (n bigserial, part int, parcel bigint, gate text, at timestamp);
      CREATE TABLE handoff_all (n bigserial, part int, parcel bigint, van text, at timestamp);
      CREATE MATERIALIZED VIEW scan AS SELECT parcel, gate, at FROM (SELECT *, max(at) OVER (PARTITION BY part ORDER BY n)
        - interval '10 seconds' AS mark FROM scan_all) s WHERE at >= mark;
      CREATE MATERIALIZED VIEW handoff AS SELECT parcel, van, at FROM (SELECT *, max(at) OVER (PARTITION BY part ORDER BY n)
        - interval '5 seconds' AS mark FROM handoff_all) s WHERE at >= mark;
      CREATE MATERIALIZED VIEW watermark AS SELECT min(own) AS w FROM
        (SELECT max(at) - interval '10 seconds' AS own FROM scan_all GROUP BY part UNION ALL
         SELECT max(at) - interval '5 seconds' FROM handoff_all GROUP BY part) p;
      """;

  static final String STREAMS =
      "CREATE STREAM scan (parcel BIGINT, gate VARCHAR, at TIMESTAMP NOT NULL, EVENT TIME at"
          + " LATENESS INTERVAL '10' SECOND); CREATE STREAM handoff (parcel BIGINT, van VARCHAR,"
          + " at TIMESTAMP NOT NULL, EVENT TIME at LATENESS INTERVAL '5' SECOND)";

  private static final String KEPT =
      """
      SELECT (SELECT count(DISTINCT (parcel, gate, at)) FROM scan, watermark
          WHERE parcel IS NOT NULL AND at + interval '20 seconds' >= w)
        + (SELECT count(DISTINCT (parcel, van, at)) FROM handoff, watermark
          WHERE parcel IS NOT NULL AND at >= w)
      """;

  private static final String WITHIN =
      " h.parcel = s.parcel AND h.at BETWEEN s.at AND s.at + INTERVAL '20' SECOND";
  private static final String AROUND =
      " h.parcel = s.parcel AND h.at - s.at < INTERVAL '7' SECOND AND s.at - INTERVAL '12' SECOND <= h.at";
  private static final String ALL =
      "SELECT s.parcel, s.gate, s.at AS s_at, h.van, h.at AS h_at FROM scan s ";
  private static final String ALONE =
      "SELECT s.parcel, s.gate, s.at AS s_at FROM scan s WHERE s.gate <> 'G3' AND ";

  /**
   * A view.
   *
   * @param settled what is true of a row that can no longer change, for PostgreSQL; or null
   */
  private record View(String sql, String settled) {
    String options() {
      return settled == null ? "" : " OPTIONS (rows 'settled')";
    }

    String theirs() {
      return settled == null
          ? sql
          : "SELECT q.* FROM (" + sql + ") q, watermark WHERE " + settled + " < w";
    }
  }

  private static final Map<String, View> VIEWS = new LinkedHashMap<>();

  private static void view(String name, String sql, String settled) {
    VIEWS.put(name, new View(sql, null));
    if (settled != null) {
      VIEWS.put(name + "_settled", new View(sql, settled));
    }
  }

  static {
    String later = "s_at + interval '20 seconds'";
    view("both", ALL + "JOIN handoff h ON" + WITHIN, "h_at");
    view("scans", ALL + "LEFT JOIN handoff h ON" + WITHIN, later);
    view("handoffs", ALL + "RIGHT JOIN handoff h ON" + WITHIN, "h_at");
    view("either", ALL + "FULL JOIN handoff h ON" + WITHIN, null);
    view("around", ALL + "JOIN handoff h ON" + AROUND, "s_at + interval '7 seconds'");
    view("perhaps_around", ALL + "LEFT JOIN handoff h ON" + AROUND, "s_at + interval '7 seconds'");
    view(
        "perhaps_behind", ALL + "RIGHT JOIN handoff h ON" + AROUND, "h_at + interval '12 seconds'");
    view("met", ALONE + "EXISTS (SELECT 1 FROM handoff h WHERE" + WITHIN + ")", later);
    view("missed", ALONE + "NOT EXISTS (SELECT 1 FROM handoff h WHERE" + WITHIN + ")", later);
    view(
        "again",
        "SELECT s.parcel, s.at AS s_at, h.at AS h_at FROM scan s JOIN scan h ON s.parcel = h.parcel"
            + " AND s.gate = h.gate AND h.at > s.at AND h.at < s.at + INTERVAL '15' SECOND",
        "h_at");
    view(
        "as_late_as",
        ALL
            + "JOIN handoff h ON h.parcel = s.parcel AND h.at <= s.at WHERE s.gate = 'G1' AND h.van = 'V1'",
        "s_at");
    view(
        "by_gate",
        "SELECT date_trunc('minute', s.at) AS minute, s.gate, COUNT(*) AS n, COUNT(h.van) AS m FROM scan s"
            + " LEFT JOIN handoff h ON"
            + WITHIN
            + " GROUP BY date_trunc('minute', s.at), s.gate",
        "minute + interval '80 seconds' - interval '0.000001 seconds'");
    view(
        "three",
        "SELECT s.parcel, s.at AS s_at, h.at AS h_at, t.at AS t_at FROM scan s JOIN handoff h ON"
            + WITHIN
            + " JOIN scan t ON t.parcel = h.parcel AND t.at BETWEEN h.at AND h.at + INTERVAL '5' SECOND",
        "t_at");
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2})
  void equalsPostgresAtEveryEpoch(long seed) throws SQLException {
    Random random = new Random(seed);
    try (TestEngine db = new TestEngine();
        Connection pg = database("join_times_" + seed);
        Statement oracle = pg.createStatement();
        PreparedStatement scan =
            pg.prepareStatement(
                "INSERT INTO scan_all (part, parcel, gate, at) VALUES (?, ?, ?, ?)");
        PreparedStatement handoff =
            pg.prepareStatement(
                "INSERT INTO handoff_all (part, parcel, van, at) VALUES (?, ?, ?, ?)")) {
      oracle.execute(ORACLE);
      db.run(STREAMS);
      LocalDateTime now = LocalDateTime.parse("2026-03-02T06:00:00");
      for (int epoch = 0; epoch < 45; epoch++) {
        int i = 0;
        for (Map.Entry<String, View> v : VIEWS.entrySet()) {
          if (epoch == i++ % 3 * 15) {
            String name = "v_" + v.getKey() + v.getValue().options();
            db.run("CREATE MATERIALIZED VIEW %s AS %s".formatted(name, v.getValue().sql));
          }
        }
        now = now.plusNanos(random.nextInt(4_000) * 1_000_000L);
        for (int part = 0; part < PARTITIONS; part++) {
          push(db, "scan", scan, part, events(random, now, "G", epoch == 0));
          push(db, "handoff", handoff, part, events(random, now, "V", epoch == 0));
        }
        if (random.nextInt(5) == 0) {
          db.checkpoint();
        }
        if (random.nextInt(8) == 0) {
          db.crash();
        }
        compare(db, oracle, seed, epoch);
      }
      assertThat(List.of("" + db.state("v_both").keys()))
          .as("rows that may still meet one, and no others")
          .isEqualTo(Answers.theirs(oracle, KEPT));
      assertThat(Answers.ours(db, "SELECT * FROM v_missed_settled")).hasSizeGreaterThan(5);
      assertThat(db.rows("EXPLAIN v_both").toString())
          .contains(
              "first until the watermark has passed at and 20 seconds more, second until it has")
          .contains("rows in time by at");
      assertThat(db.rows("EXPLAIN v_as_late_as").toString())
          .contains("first until the watermark has passed at, second: no bound");
    }
  }

  static List<Object[]> events(Random random, LocalDateTime now, String what, boolean first) {
    List<Object[]> events = new ArrayList<>();
    if (first) {
      events.add(new Object[] {0L, what + 0, now}); // every partition says that it is there
    }
    for (int n = random.nextInt(8); n > 0; n--) {
      int behind = random.nextInt(8) == 0 ? random.nextInt(60_000) : random.nextInt(6_000);
      Object[] event = {
        random.nextInt(20) == 0 ? null : (Long) (long) random.nextInt(10),
        what + random.nextInt(4),
        now.minusNanos(behind * 1_000_000L)
      };
      events.add(event);
      if (random.nextInt(10) == 0) {
        events.add(event);
      }
    }
    return events;
  }

  private static void compare(TestEngine db, Statement oracle, long seed, int epoch)
      throws SQLException {
    oracle.execute(
        "REFRESH MATERIALIZED VIEW scan; REFRESH MATERIALIZED VIEW handoff;"
            + " REFRESH MATERIALIZED VIEW watermark");
    int i = 0;
    for (Map.Entry<String, View> v : VIEWS.entrySet()) {
      if (epoch < i++ % 3 * 15) {
        continue;
      }
      View view = v.getValue();
      assertThat(Answers.ours(db, "SELECT * FROM v_" + v.getKey()))
          .as("seed %d, epoch %d, view %s: %s", seed, epoch, v.getKey(), view.sql)
          .isEqualTo(Answers.theirs(oracle, view.theirs()));
      if (epoch % 20 == 19 && view.settled == null) {
        assertThat(Answers.ours(db, view.sql))
            .as("seed %d, epoch %d, asked once: %s", seed, epoch, view.sql)
            .isEqualTo(Answers.theirs(oracle, view.sql));
      }
    }
  }
}
