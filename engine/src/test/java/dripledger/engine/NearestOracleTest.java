package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.LocalDateTime;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/**
 * The nearest row by a LATERAL query with ORDER BY and LIMIT 1, against PostgreSQL at every epoch:
 * between tables whose rows come, change and go, and between streams whose events come out of
 * order, late and twice, with crashes.
 */
class NearestOracleTest extends BesidePostgres {
  private static final Map<String, String> VIEWS = new LinkedHashMap<>();

  private static String near(String kind, String where, String order) {
    return "SELECT c.id, c.k, c.at, r.id AS r_id, r.at AS r_at, r.cents FROM charge c "
        + kind
        + " JOIN LATERAL (SELECT rate.id, rate.at, rate.cents FROM rate WHERE "
        + where
        + " ORDER BY "
        + order
        + " LIMIT 1) r ON TRUE";
  }

  static {
    VIEWS.put("up_to", near("LEFT", "rate.k = c.k AND rate.at <= c.at", "rate.at DESC, rate.id"));
    VIEWS.put(
        "before", near("INNER", "rate.k = c.k AND rate.at < c.at", "rate.at DESC, rate.id DESC"));
    VIEWS.put("from_then", near("LEFT", "c.at <= rate.at AND c.k = rate.k", "rate.at, rate.id"));
    VIEWS.put("behind", near("INNER", "rate.k = c.k AND rate.at > c.at", "rate.at, rate.id DESC"));
    VIEWS.put(
        "of_all", near("LEFT", "rate.at <= c.at", "rate.at DESC, rate.cents NULLS LAST, rate.id"));
    VIEWS.put(
        "dear",
        near(
            "LEFT",
            "rate.k = c.k AND rate.at <= c.at AND rate.cents > 3",
            "rate.at DESC, rate.id DESC"));
    VIEWS.put(
        "numbers", near("LEFT", "rate.k = c.k AND rate.cents <= c.id", "rate.cents DESC, rate.id"));
    VIEWS.put(
        "summed",
        "SELECT r.id, COUNT(*) AS n FROM charge c LEFT JOIN LATERAL (SELECT rate.id FROM rate WHERE"
            + " rate.k = c.k AND rate.at <= c.at ORDER BY rate.at DESC, rate.id LIMIT 1) r ON TRUE GROUP BY r.id");
    VIEWS.put(
        "both_ties",
        VIEWS.get("up_to")
            + " UNION ALL "
            + near("LEFT", "rate.k = c.k AND rate.at <= c.at", "rate.at DESC, rate.id DESC")
            + " UNION ALL "
            + near("LEFT", "rate.k = c.k AND rate.at < c.at", "rate.at DESC, rate.id"));
    VIEWS.put(
        "computed",
        "SELECT c.id, COALESCE(r.double_cents, -1) AS x FROM charge c LEFT JOIN LATERAL (SELECT rate.cents *"
            + " 2 AS double_cents FROM rate WHERE rate.k = c.k AND rate.at <= c.at ORDER BY rate.at DESC,"
            + " rate.id LIMIT 1) r ON TRUE WHERE c.id > 3");
  }

  private static final String SCANNED =
      "SELECT h.parcel, h.van, h.at, s.gate, s.at AS s_at FROM handoff h LEFT JOIN LATERAL (SELECT scan.gate,"
          + " scan.at FROM scan WHERE scan.parcel = h.parcel AND scan.at <= h.at ORDER BY scan.at DESC,"
          + " scan.gate DESC LIMIT 1) s ON TRUE";

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void betweenTables(long seed) throws SQLException {
    Random random = new Random(seed);
    try (TestEngine db = new TestEngine();
        Connection pg = database("nearest_" + seed);
        Statement oracle = pg.createStatement()) {
      for (String table :
          List.of(
              "charge (id INTEGER PRIMARY KEY, k VARCHAR, at TIMESTAMP)",
              "rate (id INTEGER PRIMARY KEY, k VARCHAR, at TIMESTAMP, cents INTEGER)")) {
        db.run("CREATE TABLE " + table);
        oracle.execute("CREATE TABLE " + table);
      }
      for (int epoch = 0; epoch < 50; epoch++) {
        int number = 0;
        for (Map.Entry<String, String> v : VIEWS.entrySet()) {
          if (epoch == number++ % 3 * 15) {
            db.run("CREATE MATERIALIZED VIEW v_" + v.getKey() + " AS " + v.getValue());
          }
        }
        for (int change = 0; change < 4; change++) {
          String sql = change(random);
          db.run(sql);
          oracle.execute(sql);
        }
        if (random.nextInt(8) == 0) {
          db.checkpoint();
        }
        if (random.nextInt(8) == 0) {
          db.crash();
        }
        number = 0;
        for (Map.Entry<String, String> v : VIEWS.entrySet()) {
          List<String> theirs = Answers.theirs(oracle, v.getValue());
          if (epoch >= number++ % 3 * 15) {
            assertThat(Answers.ours(db, "SELECT * FROM v_" + v.getKey()))
                .as("seed %d, epoch %d: %s", seed, epoch, v.getValue())
                .isEqualTo(theirs);
          }
          if (epoch % 10 == 9) {
            assertThat(Answers.ours(db, v.getValue())).as(v.getValue()).isEqualTo(theirs);
          }
        }
      }
      for (String view : VIEWS.keySet()) {
        assertThat(db.rows("EXPLAIN v_" + view).toString()).contains("each row of the first with");
      }
    }
  }

  private static String change(Random random) {
    int id = random.nextInt(25);
    String k = random.nextInt(8) == 0 ? "NULL" : "'k" + random.nextInt(3) + "'";
    String at =
        random.nextInt(10) == 0
            ? "NULL"
            : "TIMESTAMP '2026-03-02 06:00:%02d'".formatted(random.nextInt(30));
    String cents = random.nextInt(8) == 0 ? "NULL" : "" + random.nextInt(9);
    return switch (random.nextInt(7)) {
      case 0 -> "DELETE FROM charge WHERE id = " + id;
      case 1 -> "DELETE FROM rate WHERE id = " + id;
      case 2 -> "UPDATE rate SET at = at + INTERVAL '3' SECOND WHERE id % 5 = " + id % 5;
      case 3 -> "UPDATE rate SET cents = " + cents + ", k = " + k + " WHERE id = " + id;
      case 4 ->
          "DELETE FROM charge WHERE id = %d; INSERT INTO charge VALUES (%d, %s, %s)"
              .formatted(id, id, k, at);
      default ->
          "DELETE FROM rate WHERE id = %d; INSERT INTO rate VALUES (%d, %s, %s, %s)"
              .formatted(id, id, k, at, cents);
    };
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2})
  void betweenStreams(long seed) throws SQLException {
    Random random = new Random(seed);
    try (TestEngine db = new TestEngine();
        Connection pg = database("nearest_streams_" + seed);
        Statement oracle = pg.createStatement();
        PreparedStatement scan =
            pg.prepareStatement(
                "INSERT INTO scan_all (part, parcel, gate, at) VALUES (?, ?, ?, ?)");
        PreparedStatement handoff =
            pg.prepareStatement(
                "INSERT INTO handoff_all (part, parcel, van, at) VALUES (?, ?, ?, ?)")) {
      oracle.execute(JoinTimeOracleTest.ORACLE);
      db.run(JoinTimeOracleTest.STREAMS);
      db.run("CREATE MATERIALIZED VIEW now AS " + SCANNED);
      db.run("CREATE MATERIALIZED VIEW final OPTIONS (rows 'settled') AS " + SCANNED);
      LocalDateTime now = LocalDateTime.parse("2026-03-02T06:00:00");
      for (int epoch = 0; epoch < 45; epoch++) {
        if (epoch == 20) {
          db.run("CREATE MATERIALIZED VIEW later AS " + SCANNED);
        }
        now = now.plusNanos(random.nextInt(4_000) * 1_000_000L);
        for (int part = 0; part < JoinTimeOracleTest.PARTITIONS; part++) {
          push(db, "scan", scan, part, JoinTimeOracleTest.events(random, now, "G", epoch == 0));
          push(
              db,
              "handoff",
              handoff,
              part,
              JoinTimeOracleTest.events(random, now, "V", epoch == 0));
        }
        if (random.nextInt(5) == 0) {
          db.checkpoint();
        }
        if (random.nextInt(8) == 0) {
          db.crash();
        }
        for (String view : List.of("scan", "handoff", "watermark")) {
          oracle.execute("REFRESH MATERIALIZED VIEW " + view);
        }
        assertThat(Answers.ours(db, "SELECT * FROM now"))
            .as("seed %d, epoch %d", seed, epoch)
            .isEqualTo(Answers.theirs(oracle, SCANNED));
        assertThat(Answers.ours(db, "SELECT * FROM final"))
            .as("seed %d, epoch %d, settled", seed, epoch)
            .isEqualTo(
                Answers.theirs(
                    oracle, "SELECT q.* FROM (" + SCANNED + ") q, watermark WHERE q.at < w"));
      }
      assertThat(Answers.ours(db, "SELECT * FROM later"))
          .isEqualTo(Answers.ours(db, "SELECT * FROM now"));
      String kept =
          """
          SELECT (SELECT count(DISTINCT (parcel, van, at)) FROM handoff, watermark WHERE at >= w)
            + (SELECT count(DISTINCT (parcel, gate, at)) FROM scan, watermark WHERE at >= w)
            + (SELECT count(DISTINCT parcel) FROM scan, watermark WHERE at < w)
          """;
      assertThat(List.of("" + db.state("now").keys()))
          .as("rows that may still be near to one, and no others")
          .isEqualTo(Answers.theirs(oracle, kept));
      assertThat(db.rows("EXPLAIN now").toString())
          .contains("first until the watermark has passed at, second but the last until then");
    }
  }
}
