package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.error.EngineException;
import dripledger.engine.query.Subscription;
import java.sql.Connection;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.LocalDateTime;
import java.time.ZoneOffset;
import java.time.format.DateTimeFormatter;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/**
 * Views that compare with the current time, against PostgreSQL, which is asked the same with that
 * time written out: at every epoch, while rows come, change and go, time goes on by small and large
 * steps and back, and after crashes.
 */
class CurrentTimeOracleTest extends BesidePostgres {
  private static final DateTimeFormatter SECONDS =
      DateTimeFormatter.ofPattern("yyyy-MM-dd HH:mm:ss");
  private static final Map<String, String> VIEWS = new LinkedHashMap<>();

  static {
    VIEWS.put("recent", "SELECT * FROM scan WHERE at > CURRENT_TIMESTAMP - INTERVAL '20' SECOND");
    VIEWS.put(
        "recent_counts",
        "SELECT gate, COUNT(*) AS n, MAX(grams) AS m FROM scan WHERE at > CURRENT_TIMESTAMP - INTERVAL"
            + " '20 seconds' GROUP BY gate");
    VIEWS.put(
        "between_two",
        "SELECT id, gate FROM scan WHERE at BETWEEN CURRENT_TIMESTAMP - INTERVAL '30' SECOND AND"
            + " CURRENT_TIMESTAMP - INTERVAL '10' SECOND AND grams > 100");
    VIEWS.put("still_to_come", "SELECT id, at FROM scan WHERE at + INTERVAL '5 seconds' >= now()");
    VIEWS.put(
        "parts",
        "SELECT gate, COUNT(*) FILTER (WHERE CURRENT_TIMESTAMP - at < INTERVAL '15' SECOND) AS young,"
            + " COUNT(*) AS n FROM scan GROUP BY gate");
    VIEWS.put(
        "kinds",
        "SELECT id, CASE WHEN at > CURRENT_TIMESTAMP THEN 'ahead' WHEN at >= CURRENT_TIMESTAMP - INTERVAL"
            + " '10' SECOND THEN 'new' ELSE 'old' END AS kind FROM scan");
    VIEWS.put(
        "either",
        "SELECT id FROM scan WHERE grams < 200 OR at <= CURRENT_TIMESTAMP - INTERVAL '25' SECOND");
    VIEWS.put(
        "joined",
        "SELECT s.id, g.hall FROM scan s JOIN gate g ON g.gate = s.gate AND s.at > CURRENT_TIMESTAMP -"
            + " INTERVAL '12' SECOND AND g.until > CURRENT_TIMESTAMP");
    VIEWS.put(
        "both_sides",
        "SELECT s.id, g.hall FROM scan s JOIN gate g ON g.gate = s.gate WHERE s.at - g.until <"
            + " INTERVAL '1 minute' AND (s.at > CURRENT_TIMESTAMP - INTERVAL '12' SECOND OR g.until <"
            + " CURRENT_TIMESTAMP)");
    VIEWS.put(
        "perhaps",
        "SELECT s.id, g.hall FROM scan s LEFT JOIN gate g ON g.gate = s.gate AND g.until >="
            + " CURRENT_TIMESTAMP WHERE s.grams > 500");
    VIEWS.put(
        "none_open",
        "SELECT s.id FROM scan s WHERE NOT EXISTS (SELECT 1 FROM gate g WHERE g.gate = s.gate AND"
            + " g.until > CURRENT_TIMESTAMP)");
    VIEWS.put("today", "SELECT id FROM scan WHERE CAST(at AS DATE) = CURRENT_DATE");
    VIEWS.put("since_midnight", "SELECT COUNT(*) AS n FROM scan WHERE at >= CURRENT_DATE");
    VIEWS.put("before_today", "SELECT id FROM scan WHERE at < CURRENT_DATE OR at IS NULL");
    VIEWS.put("not_now", "SELECT id FROM scan WHERE at <> CURRENT_TIMESTAMP");
    VIEWS.put(
        "latest_recent",
        "SELECT gate, id FROM (SELECT gate, id, ROW_NUMBER() OVER (PARTITION BY gate ORDER BY at DESC,"
            + " id) AS place FROM scan WHERE at > CURRENT_TIMESTAMP - INTERVAL '40' SECOND) s WHERE"
            + " place = 1");
    VIEWS.put(
        "row_s_own",
        "SELECT id FROM scan WHERE at + grams * INTERVAL '0.1' SECOND > CURRENT_TIMESTAMP");
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2})
  void equalsPostgresAtEveryEpoch(long seed) throws SQLException {
    Random random = new Random(seed);
    try (TestEngine db = new TestEngine();
        Connection pg = database("current_time_" + seed);
        Statement oracle = pg.createStatement()) {
      oracle.execute(
          "CREATE TABLE scan (id int PRIMARY KEY, gate text, at timestamp, grams int);"
              + " CREATE TABLE gate (gate text PRIMARY KEY, hall text, until timestamp)");
      db.run(
          "CREATE TABLE scan (id INTEGER PRIMARY KEY, gate VARCHAR, at TIMESTAMP, grams INTEGER);"
              + " CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, until TIMESTAMP);"
              + " CREATE STREAM note (n INTEGER)");
      LocalDateTime now = LocalDateTime.parse("2026-03-02T23:58:30");
      LocalDateTime latest = now;
      for (int epoch = 0; epoch < 70; epoch++) {
        now =
            now.plusSeconds(random.nextInt(10) == 0 ? random.nextInt(60) - 20 : random.nextInt(4));
        latest = now.isAfter(latest) ? now : latest;
        db.clock(now.plusNanos(random.nextInt(1_000) * 1_000_000L).toInstant(ZoneOffset.UTC));
        int i = 0;
        for (Map.Entry<String, String> v : VIEWS.entrySet()) {
          if (epoch == i++ % 3 * 15) {
            db.run("CREATE MATERIALIZED VIEW v_%s AS %s".formatted(v.getKey(), v.getValue()));
          }
        }
        for (String change : changes(random, now)) {
          db.run(change);
          oracle.execute(change);
        }
        db.push("note", new Object[] {epoch}); // a change of no row is no epoch
        if (random.nextInt(5) == 0) {
          db.checkpoint();
        }
        if (random.nextInt(8) == 0) {
          now = latest; // a clock that was set back would be believed after a crash
          db.clock(now.toInstant(ZoneOffset.UTC));
          db.crash();
        }
        i = 0;
        for (Map.Entry<String, String> v : VIEWS.entrySet()) {
          if (epoch >= i++ % 3 * 15) {
            String theirs =
                v.getValue()
                    .replaceAll("CURRENT_TIMESTAMP|now\\(\\)", text(latest))
                    .replace("CURRENT_DATE", "DATE '" + latest.toLocalDate() + "'");
            assertThat(Answers.ours(db, "SELECT * FROM v_" + v.getKey()))
                .as("seed %d, epoch %d, at %s, %s: %s", seed, epoch, latest, v.getKey(), theirs)
                .isEqualTo(Answers.theirs(oracle, theirs));
          }
        }
      }
      String waiting =
          "SELECT count(*) FROM scan WHERE at + interval '20 seconds' > " + text(latest);
      assertThat(List.of("" + db.state("v_recent").keys()))
          .as("rows that are still to leave, and no others")
          .isEqualTo(Answers.theirs(oracle, waiting));
    }
  }

  private static String text(LocalDateTime time) {
    return "TIMESTAMP '" + SECONDS.format(time) + "'";
  }

  private static List<String> changes(Random random, LocalDateTime now) {
    List<String> changes = new ArrayList<>();
    for (int n = 1 + random.nextInt(4); n > 0; n--) {
      LocalDateTime at = now.plusSeconds(random.nextInt(60) - 45);
      String when = random.nextInt(12) == 0 ? "NULL" : text(at);
      int id = random.nextInt(60);
      String gate = "G" + random.nextInt(4);
      switch (random.nextInt(6)) {
        case 0 -> changes.add("UPDATE scan SET at = " + when + " WHERE id = " + id);
        case 1 -> changes.add("UPDATE scan SET grams = grams + 7 WHERE gate = '" + gate + "'");
        case 2 -> {
          changes.add("DELETE FROM gate WHERE gate = '" + gate + "'");
          changes.add(
              "INSERT INTO gate VALUES ('%s', 'H%d', %s)".formatted(gate, random.nextInt(2), when));
        }
        default -> {
          changes.add("DELETE FROM scan WHERE id = " + id);
          changes.add(
              "INSERT INTO scan VALUES (%d, '%s', %s, %d)"
                  .formatted(id, gate, when, random.nextInt(1000)));
        }
      }
    }
    return changes;
  }

  @Test
  void rowsLeaveByThemselvesAndFollowersAreTold() throws Exception {
    try (TestEngine db = new TestEngine()) {
      db.run("CREATE STREAM scan (parcel BIGINT, at TIMESTAMP, EVENT TIME at)");
      String recent = "SELECT parcel FROM scan WHERE at > CURRENT_TIMESTAMP - INTERVAL '5' MINUTE";
      db.run("CREATE MATERIALIZED VIEW last_five_minutes AS " + recent);
      LocalDateTime start = LocalDateTime.parse("2026-03-02T06:00:00");
      db.push("scan", new Object[] {1L, start}, new Object[] {2L, start.minusMinutes(6)});
      assertThat(Answers.ours(db, "SELECT * FROM last_five_minutes")).containsExactly("1");
      Subscription followed = db.engine.follow("FOLLOW " + recent, Map.of());
      assertThat(changes(followed)).containsExactly("1 [1]");
      db.clock(start.plusMinutes(5).minusSeconds(1).toInstant(ZoneOffset.UTC));
      db.push("scan");
      assertThat(Answers.ours(db, "SELECT * FROM last_five_minutes")).containsExactly("1");
      db.clock(start.plusMinutes(5).toInstant(ZoneOffset.UTC));
      assertThat(changes(followed)).containsExactly("-1 [1]"); // nothing has come meanwhile
      assertThat(Answers.ours(db, "SELECT * FROM last_five_minutes")).isEmpty();
      assertThat(db.state("last_five_minutes").keys()).isZero();
      assertThat(db.rows("EXPLAIN last_five_minutes").toString())
          .contains("follow the current time past at + INTERVAL '5' MINUTE")
          .contains("rows until the current time has passed all of theirs");
    }
  }

  private static List<String> changes(Subscription followed) throws InterruptedException {
    return followed.poll(10_000).changes().stream()
        .map(c -> c.weight() + " " + Arrays.toString(c.row()))
        .toList();
  }

  @Test
  void whatHasNoSingleMomentIsRefusedWithAWayOut() {
    try (TestEngine db = new TestEngine()) {
      db.run("CREATE TABLE scan (id INTEGER PRIMARY KEY, at TIMESTAMP)");
      for (String column : List.of("CURRENT_TIMESTAMP", "CURRENT_TIMESTAMP - at", "CURRENT_DATE")) {
        assertThatThrownBy(
                () ->
                    db.run(
                        "CREATE MATERIALIZED VIEW v AS SELECT id, " + column + " AS x FROM scan"))
            .isInstanceOf(EngineException.class)
            .hasMessageContaining("now, the current time, in what is computed")
            .extracting(e -> ((EngineException) e).hint())
            .asString()
            .contains("at > CURRENT_TIMESTAMP - INTERVAL '5' MINUTE");
      }
      assertThatThrownBy(
              () ->
                  db.run(
                      "CREATE MATERIALIZED VIEW v AS SELECT id FROM scan WHERE at > CURRENT_TIMESTAMP"
                          + " - INTERVAL '1' MONTH"))
          .hasMessageContaining("an interval of months");
    }
  }
}
