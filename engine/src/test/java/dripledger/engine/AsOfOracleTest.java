package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.LocalDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/**
 * Joins with tables as they were, against PostgreSQL, which is told since when and until when each
 * row was so: at every epoch, with events out of order and twice, changes of the tables one after
 * the other and many at once, and crashes.
 */
class AsOfOracleTest extends BesidePostgres {
  /** Rows that were there when a view was made have always been so for it. */
  private static final String ORACLE =
      """
      CREATE TABLE scan (n bigserial, part int, parcel bigint, service text, gate text, at timestamp);
      CREATE TABLE was (kind text, id text, cents int, since timestamp, until timestamp);
      CREATE FUNCTION known(of text, made timestamp) RETURNS TABLE
        (id text, cents int, since timestamp, until timestamp) AS $$ SELECT id, cents,
          CASE WHEN since <= made THEN '-infinity' ELSE since END, coalesce(until, 'infinity') FROM was
          WHERE kind = of AND coalesce(until, 'infinity') > made AND since < coalesce(until, 'infinity')
        $$ LANGUAGE sql;
      CREATE VIEW watermark AS SELECT min(own) AS w FROM
        (SELECT max(at) - interval '2 minutes' AS own FROM scan GROUP BY part) p;
      """;

  private static final String OURS = "FOR SYSTEM_TIME AS OF s.at AS ";
  private static final Map<String, String> VIEWS = new LinkedHashMap<>();

  static {
    String charge = " surcharge " + OURS + "c ON c.id = s.service";
    String fee = " gate_fee " + OURS + "g ON g.id = s.gate";
    VIEWS.put("inner_one", "SELECT s.parcel, s.at, c.cents FROM scan AS s JOIN" + charge);
    VIEWS.put("left_one", "SELECT s.parcel, s.at, c.id, c.cents FROM scan AS s LEFT JOIN" + charge);
    VIEWS.put(
        "some",
        "SELECT s.at, c.cents FROM scan AS s LEFT JOIN" + charge + " AND c.cents > s.parcel * 10");
    VIEWS.put(
        "two",
        "SELECT s.at, s.parcel, c.cents, g.cents AS fee FROM scan AS s LEFT JOIN"
            + charge
            + " JOIN"
            + fee);
    VIEWS.put(
        "sums",
        "SELECT s.service, COUNT(*) AS n, COUNT(c.cents) AS m, SUM(c.cents) AS cents FROM scan AS s"
            + " LEFT JOIN"
            + charge
            + " GROUP BY s.service");
    VIEWS.put(
        "both_times",
        "SELECT s.at, c.cents, d.cents AS latest FROM scan AS s LEFT JOIN"
            + charge
            + " LEFT JOIN surcharge AS d ON d.id = s.service");
  }

  /** The query in PostgreSQL's words, for a view made at a time. */
  private static String theirs(String sql, LocalDateTime made) {
    return sql.replaceAll(
            "(surcharge|gate_fee) FOR SYSTEM_TIME AS OF s.at AS (\\w) ON",
            "known('$1', timestamp '" + made + "') $2 ON $2.since <= s.at AND s.at < $2.until AND")
        .replace(
            "surcharge AS d",
            "(SELECT * FROM was WHERE kind = 'surcharge' AND until IS NULL) AS d");
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void equalsPostgresAtEveryEpoch(long seed) throws SQLException {
    Random random = new Random(seed);
    try (TestEngine db = new TestEngine();
        Connection pg = database("as_of_" + seed);
        Statement oracle = pg.createStatement();
        PreparedStatement insert =
            pg.prepareStatement(
                "INSERT INTO scan (part, parcel, service, gate, at) VALUES (?, ?, ?, ?, ?)")) {
      oracle.execute(ORACLE);
      db.run(
          "CREATE STREAM scan (parcel BIGINT, service VARCHAR, gate VARCHAR, at TIMESTAMP NOT NULL,"
              + " EVENT TIME at LATENESS INTERVAL '2' MINUTE);"
              + " CREATE TABLE surcharge (id VARCHAR PRIMARY KEY, cents INTEGER);"
              + " CREATE TABLE gate_fee (id VARCHAR PRIMARY KEY, cents INTEGER)");
      Map<String, LocalDateTime> made = new LinkedHashMap<>();
      LocalDateTime now = LocalDateTime.parse("2026-03-02T06:00:00");
      for (int epoch = 0; epoch < 60; epoch++) {
        now = now.plusNanos((1 + random.nextInt(20_000)) * 1_000_000L);
        db.clock(now.toInstant(ZoneOffset.UTC));
        change(db, oracle, random, now);
        int i = 0;
        for (Map.Entry<String, String> v : VIEWS.entrySet()) {
          if (epoch == i++ % 2 * 20) {
            db.run("CREATE MATERIALIZED VIEW v_%s AS %s".formatted(v.getKey(), v.getValue()));
            made.put(v.getKey(), now);
            if (v.getValue().contains("s.at,") && !v.getKey().equals("both_times")) {
              db.run(
                  "CREATE MATERIALIZED VIEW v_%s_settled OPTIONS (rows 'settled') AS %s"
                      .formatted(v.getKey(), v.getValue()));
            }
          }
        }
        for (int part = 0; part < 2; part++) {
          push(db, "scan", insert, part, events(random, now, epoch == 0));
        }
        if (random.nextInt(4) == 0) {
          db.checkpoint();
        }
        if (random.nextInt(6) == 0) {
          db.crash();
        }
        compare(db, oracle, made, seed, epoch);
      }
      assertThat(db.state("v_two_settled").keys())
          .as("what is behind the watermark is gone, but the last of each key")
          .isLessThan(
              20
                  + 4L
                      * Answers.ours(
                              db,
                              "SELECT 1 FROM scan WHERE at > TIMESTAMP '"
                                  + now.minusMinutes(4).toString().replace('T', ' ')
                                  + "'")
                          .size());
    }
  }

  /** Changes tables, in a transaction or one after the other at one moment. */
  private static void change(TestEngine db, Statement oracle, Random random, LocalDateTime now)
      throws SQLException {
    List<String> ours = new ArrayList<>();
    for (int n = random.nextInt(4); n > 0; n--) {
      String kind = random.nextInt(3) == 0 ? "gate_fee" : "surcharge";
      String id = (kind.equals("gate_fee") ? "G" : "S") + random.nextInt(4);
      int cents = random.nextInt(100);
      ours.add("DELETE FROM %s WHERE id = '%s'".formatted(kind, id));
      oracle.execute(
          "UPDATE was SET until = '%s' WHERE kind = '%s' AND id = '%s' AND until IS NULL"
              .formatted(now, kind, id));
      if (random.nextInt(4) > 0) {
        ours.add("INSERT INTO %s VALUES ('%s', %d)".formatted(kind, id, cents));
        oracle.execute(
            "INSERT INTO was VALUES ('%s', '%s', %d, '%s', NULL)".formatted(kind, id, cents, now));
      }
    }
    if (!ours.isEmpty()) {
      db.run("BEGIN; " + String.join("; ", ours) + "; COMMIT");
    }
  }

  private static List<Object[]> events(Random random, LocalDateTime now, boolean first) {
    List<Object[]> events = new ArrayList<>();
    for (int n = random.nextInt(5) + (first ? 1 : 0); n > 0; n--) {
      LocalDateTime at = now.plusNanos((random.nextInt(80_000) - 60_000) * 1_000_000L);
      Object[] event = {
        (long) random.nextInt(9),
        random.nextInt(12) == 0 ? null : "S" + random.nextInt(4),
        "G" + random.nextInt(4),
        random.nextInt(6) == 0 ? now : at
      };
      events.add(event);
      if (random.nextInt(10) == 0) {
        events.add(event);
      }
    }
    return events;
  }

  private static void compare(
      TestEngine db, Statement oracle, Map<String, LocalDateTime> made, long seed, int epoch)
      throws SQLException {
    for (Map.Entry<String, LocalDateTime> v : made.entrySet()) {
      String ours = VIEWS.get(v.getKey());
      String theirs = theirs(ours, v.getValue());
      assertThat(Answers.ours(db, "SELECT * FROM v_" + v.getKey()))
          .as("seed %d, epoch %d, view %s: %s", seed, epoch, v.getKey(), ours)
          .isEqualTo(Answers.theirs(oracle, theirs));
      if (db.engine.catalog().find("v_" + v.getKey() + "_settled") != null) {
        assertThat(Answers.ours(db, "SELECT * FROM v_" + v.getKey() + "_settled"))
            .as("seed %d, epoch %d, settled %s: %s", seed, epoch, v.getKey(), ours)
            .isEqualTo(
                Answers.theirs(
                    oracle, "SELECT q.* FROM (" + theirs + ") q, watermark WHERE at < w"));
      }
    }
  }
}
