package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.List;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.CsvSource;

/** MATCH_RECOGNIZE by worked examples: over a table that changes, and over a stream. */
class PatternTest {
  /** Prices of one day after another that fall and rise: the standard's own kind of example. */
  private static TestEngine weights() {
    TestEngine db = new TestEngine();
    db.run("CREATE TABLE weight (belt VARCHAR, day INTEGER, w INTEGER, PRIMARY KEY (belt, day))");
    int[] b1 = {60, 40, 30, 35, 50, 45, 20, 25};
    int[] b2 = {10, 20, 15, 30};
    for (int i = 0; i < b1.length; i++) {
      db.run("INSERT INTO weight VALUES ('B1', %d, %d)".formatted(i + 1, b1[i]));
    }
    for (int i = 0; i < b2.length; i++) {
      db.run("INSERT INTO weight VALUES ('B2', %d, %d)".formatted(i + 1, b2[i]));
    }
    return db;
  }

  private static String query(String rest) {
    return "SELECT * FROM weight MATCH_RECOGNIZE (PARTITION BY belt ORDER BY day "
        + rest
        + ") AS m";
  }

  private static final String DIP =
      "PATTERN (top down+ up+) DEFINE down AS down.w < PREV(down.w), up AS up.w > PREV(up.w)";

  @Test
  void aDipIsFoundOnceForEachFall() {
    try (TestEngine db = weights()) {
      String dips =
          query(
              "MEASURES top.day AS from_day, LAST(down.day) AS low_day, LAST(up.day) AS to_day,"
                  + " MATCH_NUMBER() AS n, COUNT(*) AS days, MIN(w) AS low, AVG(up.w) AS mean,"
                  + " CLASSIFIER() AS last ONE ROW PER MATCH AFTER MATCH SKIP TO LAST up "
                  + DIP);
      List<String> expected =
          List.of(
              "[B1, 1, 3, 5, 1, 5, 30, 42.5000000000000000, up]",
              "[B1, 5, 7, 8, 2, 4, 20, 25.0000000000000000, up]",
              "[B2, 2, 3, 4, 1, 3, 15, 30.0000000000000000, up]");
      assertThat(db.rows(dips + " ORDER BY belt, n")).isEqualTo(expected);
      db.run("CREATE MATERIALIZED VIEW dips AS " + dips);
      assertThat(db.rows("SELECT * FROM dips ORDER BY belt, n")).isEqualTo(expected);
      db.run("DELETE FROM weight WHERE belt = 'B1' AND day = 5");
      db.run("UPDATE weight SET w = 12 WHERE belt = 'B2' AND day = 2");
      assertThat(db.rows("SELECT * FROM dips ORDER BY belt, n"))
          .isEqualTo(db.rows(dips + " ORDER BY belt, n"))
          .containsExactly(
              "[B1, 1, 3, 6, 1, 5, 30, 40.0000000000000000, up]",
              "[B1, 6, 7, 8, 2, 3, 20, 25.0000000000000000, up]");
      db.checkpoint();
      db.run("DELETE FROM weight WHERE belt = 'B1' AND day < 3");
      db.crash();
      db.run("INSERT INTO weight VALUES ('B2', 5, 1)");
      assertThat(db.rows("SELECT * FROM dips ORDER BY belt, n"))
          .isEqualTo(db.rows(dips + " ORDER BY belt, n"));
    }
  }

  @Test
  void allRowsOfAMatchRunningAndFinal() {
    try (TestEngine db = weights()) {
      assertThat(
              db.rows(
                  query(
                          "MEASURES CLASSIFIER() AS c, COUNT(*) AS n, FINAL COUNT(*) AS of,"
                              + " SUM(down.w) AS fallen, FINAL LAST(up.w) AS end_w ALL ROWS PER MATCH "
                              + DIP)
                      + " WHERE belt = 'B2' ORDER BY day"))
          .containsExactly(
              "[B2, 2, 20, top, 1, 3, null, 30]",
              "[B2, 3, 15, down, 2, 3, 15, 30]",
              "[B2, 4, 30, up, 3, 3, 15, 30]");
      assertThat(
              db.rows(
                  query(
                          "MEASURES CLASSIFIER() AS c ALL ROWS PER MATCH AFTER MATCH SKIP PAST LAST ROW"
                              + " PATTERN (top {- down+ -} up+) DEFINE down AS w < PREV(w), up AS w > PREV(w)")
                      + " WHERE belt = 'B1' ORDER BY day"))
          .containsExactly(
              "[B1, 1, 60, top]",
              "[B1, 4, 35, up]",
              "[B1, 5, 50, up]",
              "[B1, 6, 45, top]",
              "[B1, 8, 25, up]");
    }
  }

  @Test
  void quantifiersAlternativesOrdersAndSkips() {
    try (TestEngine db = weights()) {
      String days = "MEASURES FIRST(day) AS a, LAST(day) AS z ONE ROW PER MATCH ";
      String b1 = " WHERE belt = 'B1' ORDER BY a, z";
      assertThat(db.rows(query(days + "PATTERN (a{3}) DEFINE a AS w > 30") + b1))
          .as("reluctant to begin, never overlapping unless it is asked for")
          .containsExactly("[B1, 4, 6]");
      assertThat(
              db.rows(
                  query(days + "AFTER MATCH SKIP TO NEXT ROW PATTERN (a b?) DEFINE b AS w < 30")
                      + b1))
          .containsExactly(
              "[B1, 1, 1]",
              "[B1, 2, 2]",
              "[B1, 3, 3]",
              "[B1, 4, 4]",
              "[B1, 5, 5]",
              "[B1, 6, 7]",
              "[B1, 7, 8]",
              "[B1, 8, 8]");
      assertThat(db.rows(query(days + "PATTERN (a b*? c) DEFINE c AS w < 50") + b1))
          .containsExactly("[B1, 1, 2]", "[B1, 3, 4]", "[B1, 5, 6]", "[B1, 7, 8]");
      assertThat(db.rows(query(days + "PATTERN (a b* c) DEFINE c AS w < 50") + b1))
          .containsExactly("[B1, 1, 8]");
      assertThat(
              db.rows(
                  query(
                          "MEASURES h.day AS h, l.day AS l, m.day AS m ONE ROW PER MATCH PATTERN"
                              + " (PERMUTE(h, l, m)) DEFINE h AS w >= 50, l AS w <= 25, m AS w BETWEEN 40 AND 49")
                      + " WHERE belt = 'B1'"))
          .containsExactly("[B1, 5, 7, 6]");
      assertThat(db.rows(query(days + "PATTERN (^ a b $) DEFINE b AS w > 10")))
          .as("both rows of a partition: there is none of two")
          .isEmpty();
      assertThat(db.rows(query(days + "PATTERN (a+? $) DEFINE a AS w > 14") + " ORDER BY belt"))
          .containsExactly("[B1, 1, 8]", "[B2, 2, 4]");
      assertThat(
              db.rows(
                  query(
                          "MEASURES SUM(x.w) AS s, COUNT(x.w) AS n ONE ROW PER MATCH PATTERN (a b+ c) SUBSET x ="
                              + " (a, c) DEFINE b AS b.w < FIRST(x.w), c AS c.w + LAST(b.w, 1) > 60")
                      + " ORDER BY belt"))
          .containsExactly("[B1, 85, 2]");
    }
  }

  /** Two patterns of one query that differ in one clause alone are two. */
  @ParameterizedTest
  @CsvSource(
      delimiter = '|',
      value = {
        "PARTITION BY belt ORDER BY day | ORDER BY day |",
        "ORDER BY belt, day | ORDER BY belt, day DESC |",
        "PARTITION BY belt ORDER BY day | PARTITION BY belt ORDER BY day | ^",
      })
  void patternsThatDifferInOneClauseAreTwo(String one, String other, String anchor) {
    try (TestEngine db = weights()) {
      String query =
          "SELECT d FROM weight MATCH_RECOGNIZE (%s MEASURES LAST(day) AS d PATTERN (%s a b) DEFINE b AS"
              + " b.w < PREV(b.w)) AS m";
      String first = query.formatted(one, "");
      String second = query.formatted(other, anchor == null ? "" : anchor);
      List<String> apart = new ArrayList<>(db.rows(first));
      assertThat(db.rows(second)).isNotEqualTo(apart);
      apart.addAll(db.rows(second));
      assertThat(db.rows(first + " UNION ALL " + second))
          .containsExactlyInAnyOrderElementsOf(apart);
    }
  }

  @Test
  void aConditionThatCannotBeComputedIsNotMetAndIsTold() {
    try (TestEngine db = weights()) {
      db.run("UPDATE weight SET w = 0 WHERE belt = 'B1' AND day = 4");
      db.run(
          "CREATE MATERIALIZED VIEW v AS "
              + query("MEASURES a.day AS d ONE ROW PER MATCH PATTERN (a) DEFINE a AS 100 / w > 2"));
      assertThat(db.rows("SELECT * FROM v WHERE belt = 'B1'")).hasSize(3);
      assertThat(db.state("v").rejects()).isEqualTo(1);
      db.run("UPDATE weight SET w = 1 WHERE belt = 'B1' AND day = 4");
      assertThat(db.state("v").rejects()).isZero();
      assertThat(db.rows("SELECT * FROM v WHERE belt = 'B1'")).hasSize(4);
    }
  }

  // ---- streams

  private static Object[] scan(int second, String parcel, String gate) {
    LocalDateTime at = LocalDateTime.parse("2026-03-02T06:00:00").plusSeconds(second);
    return new Object[] {parcel, gate, at};
  }

  private static final String CIRCLING =
      "SELECT * FROM scan MATCH_RECOGNIZE (PARTITION BY parcel ORDER BY at MEASURES FIRST(a.gate) AS"
          + " gate, FIRST(a.at) AS since, LAST(b.at) AS until ONE ROW PER MATCH AFTER MATCH SKIP PAST"
          + " LAST ROW PATTERN (a b{2}) WITHIN INTERVAL '10' MINUTE DEFINE b AS b.gate = a.gate) AS m";

  private static TestEngine scans() {
    TestEngine db = new TestEngine();
    db.run(
        "CREATE STREAM scan (parcel VARCHAR, gate VARCHAR, at TIMESTAMP, EVENT TIME at LATENESS INTERVAL '30' SECOND)");
    return db;
  }

  @Test
  void matchesLeaveWhenTheyHaveBeenKeptLongEnough() {
    try (TestEngine db = scans()) {
      String view = "CREATE MATERIALIZED VIEW circling OPTIONS (keep '1 hour') AS " + CIRCLING;
      db.run(view);
      assertThat(db.rows("EXPLAIN circling").get(0))
          .contains("taken out when the watermark has passed since and 1 hour 10 minutes more");
      db.run("CREATE MATERIALIZED VIEW total AS SELECT COUNT(*) AS n FROM circling");
      db.push("scan", scan(0, "p1", "G1"), scan(60, "p1", "G1"), scan(120, "p1", "G1"));
      db.push("scan", scan(160, "p2", "G1"));
      assertThat(db.rows("SELECT * FROM total")).as("at once").containsExactly("[1]");
      db.checkpoint();
      db.push("scan", scan(4000, "p2", "G1"));
      db.crash();
      assertThat(db.rows("SELECT * FROM total")).containsExactly("[1]");
      db.push("scan", scan(4200 + 31, "p2", "G1"));
      assertThat(db.rows("SELECT * FROM total")).as("70 minutes later").containsExactly("[0]");
      assertThat(db.rows("SELECT * FROM circling")).isEmpty();
    }
  }

  /** What comes twice is left out, with the last row of each parcel kept and no other. */
  @Test
  void aRowIsKeptIfItDiffersFromTheOneBeforeIt() {
    try (TestEngine db = scans()) {
      db.run(
          "CREATE MATERIALIZED VIEW moves AS SELECT parcel, gate, at FROM scan MATCH_RECOGNIZE (PARTITION BY"
              + " parcel ORDER BY at MEASURES news.gate AS gate, news.at AS at PATTERN (news) DEFINE news AS"
              + " PREV(news.gate) IS NULL OR news.gate <> PREV(news.gate)) AS m");
      assertThat(db.rows("EXPLAIN moves").toString()).contains("1 rows of each parcel: no bound");
      for (int second = 0; second < 400; second++) {
        db.push("scan", scan(second, "p" + second % 2, "G" + second / 100));
      }
      assertThat(db.rows("SELECT parcel, gate FROM moves WHERE parcel = 'p1' ORDER BY at"))
          .containsExactly("[p1, G0]", "[p1, G1]", "[p1, G2]", "[p1, G3]");
      assertThat(db.state("moves").keys()).as("two, and what is still to come").isLessThan(40);
    }
  }

  @Test
  void aMatchIsPutOutOnceItsRowsAreSettled() {
    try (TestEngine db = scans()) {
      db.run("CREATE MATERIALIZED VIEW circling AS " + CIRCLING);
      db.push("scan", scan(80, "p1", "G1"), scan(55, "p1", "G2"), scan(60, "p1", "G1"));
      db.push("scan", scan(100, "p1", "G1"), scan(95, "p2", "G1"));
      assertThat(db.rows("SELECT * FROM circling")).as("watermark 06:01:10").isEmpty();
      db.push("scan", scan(131, "p2", "G3"));
      assertThat(db.rows("SELECT * FROM circling"))
          .containsExactly("[p1, G1, 2026-03-02T06:01, 2026-03-02T06:01:40]");
      assertThat(db.rows(CIRCLING)).as("asked once").isEqualTo(db.rows("SELECT * FROM circling"));
      db.checkpoint();
      db.push("scan", scan(700, "p3", "G1"));
      db.crash();
      db.push("scan", scan(1000, "p3", "G1"), scan(1299, "p3", "G1"), scan(1400, "p4", "G1"));
      assertThat(db.rows("SELECT parcel FROM circling ORDER BY 1")).containsExactly("[p1]", "[p3]");
      db.push("scan", scan(5000, "p5", "G1"));
      assertThat(db.state("circling").keys())
          .as("nothing is kept of what can be in no match any more")
          .isLessThanOrEqualTo(2);
    }
  }

  @ParameterizedTest
  @CsvSource(
      delimiter = '|',
      quoteCharacter = '"',
      value = {
        "ORDER BY at PATTERN (a{3,1}) DEFINE a AS true | asked for {3,1} times",
        "PATTERN (a) DEFINE a AS true | rows in an order",
        "ORDER BY at PATTERN (a{30000}) DEFINE a AS true | asked for 30000 times",
        "ORDER BY at PATTERN ((a{500} a){100}) DEFINE a AS true | the pattern is too large",
        "ORDER BY at PATTERN (PERMUTE(a, b, c, d, e, f, g)) DEFINE a AS true | PERMUTE of 7",
        "ORDER BY at PATTERN (^ a) DEFINE a AS true | no meaning in a stream",
        "ORDER BY at PATTERN (a) WITHIN INTERVAL '1' MONTH DEFINE a AS true | days or less",
        "ORDER BY at PATTERN (a) SUBSET u = (a, z) DEFINE a AS true | no variable",
        "ORDER BY at AFTER MATCH SKIP TO z PATTERN (a) DEFINE a AS true | unknown pattern",
        "ORDER BY at MEASURES STRING_AGG(a.gate) AS g PATTERN (a) DEFINE a AS true | STRING_AGG of the rows",
        "ORDER BY at MEASURES a.nope AS g PATTERN (a) DEFINE a AS true | no column",
      })
  void errors(String pattern, String expected) {
    try (TestEngine db = scans()) {
      String query = "SELECT * FROM scan MATCH_RECOGNIZE (" + pattern + ") AS m";
      assertThat(db.error("CREATE MATERIALIZED VIEW v AS " + query)).hasMessageContaining(expected);
    }
  }
}
