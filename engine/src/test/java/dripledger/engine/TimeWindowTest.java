package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.math.BigInteger;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.Collections;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.CsvSource;

/** Windows of event time: what is settled when, what is late, and what is said of it. */
class TimeWindowTest {
  private static final String TUMBLE =
      "TABLE(TUMBLE(TABLE scan, DESCRIPTOR(at), INTERVAL '1' MINUTE))";
  private static final String COUNTS =
      "SELECT window_end, gate, COUNT(*) AS n FROM " + TUMBLE + " GROUP BY window_end, gate";

  private static Object[] scan(int second, String gate) {
    LocalDateTime at = LocalDateTime.parse("2026-03-02T06:00:00").plusSeconds(second);
    return new Object[] {gate, at};
  }

  private static TestEngine db() {
    TestEngine db = new TestEngine();
    db.run(
        "CREATE STREAM scan (gate VARCHAR, at TIMESTAMP, EVENT TIME at LATENESS INTERVAL '30' SECOND)");
    return db;
  }

  @Test
  void aWindowIsSettledWhenTheWatermarkHasReachedItsEnd() {
    try (TestEngine db = db()) {
      db.run("CREATE MATERIALIZED VIEW v OPTIONS (rows 'settled') AS " + COUNTS);
      db.push("scan", scan(0, "G1"), scan(59, "G1"), scan(89, "G2"));
      assertThat(db.rows("SELECT * FROM v")).as("watermark 06:00:59").isEmpty();
      db.push("scan", scan(30, "G2")); // still in time
      db.push("scan", scan(90, "G2"));
      assertThat(db.rows("SELECT * FROM v ORDER BY gate"))
          .containsExactly("[2026-03-02T06:01, G1, 2]", "[2026-03-02T06:01, G2, 1]");
      db.push("scan", scan(59, "G3"));
      assertThat(db.rows("SELECT * FROM v")).hasSize(2);
      assertThat(db.state("v").late()).isEqualTo(1);
      assertThat(db.state("v").keys()).as("the window is gone from the state").isEqualTo(1);
    }
  }

  @Test
  void settledRowsAreShownEarlyEverySoOften() {
    try (TestEngine db = db()) {
      String early = " OPTIONS (rows 'settled', early 'every 10 seconds') AS ";
      db.run("CREATE TABLE turn (number INTEGER PRIMARY KEY)");
      db.run("CREATE MATERIALIZED VIEW v" + early + COUNTS);
      db.push("scan", scan(0, "G1"), scan(10, "G1"));
      assertThat(db.rows("SELECT n FROM v")).isEmpty();
      db.clock(TestEngine.CLOCK.instant().plusSeconds(10));
      db.run("INSERT INTO turn VALUES (1)");
      assertThat(db.rows("SELECT n FROM v")).containsExactly("[2]");
      db.push("scan", scan(20, "G1"));
      assertThat(db.rows("SELECT n FROM v")).containsExactly("[2]");
      db.checkpoint();
      db.crash();
      assertThat(db.rows("SELECT n FROM v")).containsExactly("[2]");
      db.push("scan", scan(30, "G1"));
      assertThat(db.rows("SELECT n FROM v")).containsExactly("[2]");
      db.clock(TestEngine.CLOCK.instant().plusSeconds(20));
      db.crash();
      assertThat(db.rows("SELECT n FROM v")).containsExactly("[4]");
      db.push("scan", scan(59, "G1"), scan(90, "G2")); // settled
      assertThat(db.rows("SELECT n FROM v")).containsExactly("[5]");
      db.push("scan", scan(40, "G1"));
      db.clock(TestEngine.CLOCK.instant().plusSeconds(30));
      db.run("INSERT INTO turn VALUES (2)");
      assertThat(db.rows("SELECT gate, n FROM v ORDER BY gate"))
          .containsExactly("[G1, 5]", "[G2, 1]");
      assertThat(db.rows("EXPLAIN v").get(0))
          .contains("put out every 10 seconds, and when the watermark has reached window_end");
      assertThat(
              db.error("CREATE MATERIALIZED VIEW w OPTIONS (early 'every 1 second') AS " + COUNTS))
          .hasMessage("early is for rows 'settled'");
    }
  }

  /** Sums that do not fit a word, of values of both signs, though they are added up by slices. */
  @Test
  void sumsOfSlicesAreExact() {
    try (TestEngine db = new TestEngine()) {
      db.run("CREATE STREAM weighed (v BIGINT, at TIMESTAMP, EVENT TIME at)");
      String sums =
          " AS SELECT window_end, SUM(v) AS s, COUNT(v) AS n FROM TABLE(HOP(TABLE weighed, DESCRIPTOR(at),"
              + " INTERVAL '1' SECOND, INTERVAL '10' SECOND)) GROUP BY window_end";
      db.run("CREATE MATERIALIZED VIEW now" + sums);
      db.run("CREATE MATERIALIZED VIEW ended OPTIONS (rows 'settled')" + sums);
      assertThat(db.rows("EXPLAIN now").toString()).contains("slices of 1 second");
      Long[] values = {
        Long.MAX_VALUE, Long.MAX_VALUE, -1L, Long.MIN_VALUE, -(1L << 32), (1L << 32) - 1, -7L, null
      };
      BigInteger sum = BigInteger.ZERO;
      LocalDateTime at = LocalDateTime.parse("2026-03-02T06:00:05");
      for (int i = 0; i < values.length; i++) {
        db.push("weighed", new Object[] {values[i], at.plusNanos(300_000_000L * i)});
        sum = values[i] == null ? sum : sum.add(BigInteger.valueOf(values[i]));
      }
      db.push("weighed", new Object[] {null, at.plusSeconds(60)});
      String row = "[2026-03-02T06:00:10, " + sum + ", 7]";
      assertThat(sum.signum()).isPositive();
      String ofThatEnd = " WHERE window_end = TIMESTAMP '2026-03-02 06:00:10'";
      assertThat(db.rows("SELECT * FROM now" + ofThatEnd)).containsExactly(row);
      assertThat(db.rows("SELECT * FROM ended" + ofThatEnd)).containsExactly(row);
      assertThat(db.rows("SELECT s, n FROM now WHERE window_end > TIMESTAMP '2026-03-02 06:01:00'"))
          .as("of no value")
          .isNotEmpty()
          .allMatch("[null, 0]"::equals);
    }
  }

  @Test
  void aPartitionThatIsBehindIsWaitedForAndItsRowsAreNotLate() {
    try (TestEngine db = db()) {
      db.run("CREATE MATERIALIZED VIEW v OPTIONS (rows 'settled') AS " + COUNTS);
      db.pushFrom("scan", 1, scan(5, "G1"));
      db.pushFrom("scan", 0, scan(0, "G0"), scan(500, "G0"));
      db.pushFrom("scan", 1, scan(10, "G1"));
      assertThat(db.rows("SELECT * FROM v")).isEmpty();
      assertThat(db.state("v").late()).isZero();
      db.pushFrom("scan", 1, scan(100, "G1"));
      assertThat(db.rows("SELECT * FROM v ORDER BY gate"))
          .containsExactly("[2026-03-02T06:01, G0, 1]", "[2026-03-02T06:01, G1, 2]");
    }
  }

  /** Events that all come within the lateness, in any order, in any batches and partitions. */
  @ParameterizedTest
  @CsvSource({"1, 1", "2, 1", "3, 2", "4, 4"})
  void theOrderInWhichEventsArriveMakesNoDifference(int partitions, int workers) {
    List<String> first = null;
    for (long seed = 0; seed < 25; seed++) {
      Random random = new Random(seed);
      try (TestEngine db = new TestEngine(TestEngine.records(), noConnectors(), workers)) {
        db.run(
            "CREATE STREAM scan (gate VARCHAR, at TIMESTAMP, EVENT TIME at LATENESS INTERVAL '30'"
                + " SECOND)");
        db.run("CREATE MATERIALIZED VIEW v OPTIONS (rows 'settled') AS " + COUNTS);
        db.run(
            "CREATE MATERIALIZED VIEW h OPTIONS (rows 'settled') AS SELECT window_start, COUNT(*) AS"
                + " n FROM TABLE(HOP(TABLE scan, DESCRIPTOR(at), INTERVAL '20' SECOND, INTERVAL '1'"
                + " MINUTE)) GROUP BY window_start, window_end");
        run(db, random, partitions);
        List<String> rows = new ArrayList<>(db.rows("SELECT * FROM v ORDER BY 1, 2"));
        rows.addAll(db.rows("SELECT * FROM h ORDER BY 1"));
        assertThat(db.state("v").late()).isZero();
        assertThat(rows).as("seed %d", seed).hasSizeGreaterThan(30);
        first = first == null ? rows : first;
        assertThat(rows).as("seed %d", seed).isEqualTo(first);
      }
    }
  }

  private static dripledger.engine.source.Connectors noConnectors() {
    return dripledger.engine.source.Connectors.NONE;
  }

  private static void run(TestEngine db, Random random, int partitions) {
    for (int p = 0; p < partitions; p++) {
      db.pushFrom("scan", p, scan(0, "G0"));
    }
    List<List<Object[]>> waiting = new ArrayList<>();
    for (int p = 0; p < partitions; p++) {
      waiting.add(new ArrayList<>());
    }
    for (int block = 0; block < 20; block++) { // each is 30 seconds, shuffled within
      List<Object[]> events = new ArrayList<>();
      for (int i = 0; i < 12; i++) {
        events.add(scan(block * 30 + i * 2, "G" + i % 3));
      }
      Collections.shuffle(events, random);
      for (Object[] event : events) {
        waiting.get(random.nextInt(partitions)).add(event);
      }
      for (int p = 0; p < partitions; p++) {
        List<Object[]> own = waiting.get(p);
        while (!own.isEmpty() && random.nextInt(6) > 0) {
          int n = 1 + random.nextInt(own.size());
          db.pushFrom("scan", p, own.subList(0, n).toArray(Object[][]::new));
          own.subList(0, n).clear();
        }
      }
      if (random.nextInt(6) == 0) {
        db.checkpoint();
      }
      if (random.nextInt(12) == 0) {
        db.crash();
      }
    }
    for (int p = 0; p < partitions; p++) {
      List<Object[]> own = waiting.get(p);
      own.add(scan(10_000, "G9"));
      db.pushFrom("scan", p, own.toArray(Object[][]::new));
    }
    // the rows counted once for each partition that said it was there
    assertThat(db.value("SELECT COUNT(*) FROM scan")).isEqualTo(240L + 2L * partitions);
  }

  @Test
  void aViewMadeLaterJudgesEveryEventAsItWasJudgedWhenItCame() {
    try (TestEngine db = db()) {
      db.run("CREATE MATERIALIZED VIEW early AS " + COUNTS);
      db.pushFrom("scan", 1, scan(0, "G1"));
      db.pushFrom("scan", 0, scan(0, "G0"), scan(200, "G0"), scan(10, "G0"), scan(130, "G0"));
      db.pushFrom("scan", 1, scan(20, "G1"), scan(95, "G1"), scan(50, "G1"));
      db.run("CREATE MATERIALIZED VIEW later AS " + COUNTS);
      db.run("CREATE MATERIALIZED VIEW settled OPTIONS (rows 'settled') AS " + COUNTS);
      List<String> rows = db.rows("SELECT * FROM early ORDER BY 1, 2");
      assertThat(rows)
          .containsExactly(
              "[2026-03-02T06:01, G0, 1]",
              "[2026-03-02T06:01, G1, 2]",
              "[2026-03-02T06:02, G1, 1]",
              "[2026-03-02T06:03, G0, 1]",
              "[2026-03-02T06:04, G0, 1]");
      assertThat(db.rows("SELECT * FROM later ORDER BY 1, 2")).isEqualTo(rows);
      assertThat(db.rows(COUNTS + " ORDER BY 1, 2")).isEqualTo(rows);
      assertThat(db.state("later").late()).isEqualTo(2).isEqualTo(db.state("early").late());
      assertThat(db.rows("SELECT * FROM settled ORDER BY 1, 2")).isEqualTo(rows.subList(0, 2));
    }
  }

  @Test
  void windowsOverAViewOfAStreamJudgeAsOverTheStream() {
    try (TestEngine db = db()) {
      db.run("CREATE MATERIALIZED VIEW known AS SELECT at, gate FROM scan WHERE gate <> 'G9'");
      String counts = COUNTS.replace("TABLE scan", "TABLE known");
      db.run("CREATE MATERIALIZED VIEW early AS " + counts);
      db.push("scan", scan(0, "G0"), scan(300, "G0"), scan(301, "G9"), scan(1, "G0"));
      db.run("CREATE MATERIALIZED VIEW later AS " + counts);
      List<String> rows = List.of("[2026-03-02T06:01, G0, 1]", "[2026-03-02T06:06, G0, 1]");
      assertThat(db.rows("SELECT * FROM early ORDER BY 1")).isEqualTo(rows);
      assertThat(db.rows("SELECT * FROM later ORDER BY 1")).isEqualTo(rows);
      assertThat(db.state("later").late()).isEqualTo(1);
      assertThat(db.error("DROP MATERIALIZED VIEW known")).hasMessageContaining("early");
    }
  }

  @Test
  void windowsOfWindowsWaitForTheWindowsThatTheyAreOf() {
    try (TestEngine db = db()) {
      db.run(
          "CREATE MATERIALIZED VIEW minutes AS SELECT window_start AS minute, COUNT(*) AS n FROM "
              + TUMBLE
              + " GROUP BY window_start");
      db.run(
          "CREATE MATERIALIZED VIEW alone AS SELECT gate, window_start AS minute FROM " + TUMBLE);
      for (String options : List.of("", " OPTIONS (rows 'settled')")) {
        String name = options.isEmpty() ? "now" : "done";
        db.run(
            "CREATE MATERIALIZED VIEW fives_"
                + name
                + options
                + " AS SELECT window_end, SUM(n) AS n"
                + " FROM TABLE(TUMBLE(TABLE minutes, DESCRIPTOR(minute), INTERVAL '5' MINUTE))"
                + " GROUP BY window_end");
        db.run(
            "CREATE MATERIALIZED VIEW halves_"
                + name
                + options
                + " AS SELECT window_end, COUNT(*) AS n"
                + " FROM TABLE(TUMBLE(TABLE alone, DESCRIPTOR(minute), INTERVAL '30' SECOND))"
                + " GROUP BY window_end");
      }
      db.push("scan", scan(0, "G1"), scan(70, "G1"), scan(299, "G1"), scan(389, "G1"));
      db.push("scan", scan(300, "G1")); // the watermark is at 05:59
      assertThat(db.rows("SELECT * FROM fives_now ORDER BY 1"))
          .containsExactly("[2026-03-02T06:05, 3]", "[2026-03-02T06:10, 2]");
      assertThat(db.rows("SELECT * FROM halves_now ORDER BY 1"))
          .contains("[2026-03-02T06:05:30, 1]", "[2026-03-02T06:06:30, 1]");
      assertThat(db.rows("SELECT * FROM fives_done")).isEmpty();
      db.push("scan", scan(390, "G1")); // and now at 06:00, where the minute from 05:00 on ends
      assertThat(db.rows("SELECT * FROM fives_done")).containsExactly("[2026-03-02T06:05, 3]");
      assertThat(db.rows("SELECT * FROM halves_done ORDER BY 1"))
          .containsExactly(
              "[2026-03-02T06:00:30, 1]", "[2026-03-02T06:01:30, 1]", "[2026-03-02T06:04:30, 1]");
    }
  }

  @Test
  void eachStepSaysHowFarTimeHasComeAndWhatWaitsForIt() {
    try (TestEngine db = db()) {
      db.run(
          "CREATE STREAM van (name VARCHAR, at TIMESTAMP, EVENT TIME at LATENESS INTERVAL '1' MINUTE)");
      db.run("CREATE MATERIALIZED VIEW counts OPTIONS (rows 'settled') AS " + COUNTS);
      db.run(
          "CREATE MATERIALIZED VIEW met OPTIONS (rows 'settled') AS SELECT s.gate, s.at FROM scan s JOIN van v"
              + " ON v.name = s.gate AND v.at BETWEEN s.at AND s.at + INTERVAL '1' MINUTE");
      db.run(
          "CREATE MATERIALIZED VIEW all_scans AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
      db.push("scan", scan(100, "G1"), scan(95, "G2"));
      db.push("van", scan(90, "G1"));
      db.push("scan", scan(99, "G1"));
      assertThat(
              db.rows(
                  "SELECT name, step, watermark, highest_at, waiting FROM drip.watermarks ORDER BY name, step"))
          .containsExactly(
              "[counts, aggregate COUNT(*) by window_end, gate, put out when they end,"
                  + " 2026-03-02T06:01:10, 2026-03-02T06:01:40, 2]",
              "[met, join on gate = name AND at >= at AND at <= at + INTERVAL '1' MINUTE,"
                  + " 2026-03-02T06:00:30, 2026-03-02T06:01:40, 4]",
              "[met, put out when the watermark has passed at and 1 minute more,"
                  + " 2026-03-02T06:00:30, 2026-03-02T06:01:40, 0]",
              "[scan, read, 2026-03-02T06:01:10, 2026-03-02T06:01:40, null]",
              "[van, read, 2026-03-02T06:00:30, 2026-03-02T06:01:30, null]");
      db.clock(TestEngine.CLOCK.instant().plusSeconds(100));
      assertThat(db.rows("SELECT seconds_behind FROM drip.watermarks WHERE name = 'van'"))
          .containsExactly("[70]");
    }
  }

  @Test
  void whatIsLateIsCountedAcrossCrashes() {
    try (TestEngine db = db()) {
      db.run("CREATE MATERIALIZED VIEW v AS " + COUNTS);
      db.push("scan", scan(300, "G1"), scan(0, "G1"));
      db.checkpoint();
      db.push("scan", scan(1, "G1"));
      db.crash();
      db.push("scan", scan(2, "G1"), scan(280, "G1"));
      assertThat(db.state("v").late()).isEqualTo(3);
      assertThat(String.join("\n", db.rows("EXPLAIN ANALYZE v")))
          .as("how much more lateness would have taken in how many")
          .contains("by at, without late rows, none, , 0, 0, 3 by 10 minutes]");
      assertThat(db.rows("SELECT gate, n FROM v ORDER BY window_end"))
          .containsExactly("[G1, 1]", "[G1, 1]");
    }
  }

  @Test
  void rowsLeaveWhenTheyHaveBeenKeptLongEnough() {
    try (TestEngine db = db()) {
      db.run("CREATE MATERIALIZED VIEW v OPTIONS (keep '2 minutes') AS " + COUNTS);
      db.run("CREATE MATERIALIZED VIEW total AS SELECT COUNT(*) AS windows, SUM(n) AS n FROM v");
      for (int minute = 0; minute < 10; minute++) {
        db.push("scan", scan(60 * minute, "G1"), scan(60 * minute + 31, "G1"));
      }
      assertThat(db.rows("SELECT window_end, n FROM v ORDER BY 1"))
          .containsExactly(
              "[2026-03-02T06:08, 2]", "[2026-03-02T06:09, 2]", "[2026-03-02T06:10, 2]");
      assertThat(db.rows("SELECT * FROM total")).containsExactly("[3, 6]");
      assertThat(db.state("v").keys()).isEqualTo(3);
    }
  }

  /** Groups that end leave an index on their counts, and late ones are not in it. */
  @Test
  void anIndexOnWhatIsCountedFollowsWindowsThatEnd() {
    try (TestEngine db = db()) {
      db.run(
          "CREATE MATERIALIZED VIEW v OPTIONS (keep '2 minutes') AS "
              + COUNTS
              + "; CREATE MATERIALIZED VIEW s OPTIONS (rows 'settled') AS "
              + COUNTS
              + "; CREATE INDEX ON v (n); CREATE INDEX ON s (n)");
      String most = "SELECT window_end, gate, n FROM v ORDER BY n DESC, window_end, gate LIMIT 2";
      for (int minute = 0; minute < 10; minute++) {
        for (int scan = 0; scan <= minute % 4; scan++) {
          db.push("scan", scan(60 * minute + scan, "G1"), scan(60 * minute + 30, "G2"));
        }
        for (String view : List.of("v", "s")) {
          String all = "SELECT * FROM (SELECT * FROM " + view + ") AS r";
          assertThat(db.rows("SELECT * FROM " + view + " WHERE n >= 2 ORDER BY window_end, gate"))
              .isEqualTo(db.rows(all + " WHERE n + 0 >= 2 ORDER BY window_end, gate"));
          assertThat(db.rows("SELECT n FROM " + view + " ORDER BY n DESC LIMIT 5"))
              .isEqualTo(db.rows("SELECT n FROM (" + all + ") AS q ORDER BY n + 0 DESC LIMIT 5"));
        }
      }
      assertThat(db.rows(most))
          .containsExactly("[2026-03-02T06:08, G1, 4]", "[2026-03-02T06:08, G2, 4]");
    }
  }

  @Test
  void windowsOfWhatIsNoStreamHaveNoWatermark() {
    try (TestEngine db = db()) {
      db.run("CREATE TABLE stop (id INTEGER PRIMARY KEY, at TIMESTAMP)");
      db.run(
          "CREATE MATERIALIZED VIEW v AS SELECT window_start, COUNT(*) AS n FROM"
              + " TABLE(TUMBLE(TABLE stop, DESCRIPTOR(at), INTERVAL '1' HOUR)) GROUP BY window_start");
      db.run("INSERT INTO stop VALUES (1, TIMESTAMP '2026-03-02 09:10:00')");
      db.run("INSERT INTO stop VALUES (2, TIMESTAMP '2026-03-02 06:10:00'), (3, NULL)");
      db.run("UPDATE stop SET at = TIMESTAMP '2026-03-02 06:59:59' WHERE id = 1");
      assertThat(db.rows("SELECT * FROM v")).containsExactly("[2026-03-02T06:00, 2]");
      assertThat(db.state("v").reasons()).containsExactly("\"at\" is NULL, so it is in no window");
    }
  }

  @Test
  void explainSaysWhatEndsAndWhen() {
    try (TestEngine db = db()) {
      db.run("CREATE MATERIALIZED VIEW v OPTIONS (rows 'settled') AS " + COUNTS);
      assertThat(String.join("\n", db.rows("EXPLAIN v")))
          .contains("by window_end, gate, put out when they end")
          .contains("groups until the watermark has reached window_end")
          .contains("windows of 1 minute by at, without late rows");
      db.run("CREATE MATERIALIZED VIEW k OPTIONS (keep '2 hours') AS " + COUNTS);
      assertThat(String.join("\n", db.rows("EXPLAIN k")))
          .contains("groups until the watermark has reached window_end and 2 hours more");
    }
  }

  @ParameterizedTest
  @CsvSource(
      delimiter = '|',
      value = {
        "TUMBLE(TABLE scan, DESCRIPTOR(at), 5) | TUMBLE takes",
        "TUMBLE(TABLE scan, DESCRIPTOR(nope), INTERVAL '5' MINUTE) | no column \"nope\"",
        "TUMBLE(TABLE scan, DESCRIPTOR(gate), INTERVAL '5' MINUTE) | is no TIMESTAMP",
        "TUMBLE(TABLE scan, DESCRIPTOR(at), INTERVAL '0' MINUTE) | longer than nothing",
        "TUMBLE(TABLE scan, DESCRIPTOR(at), INTERVAL '1' MONTH) | intervals of days or less",
        "HOP(TABLE scan, DESCRIPTOR(at), INTERVAL '5' MINUTE, INTERVAL '1' MINUTE) | leave gaps",
        "HOP(TABLE scan, DESCRIPTOR(at), INTERVAL '1' SECOND, INTERVAL '1' DAY) | 86400 windows",
        "GROW(TABLE scan, DESCRIPTOR(at), INTERVAL '4' SECOND, INTERVAL '10' SECOND) | no multiple of the step",
        "GROW(TABLE scan, DESCRIPTOR(at), INTERVAL '4' SECOND) | the step and the full size",
        "TUMBLE(TABLE scan, DESCRIPTOR(at)) | TUMBLE takes",
        "TUMBLE(TABLE nope, DESCRIPTOR(at), INTERVAL '5' MINUTE) | no stream, table or view \"nope\"",
      })
  void errors(String windows, String expected) {
    try (TestEngine db = db()) {
      assertThat(db.error("SELECT COUNT(*) FROM TABLE(" + windows + ")"))
          .hasMessageContaining(expected);
    }
  }

  @ParameterizedTest
  @CsvSource(
      delimiter = '|',
      quoteCharacter = '"',
      value = {
        "rows 'final' | SELECT gate FROM scan | rows are 'provisional' or 'settled', not 'final'",
        "colour 'red' | SELECT gate FROM scan | no option \"colour\" of a materialized view",
        "rows 'settled' | SELECT gate FROM scan | no column says when a row can no longer change",
        "rows 'settled' | SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate | no column says",
        "rows 'settled' | SELECT a.at FROM gate AS g LEFT JOIN scan AS a ON a.gate = g.gate | no column says",
        "keep '2 days' | SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate | keep is for rows",
        "keep 'soon' | SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate | keep 'soon' is not a time",
      })
  void optionsThatCannotBe(String options, String query, String expected) {
    try (TestEngine db = db()) {
      db.run("CREATE TABLE gate (gate VARCHAR PRIMARY KEY)");
      assertThat(
              db.error("CREATE MATERIALIZED VIEW v OPTIONS (" + options + ") AS " + query)
                  .getMessage())
          .contains(expected);
      assertThat(db.rows("SHOW VIEWS")).isEmpty();
    }
  }
}
