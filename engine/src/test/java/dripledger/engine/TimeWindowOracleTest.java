package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
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
 * Windows of event time against PostgreSQL, which is told of every event from which partition it
 * came and as which: at every epoch, over several partitions, with events out of order, late, twice
 * and without a time, and with crashes.
 */
class TimeWindowOracleTest extends BesidePostgres {
  private static final int PARTITIONS = 3;
  private static final String LATENESS = "10 seconds";
  private static final String TUMBLE =
      "TABLE(TUMBLE(TABLE scan, DESCRIPTOR(at), INTERVAL '10' SECOND))";
  private static final String SHIFTED =
      "TABLE(TUMBLE(TABLE scan, DESCRIPTOR(at), INTERVAL '10' SECOND, INTERVAL '3' SECOND))";
  private static final String HOP =
      "TABLE(HOP(TABLE scan, DESCRIPTOR(at), INTERVAL '5' SECOND, INTERVAL '20' SECOND))";
  private static final String PANES =
      "TABLE(HOP(TABLE scan, DESCRIPTOR(at), INTERVAL '2' SECOND, INTERVAL '20' SECOND))";
  private static final String UNEVEN =
      "TABLE(HOP(TABLE scan, DESCRIPTOR(at), INTERVAL '4' SECOND, INTERVAL '10' SECOND))";
  private static final String GROWING =
      "TABLE(GROW(TABLE scan, DESCRIPTOR(at), INTERVAL '5' SECOND, INTERVAL '20' SECOND))";
  private static final String ENRICHED =
      "TABLE(TUMBLE((SELECT s.*, g.hall FROM scan s JOIN gate g ON g.gate = s.gate),"
          + " DESCRIPTOR(at), INTERVAL '10' SECOND))";

  /** What the watermark is, row by row and of them all; then rows in windows of these kinds. */
  private static final String ORACLE =
      """
      CREATE TABLE gate (gate text PRIMARY KEY, hall text);
      CREATE TABLE scan (n bigserial, part int, parcel bigint, gate text, at timestamp, grams int);
      CREATE MATERIALIZED VIEW marked AS SELECT scan.*, max(at) OVER (PARTITION BY part ORDER BY n) - interval
        '%1$s' AS mark FROM scan;
      CREATE VIEW watermark AS SELECT min(own) AS w FROM
        (SELECT max(at) - interval '%1$s' AS own FROM scan GROUP BY part) p;
      CREATE FUNCTION windows(size interval, slide interval, origin timestamp) RETURNS TABLE
        (parcel bigint, gate text, at timestamp, grams int, window_start timestamp, window_end timestamp)
        AS $$ SELECT parcel, gate, at, grams, s, s + size FROM marked,
          generate_series(date_bin(slide, at, origin) - 10 * slide, date_bin(slide, at, origin), slide) s
          WHERE s + size > at AND s + size > coalesce(mark, s) $$ LANGUAGE sql;
      CREATE FUNCTION growing(size interval, step interval) RETURNS TABLE
        (parcel bigint, gate text, at timestamp, grams int, window_start timestamp, window_end timestamp)
        AS $$ SELECT parcel, gate, at, grams, s, e FROM marked,
          date_bin(size, at, '1970-01-01') s, generate_series(s + step, s + size, step) e
          WHERE e > at AND e > coalesce(mark, s) $$ LANGUAGE sql;
      """
          .formatted(LATENESS);

  private static String windows(String size, String slide, int offset) {
    return "windows('%s', '%s', '1970-01-01 00:00:0%d')".formatted(size, slide, offset);
  }

  private static final Map<String, String> THEIRS =
      Map.of(
          TUMBLE,
          windows("10 seconds", "10 seconds", 0),
          SHIFTED,
          windows("10 seconds", "10 seconds", 3),
          HOP,
          windows("20 seconds", "5 seconds", 0),
          PANES,
          windows("20 seconds", "2 seconds", 0),
          GROWING,
          "growing('20 seconds', '5 seconds')",
          UNEVEN,
          windows("10 seconds", "4 seconds", 0),
          ENRICHED,
          "(SELECT w.*, g.hall FROM "
              + windows("10 seconds", "10 seconds", 0)
              + " w JOIN gate g ON g.gate = w.gate)",
          "scan binned",
          windows("10 seconds", "10 seconds", 0) + " binned",
          "scan by_minute",
          windows("1 minute", "1 minute", 0) + " by_minute",
          "scan one",
          windows("0.000001 seconds", "0.000001 seconds", 0) + " one");

  /**
   * A view.
   *
   * @param settled whether its rows are put out when they can no longer change
   */
  private record View(String options, boolean settled, String sql) {
    /** Its options, to be followed by others. */
    String more() {
      return options.isEmpty() ? "" : options.replace(" OPTIONS (", "").replace(")", ",");
    }

    String theirs() {
      String theirs = sql;
      for (Map.Entry<String, String> e : THEIRS.entrySet()) {
        theirs = theirs.replace(e.getKey(), e.getValue());
      }
      String rows = "SELECT * FROM (" + theirs + ") q";
      String kept =
          options.contains("keep") ? " AND window_end + interval '1 minute' > " + WATERMARK : "";
      return rows + " WHERE " + (settled ? "window_end <= " + WATERMARK : "TRUE") + kept;
    }
  }

  private static final String WATERMARK = "(SELECT w FROM watermark)";
  private static final Map<String, View> VIEWS = new LinkedHashMap<>();

  private static void both(String name, String sql) {
    VIEWS.put(name, new View("", false, sql));
    settled(name + "_settled", sql);
  }

  private static void settled(String name, String sql) {
    VIEWS.put(name, new View(" OPTIONS (rows 'settled')", true, sql));
  }

  static {
    String group = " GROUP BY window_start, window_end, gate";
    String sums = "SELECT window_start, window_end, gate, COUNT(*) AS n, SUM(grams) AS g FROM ";
    both("tumble", sums + TUMBLE + " t" + group);
    both("shifted", sums + SHIFTED + " t" + group);
    both("hop", sums + HOP + " t" + group);
    both( // by slices, of what may be missing
        "hop_some",
        "SELECT window_end, COUNT(*) AS n, COUNT(gate) AS c, SUM(grams) FILTER (WHERE gate = 'G1') AS f,"
            + " COUNT(*) FILTER (WHERE grams > 500) AS h, SUM(parcel) AS p FROM "
            + PANES
            + " t WHERE grams IS DISTINCT FROM 7 GROUP BY window_end");
    both("uneven", "SELECT window_end, COUNT(*) AS n FROM " + UNEVEN + " t GROUP BY window_end");
    both(
        "values_kept",
        "SELECT window_end, MIN(grams) AS a, MAX(gate) AS b, COUNT(DISTINCT gate) AS c,"
            + " STRING_AGG(gate, ',' ORDER BY gate) AS d, PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY"
            + " grams) AS e FROM "
            + TUMBLE
            + " t GROUP BY window_end");
    both("growing", sums + GROWING + " t" + group);
    both(
        "growing_ends",
        "SELECT window_end, COUNT(*) AS n FROM " + GROWING + " t GROUP BY window_end");
    both("rows_alone", "SELECT parcel, gate, window_end FROM " + HOP + " t WHERE grams > 300");
    both("gates", "SELECT DISTINCT window_end, gate FROM " + TUMBLE + " t");
    both(
        "busy",
        "SELECT window_end, gate, COUNT(*) AS n FROM "
            + TUMBLE
            + " t GROUP BY window_end, gate HAVING COUNT(*) > 2");
    both(
        "of_windows",
        "SELECT window_end, SUM(n) AS n, MAX(n) AS m FROM (SELECT window_end, gate, COUNT(*) AS n FROM "
            + TUMBLE
            + " t GROUP BY window_end, gate) x GROUP BY window_end");
    both(
        "busiest",
        "SELECT window_end, gate, n FROM (SELECT window_end, gate, n, ROW_NUMBER() OVER (PARTITION BY"
            + " window_end ORDER BY n DESC, gate) AS place FROM (SELECT window_end, gate, COUNT(*) AS n"
            + " FROM "
            + TUMBLE
            + " t WHERE gate IS NOT NULL GROUP BY window_end, gate) x) y WHERE place <= 2");
    both( // the first of each parcel in a window: those that came twice are left out
        "once",
        "SELECT window_end, parcel, gate, at FROM (SELECT window_end, parcel, gate, at, ROW_NUMBER() OVER"
            + " (PARTITION BY window_end, parcel ORDER BY at, gate, grams) AS place FROM "
            + TUMBLE
            + " t) x WHERE place = 1");
    both(
        "with_sums",
        "SELECT window_end, parcel, at, gate, grams, SUM(grams) OVER (PARTITION BY window_end ORDER BY at, parcel,"
            + " gate, grams) AS g, LAG(grams) OVER (PARTITION BY window_end ORDER BY at, parcel, gate, grams) AS before"
            + " FROM "
            + TUMBLE
            + " t WHERE gate = 'G1'");
    both(
        "side_by_side",
        "SELECT a.window_end, a.n, b.n AS later FROM (SELECT window_end, COUNT(*) AS n FROM "
            + TUMBLE
            + " t WHERE gate = 'G1' GROUP BY window_end) a FULL JOIN (SELECT window_end AS e, COUNT(*)"
            + " AS n FROM "
            + TUMBLE
            + " t WHERE gate = 'G2' GROUP BY window_end) b ON b.e = a.window_end"
            + " WHERE a.window_end IS NOT NULL");
    both(
        "perhaps",
        "SELECT b.window_end AS other, a.window_end, a.n, b.n AS m FROM (SELECT window_end, COUNT(*) AS"
            + " n FROM "
            + TUMBLE
            + " t WHERE gate = 'G1' GROUP BY window_end) a LEFT JOIN (SELECT window_end, COUNT(*) AS n FROM "
            + TUMBLE
            + " t WHERE grams < 200 GROUP BY window_end) b ON b.window_end = a.window_end");
    both(
        "halls",
        "SELECT window_end, hall, SUM(grams) AS g FROM "
            + ENRICHED
            + " t GROUP BY window_end, hall");
    both(
        "two_kinds",
        "SELECT window_end, gate FROM "
            + TUMBLE
            + " t WHERE grams < 50 UNION ALL SELECT window_end, gate FROM "
            + SHIFTED
            + " u WHERE grams > 800");
    String bin = "date_bin(INTERVAL '10 seconds', at, TIMESTAMP '1970-01-01 00:00:00')";
    settled(
        "binned",
        "SELECT %1$s + INTERVAL '10 seconds' AS window_end, gate, COUNT(*) AS n FROM scan binned GROUP BY %1$s, gate"
            .formatted(bin));
    settled(
        "by_minute",
        "SELECT date_trunc('minute', at) + INTERVAL '1 minute' AS window_end, SUM(grams) AS g FROM scan"
            + " by_minute GROUP BY date_trunc('minute', at)");
    settled( // an event at the very watermark may not be the last
        "events",
        "SELECT at + INTERVAL '0.001 seconds' AS window_end, parcel FROM scan one WHERE grams > 9");
    VIEWS.put(
        "hop_kept", new View(" OPTIONS (keep '1 minute')", false, sums + PANES + " t" + group));
    VIEWS.put("kept", new View(" OPTIONS (keep '1 minute')", false, sums + TUMBLE + " t" + group));
    for (String name : List.of("tumble", "rows_alone", "values_kept", "side_by_side")) {
      String options = " OPTIONS (rows 'settled', keep '1 minute')";
      VIEWS.put(name + "_settled_kept", new View(options, true, VIEWS.get(name).sql));
    }
    VIEWS.put(
        "kept_hop",
        new View(
            " OPTIONS (keep '1 minute')",
            false,
            "SELECT window_end, gate, MAX(grams) AS m, COUNT(DISTINCT parcel) AS p FROM "
                + HOP
                + " t GROUP BY window_end, gate"));
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void equalsPostgresAtEveryEpoch(long seed) throws SQLException {
    Random random = new Random(seed);
    try (TestEngine db = new TestEngine();
        Connection pg = database("windows_" + seed);
        Statement oracle = pg.createStatement();
        PreparedStatement insert =
            pg.prepareStatement(
                "INSERT INTO scan (part, parcel, gate, at, grams) VALUES (?, ?, ?, ?, ?)")) {
      oracle.execute(ORACLE);
      db.run(
          "CREATE STREAM scan (parcel BIGINT, gate VARCHAR, at TIMESTAMP, grams INTEGER, EVENT TIME"
              + " at LATENESS INTERVAL '"
              + LATENESS
              + "'); CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR)");
      String halls = "INSERT INTO gate VALUES ('G0', 'North'), ('G1', 'North'), ('G2', 'South')";
      db.run(halls);
      oracle.execute(halls);
      RefreshedTwins twins = new RefreshedTwins(db, seed);
      EarlyTwins early = new EarlyTwins(db);
      LocalDateTime now = LocalDateTime.parse("2026-03-02T06:00:00");
      for (int epoch = 0; epoch < 60; epoch++) {
        int i = 0;
        for (Map.Entry<String, View> v : VIEWS.entrySet()) {
          if (epoch == i++ % 3 * 15) {
            View view = v.getValue();
            twins.make(i / 3, v.getKey(), view.more(), view.sql);
            if (i % 2 == seed % 2 && view.options.equals(" OPTIONS (rows 'settled')")) {
              early.make(v.getKey(), view.sql);
            }
            db.run(
                "CREATE MATERIALIZED VIEW v_%s OPTIONS (%s late_rows 'keep') AS %s"
                    .formatted(v.getKey(), view.more(), view.sql));
          }
        }
        now = now.plusNanos(random.nextInt(4_000) * 1_000_000L);
        for (int part = 0; part < PARTITIONS; part++) {
          push(db, "scan", insert, part, events(random, now, epoch == 0));
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
        compare(db, oracle, twins, seed, epoch);
        for (Map.Entry<String, View> v : VIEWS.entrySet()) {
          View view = v.getValue();
          if (early.has(v.getKey())) {
            View standing = new View("", false, view.sql);
            early.compare(
                v.getKey(),
                turned,
                Answers.theirs(oracle, standing.theirs()),
                Answers.theirs(oracle, view.theirs()),
                watermark(oracle));
          }
        }
      }
      late(db, oracle);
      state(db, oracle);
    }
  }

  private static LocalDateTime watermark(Statement oracle) throws SQLException {
    try (ResultSet row = oracle.executeQuery("SELECT w FROM watermark")) {
      return row.next() ? row.getObject(1, LocalDateTime.class) : null;
    }
  }

  private static List<Object[]> events(Random random, LocalDateTime now, boolean first) {
    List<Object[]> events = new ArrayList<>();
    if (first) {
      events.add(new Object[] {0L, "G0", now, 1}); // every partition says that it is there
    }
    for (int n = random.nextInt(8); n > 0; n--) {
      int behind = random.nextInt(10) == 0 ? random.nextInt(60_000) : random.nextInt(9_000);
      Object[] event = {
        (long) random.nextInt(20),
        random.nextInt(12) == 0 ? null : "G" + random.nextInt(4),
        random.nextInt(25) == 0 ? null : now.minusNanos(behind * 1_000_000L),
        random.nextInt(15) == 0 ? null : (Integer) random.nextInt(1000)
      };
      events.add(event);
      if (random.nextInt(10) == 0) {
        events.add(event);
      }
    }
    return events;
  }

  private static void compare(
      TestEngine db, Statement oracle, RefreshedTwins twins, long seed, int epoch)
      throws SQLException {
    oracle.execute("REFRESH MATERIALIZED VIEW marked");
    int i = 0;
    for (Map.Entry<String, View> v : VIEWS.entrySet()) {
      if (epoch < i++ % 3 * 15) {
        continue;
      }
      View view = v.getValue();
      List<String> theirs = Answers.theirs(oracle, view.theirs());
      assertThat(Answers.ours(db, "SELECT * FROM v_" + v.getKey()))
          .as("seed %d, epoch %d, view %s: %s", seed, epoch, v.getKey(), view.sql)
          .isEqualTo(theirs);
      twins.compare(v.getKey(), theirs);
      if (epoch % 20 == 19 && view.options.isEmpty()) {
        assertThat(Answers.ours(db, view.sql))
            .as("seed %d, epoch %d, asked once: %s", seed, epoch, view.sql)
            .isEqualTo(theirs);
      }
    }
  }

  /** Of windows that have ended nothing is kept but the rows of the view. */
  private static void state(TestEngine db, Statement oracle) throws SQLException {
    List<String> open =
        Answers.theirs(
            oracle,
            "SELECT * FROM windows('10 seconds', '10 seconds', '1970-01-01'), watermark WHERE window_end > w");
    for (String view : List.of("v_once", "v_with_sums")) {
      assertThat(db.state(view).keys()).as(view).isLessThanOrEqualTo(open.size());
    }
    // The groups of one relation that are there are the rows of a view; those of two are joined.
    long groups = Answers.ours(db, "SELECT DISTINCT window_end FROM v_tumble").size();
    assertThat(db.state("v_side_by_side").keys()).isLessThan(2 * groups + open.size());
  }

  /** Late rows are counted where they are left out, and by their own partition alone. */
  private static void late(TestEngine db, Statement oracle) throws SQLException {
    List<String> late =
        Answers.theirs(
            oracle,
            "SELECT COUNT(*) FROM marked WHERE date_bin('10 seconds', at, '1970-01-01')"
                + " + interval '10 seconds' <= mark");
    assertThat(late).isNotEqualTo(List.of("0"));
    assertThat(List.of("" + db.state("v_tumble").late())).isEqualTo(late);
    int i = 0;
    for (String view : VIEWS.keySet()) { // and what is counted is kept, once
      String rejects =
          "SELECT COUNT(*) FROM drip.rejects WHERE object = 'v_%s' AND reason LIKE 'too late by%%'";
      long kept = Long.parseLong(Answers.ours(db, rejects.formatted(view)).get(0));
      long counted = db.state("v_" + view).late();
      boolean stepsMayBeOlder = i++ % 3 > 0;
      assertThat(kept)
          .as(view)
          .isBetween(stepsMayBeOlder ? Math.min(1, counted) : counted, counted);
    }
    List<String> timeless = Answers.theirs(oracle, "SELECT COUNT(*) FROM scan WHERE at IS NULL");
    assertThat(List.of("" + db.state("v_tumble").rejects())).isEqualTo(timeless);
  }
}
