package dripledger.engine;

import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/** Window functions, first rows and chosen places, against PostgreSQL at every epoch. */
class WindowOracleTest extends BesidePostgres {
  private static final String TABLES =
      """
      CREATE TABLE stop (id INTEGER PRIMARY KEY, parcel INTEGER, gate VARCHAR, grams INTEGER,
        cost DECIMAL(8,2), at TIMESTAMP, day DATE, speed DOUBLE PRECISION)
      """;
  private static final List<OracleRun.Query> QUERIES = new ArrayList<>();

  private static void add(String name, String sql) {
    QUERIES.add(OracleRun.Query.of(name, sql));
  }

  /** What functions say of every row, with a window. */
  private static void over(String name, String functions, String window) {
    add(name, "SELECT id, " + functions.replace("?", "OVER (" + window + ")") + " FROM stop");
  }

  static {
    over(
        "rankings",
        "ROW_NUMBER() ? AS n, RANK() ? AS r, DENSE_RANK() ? AS d",
        "PARTITION BY gate ORDER BY id");
    over("ties", "RANK() ? AS r, DENSE_RANK() ? AS d", "PARTITION BY parcel ORDER BY gate");
    over("ties_down", "RANK() ? AS r", "ORDER BY gate DESC NULLS LAST, grams NULLS FIRST");
    over(
        "shares",
        "PERCENT_RANK() ? AS p, CUME_DIST() ? AS c",
        "PARTITION BY parcel ORDER BY grams NULLS FIRST");
    over("parts", "NTILE(4) ? AS q", "ORDER BY grams, id");
    over(
        "neighbours",
        "LAG(grams) ? AS l, LEAD(gate, 2) ? AS m, LAG(grams, 3, -1) ? AS k, LEAD(at, 0) ? AS s",
        "PARTITION BY parcel ORDER BY at, id");
    over("running", "SUM(grams) ? AS s, COUNT(*) ? AS n", "PARTITION BY gate ORDER BY at, id");
    over("running_ties", "SUM(grams) ? AS s, AVG(cost) ? AS a", "ORDER BY grams");
    over(
        "running_extremes",
        "MIN(cost) ? AS a, MAX(gate) ? AS b",
        "PARTITION BY parcel ORDER BY id ROWS UNBOUNDED PRECEDING");
    over(
        "sliding",
        "SUM(cost) ? AS s, AVG(grams) ? AS a, MIN(gate) ? AS m, MAX(grams) ? AS x, COUNT(cost) ? AS c",
        "PARTITION BY parcel ORDER BY id ROWS BETWEEN 2 PRECEDING AND 1 FOLLOWING");
    over(
        "behind",
        "SUM(grams) ? AS s, MAX(cost) ? AS m",
        "ORDER BY id ROWS BETWEEN 5 PRECEDING AND 2 PRECEDING");
    over(
        "ahead",
        "SUM(grams) ? AS s, MIN(cost) ? AS m, FIRST_VALUE(gate) ? AS f",
        "PARTITION BY gate ORDER BY id ROWS BETWEEN 1 FOLLOWING AND 3 FOLLOWING");
    over(
        "the_rest",
        "SUM(grams) ? AS s, MAX(grams) ? AS m",
        "PARTITION BY parcel ORDER BY id ROWS BETWEEN CURRENT ROW AND UNBOUNDED FOLLOWING");
    over("whole", "SUM(grams) ? AS s, MAX(gate) ? AS m, COUNT(*) ? AS n", "PARTITION BY gate");
    over("all_rows", "AVG(grams) ? AS a, MIN(cost) ? AS m", "");
    over(
        "whole_framed",
        "SUM(grams) ? AS s, LAST_VALUE(id) ? AS l",
        "ORDER BY id ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING");
    over(
        "by_value",
        "SUM(grams) ? AS s, COUNT(*) ? AS n, MAX(id) ? AS m",
        "ORDER BY grams RANGE BETWEEN 2 PRECEDING AND 1 FOLLOWING");
    over(
        "by_value_down",
        "COUNT(*) ? AS n, MIN(id) ? AS m",
        "PARTITION BY parcel ORDER BY cost DESC RANGE BETWEEN 1.5 PRECEDING AND CURRENT ROW");
    over(
        "by_time",
        "COUNT(*) ? AS n, SUM(grams) ? AS s",
        "ORDER BY at RANGE BETWEEN INTERVAL '3' HOUR PRECEDING AND CURRENT ROW");
    over(
        "by_time_before",
        "COUNT(*) ? AS n",
        "ORDER BY at NULLS FIRST RANGE BETWEEN INTERVAL '5' HOUR PRECEDING AND INTERVAL '2' HOUR PRECEDING");
    over(
        "by_day",
        "COUNT(*) ? AS n",
        "PARTITION BY gate ORDER BY day RANGE BETWEEN INTERVAL '1' DAY PRECEDING AND INTERVAL '1' DAY"
            + " FOLLOWING");
    over(
        "by_speed",
        "COUNT(*) ? AS n, SUM(grams) ? AS s",
        "ORDER BY speed RANGE BETWEEN 0.5 PRECEDING AND 0.25 FOLLOWING");
    over(
        "by_groups",
        "SUM(grams) ? AS s, COUNT(*) ? AS n, MAX(id) ? AS m, MIN(cost) ? AS c",
        "ORDER BY grams GROUPS BETWEEN 2 PRECEDING AND 1 FOLLOWING");
    over(
        "by_groups_before",
        "COUNT(*) ? AS n, MIN(id) ? AS m, SUM(grams) ? AS s",
        "PARTITION BY gate ORDER BY day DESC GROUPS BETWEEN 3 PRECEDING AND 1 PRECEDING");
    over(
        "by_groups_after",
        "COUNT(*) ? AS n, MAX(id) ? AS m, SUM(grams) ? AS s",
        "PARTITION BY gate ORDER BY grams NULLS FIRST GROUPS BETWEEN 1 FOLLOWING AND 2 FOLLOWING");
    over(
        "by_groups_so_far",
        "COUNT(*) ? AS n, LAST_VALUE(grams) ? AS l, SUM(id) ? AS s",
        "PARTITION BY parcel ORDER BY grams GROUPS UNBOUNDED PRECEDING");
    over(
        "by_groups_to_here",
        "COUNT(*) ? AS n, SUM(id) ? AS s",
        "ORDER BY parcel, grams GROUPS 1 PRECEDING EXCLUDE TIES");
    over(
        "by_groups_to_the_end",
        "COUNT(*) ? AS n, SUM(id) ? AS s, MIN(id) ? AS m",
        "ORDER BY parcel GROUPS BETWEEN 1 FOLLOWING AND UNBOUNDED FOLLOWING");
    over(
        "by_groups_from_the_first",
        "COUNT(*) ? AS n, SUM(id) ? AS s",
        "PARTITION BY gate ORDER BY parcel GROUPS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING");
    over(
        "values_of_rows",
        "FIRST_VALUE(gate) ? AS f, LAST_VALUE(grams) ? AS l, NTH_VALUE(id, 2) ? AS n",
        "PARTITION BY parcel ORDER BY id");
    over(
        "values_of_frames",
        "FIRST_VALUE(gate) ? AS f, LAST_VALUE(grams) ? AS l, NTH_VALUE(id, 3) ? AS n",
        "PARTITION BY parcel ORDER BY id ROWS BETWEEN 1 PRECEDING AND 2 FOLLOWING");
    over(
        "without_this",
        "SUM(grams) ? AS s, MAX(grams) ? AS m, COUNT(*) ? AS n",
        "PARTITION BY parcel ORDER BY id ROWS BETWEEN 2 PRECEDING AND 2 FOLLOWING EXCLUDE CURRENT ROW");
    over(
        "without_peers",
        "SUM(id) ? AS s, MIN(gate) ? AS m, COUNT(*) ? AS f",
        "ORDER BY grams RANGE UNBOUNDED PRECEDING EXCLUDE GROUP");
    over(
        "without_ties",
        "SUM(id) ? AS s, COUNT(*) ? AS n, MAX(id) ? AS m",
        "PARTITION BY parcel ORDER BY grams RANGE BETWEEN 2 PRECEDING AND 1 FOLLOWING EXCLUDE TIES");
    over(
        "texts",
        "STRING_AGG(gate, '+') ? AS s, ARRAY_TO_STRING(ARRAY_AGG(grams) ?, ',', '-') AS a",
        "PARTITION BY parcel ORDER BY id");
    over(
        "texts_near",
        "STRING_AGG(gate, gate) ? AS s, ARRAY_TO_STRING(ARRAY_AGG(id) ?, ',') AS a, BIT_OR(grams) ? AS b",
        "ORDER BY id DESC ROWS BETWEEN 2 PRECEDING AND 1 FOLLOWING EXCLUDE CURRENT ROW");
    over(
        "texts_of_all",
        "STRING_AGG(gate, '+') ? AS s, ARRAY_TO_STRING(ARRAY_AGG(grams) ?, ',', '-') AS a",
        "PARTITION BY gate ORDER BY id DESC ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING");
    over("of_speed", "SUM(speed) ? AS s, AVG(speed) ? AS a", "PARTITION BY gate ORDER BY id");
    add(
        "computed",
        "SELECT id, SUM(grams * 2) OVER (PARTITION BY MOD(id, 3) ORDER BY id + 1) + 1 AS s,"
            + " grams - LAG(grams) OVER (ORDER BY id) AS d FROM stop WHERE grams > 1");
    add(
        "named",
        "SELECT id, SUM(grams) OVER w AS s, RANK() OVER (w RANGE UNBOUNDED PRECEDING) AS r FROM stop"
            + " WINDOW w AS (PARTITION BY gate ORDER BY id)");
    add(
        "of_groups",
        "SELECT gate, SUM(grams) AS s, RANK() OVER (ORDER BY SUM(grams) DESC) AS r,"
            + " SUM(SUM(grams)) OVER (ORDER BY gate) AS t FROM stop GROUP BY gate");
    add(
        "latest",
        "SELECT parcel, gate, at FROM (SELECT *, ROW_NUMBER() OVER (PARTITION BY parcel ORDER BY at DESC"
            + " NULLS LAST, id) AS n FROM stop) AS s WHERE n = 1");
    add(
        "top_three",
        "SELECT gate, id, n FROM (SELECT gate, id, ROW_NUMBER() OVER (PARTITION BY gate ORDER BY grams,"
            + " id) AS n FROM stop) AS s WHERE n <= 3");
    add(
        "top_ranks",
        "SELECT gate, id FROM (SELECT gate, id, RANK() OVER (PARTITION BY gate ORDER BY grams) AS n FROM"
            + " stop) AS s WHERE n < 3");
    add(
        "dense_places",
        "SELECT id, n FROM (SELECT id, DENSE_RANK() OVER (ORDER BY grams DESC) AS n FROM stop) AS s WHERE"
            + " n BETWEEN 2 AND 4");
    add(
        "place_and_sum",
        "SELECT id, n, s FROM (SELECT id, ROW_NUMBER() OVER (PARTITION BY parcel ORDER BY id) AS n,"
            + " SUM(grams) OVER (PARTITION BY parcel) AS s FROM stop) AS s WHERE n <= 2 AND s > 4");
    add("first_rows", "SELECT id, grams FROM stop ORDER BY grams DESC NULLS LAST, id LIMIT 5");
    add("later_rows", "SELECT id, gate FROM stop ORDER BY gate, id OFFSET 3 LIMIT 4");
    add("behind_all", "SELECT id FROM stop ORDER BY id OFFSET 10");
    add(
        "first_groups",
        "SELECT gate, COUNT(*) AS n FROM stop GROUP BY gate ORDER BY COUNT(*) DESC, gate LIMIT 2");
    add(
        "first_joined",
        "SELECT s.id, t.id AS other FROM stop AS s JOIN (SELECT id, grams FROM stop ORDER BY id LIMIT 3)"
            + " AS t ON s.grams = t.grams");
    add(
        "distinct_on",
        "SELECT DISTINCT ON (gate) gate, id, grams FROM stop ORDER BY gate, grams, id");
    add(
        "distinct_on_computed",
        "SELECT DISTINCT ON (MOD(id, 4)) id AS i, at FROM stop WHERE grams > 0 ORDER BY MOD(id, 4), i DESC");
    add(
        "filtered",
        "SELECT id, COUNT(*) FILTER (WHERE grams > 3) OVER (ORDER BY id) AS n, SUM(cost) FILTER (WHERE"
            + " gate = 'G1') OVER (PARTITION BY parcel) AS s FROM stop");
    QUERIES.add(
        new OracleRun.Query(
            "qualified_ranking",
            "SELECT id, gate, grams FROM stop QUALIFY ROW_NUMBER() OVER (PARTITION BY gate ORDER BY grams"
                + " DESC NULLS LAST, id) <= 2 AND grams > 2",
            "SELECT id, gate, grams FROM (SELECT id, gate, grams, ROW_NUMBER() OVER (PARTITION BY gate ORDER BY grams DESC"
                + " NULLS LAST, id) AS n FROM stop) AS r WHERE n <= 2 AND grams > 2"));
    QUERIES.add(
        new OracleRun.Query(
            "qualified",
            "SELECT id, grams FROM stop QUALIFY SUM(grams) OVER (PARTITION BY gate) > 5",
            "SELECT id, grams FROM (SELECT id, grams, SUM(grams) OVER (PARTITION BY gate) AS s FROM stop)"
                + " AS t WHERE s > 5"));
    add(
        "of_events",
        "SELECT parcel, gate FROM (SELECT parcel, gate, ROW_NUMBER() OVER (PARTITION BY parcel ORDER BY"
            + " at DESC, gate, grams) AS n FROM scan) AS s WHERE n = 1");
    add(
        "running_events",
        "SELECT parcel, at, gate, SUM(grams) OVER (PARTITION BY parcel ORDER BY at, gate, grams) AS s FROM"
            + " scan");
    add(
        "equal_rows",
        "SELECT grams, ROW_NUMBER() OVER (ORDER BY grams) AS n, SUM(grams) OVER (ORDER BY grams ROWS 2"
            + " PRECEDING) AS s FROM scan");
    add(
        "first_events",
        "SELECT parcel, grams FROM scan ORDER BY grams DESC NULLS LAST, parcel LIMIT 3");
  }

  static {
    withoutNulls(
        "known_before",
        "LAST_VALUE(grams) IGNORE NULLS",
        "s[CARDINALITY(s)]",
        "PARTITION BY gate ORDER BY id",
        "ROWS UNBOUNDED PRECEDING");
    withoutNulls(
        "known_near",
        "LAST_VALUE(cost) IGNORE NULLS",
        "s[CARDINALITY(s)]",
        "ORDER BY id",
        "ROWS BETWEEN 3 PRECEDING AND 1 FOLLOWING");
    withoutNulls(
        "third_known",
        "NTH_VALUE(grams, 3) IGNORE NULLS",
        "s[3]",
        "PARTITION BY parcel ORDER BY id",
        "ROWS UNBOUNDED PRECEDING");
    withoutNulls(
        "first_known_of_peers",
        "FIRST_VALUE(gate) IGNORE NULLS",
        "s[1]",
        "ORDER BY at DESC, id",
        "RANGE BETWEEN CURRENT ROW AND UNBOUNDED FOLLOWING");
    withoutNulls(
        "last_known_but_this",
        "LAST_VALUE(grams) IGNORE NULLS",
        "s[CARDINALITY(s)]",
        "PARTITION BY gate ORDER BY grams, id",
        "ROWS UNBOUNDED PRECEDING EXCLUDE TIES");
    withoutNulls(
        "two_known_back",
        "LAG(grams, 2) IGNORE NULLS",
        "s[CARDINALITY(s) - 1]",
        "PARTITION BY gate ORDER BY id",
        "ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING");
    withoutNulls(
        "known_back_or_else",
        "LAG(grams, 1, -7) IGNORE NULLS",
        "COALESCE(s[CARDINALITY(s)], -7)",
        "ORDER BY id",
        "ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING");
    withoutNulls(
        "known_ahead",
        "LEAD(gate, 2) IGNORE NULLS",
        "s[2]",
        "PARTITION BY parcel ORDER BY id",
        "ROWS BETWEEN 1 FOLLOWING AND UNBOUNDED FOLLOWING");
    withoutNulls(
        "known_other_way",
        "LEAD(grams, -1) IGNORE NULLS",
        "s[CARDINALITY(s)]",
        "ORDER BY id",
        "ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING");
  }

  /** PostgreSQL knows no IGNORE NULLS: it is the array of all the frame's values that are there. */
  private static void withoutNulls(
      String name, String ours, String theirs, String order, String frame) {
    boolean moves = ours.startsWith("LAG") || ours.startsWith("LEAD");
    String window = moves ? order : order + " " + frame;
    String value = ours.substring(ours.indexOf('(') + 1).split("[,)]")[0];
    QUERIES.add(
        new OracleRun.Query(
            name,
            "SELECT id, " + ours + " OVER (" + window + ") AS v FROM stop",
            "SELECT id, %s AS v FROM (SELECT id, ARRAY_AGG(%s) FILTER (WHERE %s IS NOT NULL) OVER (%s %s) AS s FROM stop) AS t"
                .formatted(theirs, value, value, order, frame)));
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void everyViewEqualsPostgresAtEveryEpoch(long seed) throws Exception {
    new OracleRun(
            cluster,
            TABLES,
            "scan (parcel INTEGER, gate VARCHAR, grams INTEGER, at TIMESTAMP)",
            QUERIES,
            WindowOracleTest::changes)
        .run("windows" + seed, seed);
  }

  /** Partitions of thousands of rows: sums are saved on the way, walks end early. */
  @ParameterizedTest
  @ValueSource(longs = {1, 2})
  void largePartitionsEqualPostgres(long seed) throws Exception {
    List<OracleRun.Query> queries = new ArrayList<>();
    String[] functions = {
      "SUM(grams) ? AS s, MAX(grams) ? AS m, COUNT(*) ? AS n",
      "DENSE_RANK() ? AS d, SUM(cost) ? AS s",
      "ROW_NUMBER() ? AS n",
      "RANK() ? AS r, LAG(id) ? AS l, SUM(speed) ? AS s",
      "FIRST_VALUE(id) ? AS f, LAST_VALUE(grams) ? AS g, MIN(gate) ? AS m",
    };
    String[] orders = {"id", "grams, id", "at DESC, id"};
    for (int i = 0; i < functions.length; i++) {
      for (int j = i % 2; j < orders.length; j += 2) {
        String over = "OVER (ORDER BY " + orders[j] + ")";
        String sql = "SELECT id, " + functions[i].replace("?", over) + " FROM stop";
        queries.add(OracleRun.Query.of("large_" + i + "_" + j, sql));
      }
    }
    queries.add(
        OracleRun.Query.of(
            "large_mixed",
            "SELECT id, SUM(grams) OVER (ORDER BY grams) AS s, COUNT(*) OVER (ORDER BY grams RANGE BETWEEN 1"
                + " PRECEDING AND CURRENT ROW) AS n FROM stop"));
    queries.add(
        OracleRun.Query.of(
            "large_without_this",
            "SELECT id, SUM(grams) OVER (ORDER BY id ROWS UNBOUNDED PRECEDING EXCLUDE CURRENT ROW) AS s,"
                + " MAX(cost) OVER (ORDER BY id ROWS UNBOUNDED PRECEDING EXCLUDE CURRENT ROW) AS m,"
                + " SUM(id) OVER (ORDER BY id) AS t FROM stop WHERE id < 2000")); // PostgreSQL
    // takes n² steps
    String filled =
        "SELECT id, (SELECT t.grams FROM stop AS t WHERE t.id < stop.id AND t.grams IS NOT NULL ORDER BY"
            + " t.id DESC LIMIT 1) AS g FROM stop";
    queries.add(
        new OracleRun.Query(
            "large_known",
            "SELECT id, LAG(grams) IGNORE NULLS OVER (ORDER BY id) AS g FROM stop",
            filled));
    queries.add(
        OracleRun.Query.of(
            "large_first",
            "SELECT id, n FROM (SELECT id, RANK() OVER (PARTITION BY gate ORDER BY grams) AS n FROM stop) AS"
                + " s WHERE n <= 2"));
    new OracleRun(cluster, TABLES, "unused (x INTEGER)", queries, WindowOracleTest::manyChanges)
        .epochs(12)
        .run("large" + seed, seed);
  }

  /** Thousands of rows at once, or a few changes at any place or at the end. */
  private static List<String> manyChanges(Random random) {
    boolean many = random.nextInt(5) == 0;
    boolean atEnd = random.nextInt(3) == 0;
    int first = atEnd ? 1_000_000 + random.nextInt(1_000_000) : random.nextInt(5_000);
    int last = first + (many ? 2_000 : random.nextInt(3));
    List<String> rows = new ArrayList<>();
    for (int id = first; id <= last; id++) {
      rows.add(
          "(%d, %s, %s, %s, %s, %s, NULL, CAST(%s AS DOUBLE PRECISION))"
              .formatted(
                  id,
                  number(random),
                  gate(random),
                  number(random),
                  random.nextInt(40) * 0.25,
                  at(random),
                  random.nextInt(30) * 0.125));
    }
    return List.of(
        "DELETE FROM stop WHERE id BETWEEN " + first + " AND " + last,
        "INSERT INTO stop VALUES " + String.join(", ", rows));
  }

  private static List<String> changes(Random random) {
    List<String> statements = new ArrayList<>();
    for (int i = 0; i <= random.nextInt(6); i++) {
      int id = random.nextInt(40);
      switch (random.nextInt(9)) {
        case 0, 1, 2, 3 -> {
          statements.add("DELETE FROM stop WHERE id = " + id);
          statements.add(
              "INSERT INTO stop VALUES (%d, %s, %s, %s, %s, %s, %s, %s)"
                  .formatted(
                      id,
                      number(random),
                      gate(random),
                      number(random),
                      random.nextInt(6) == 0 ? "NULL" : random.nextInt(40) * 0.25,
                      at(random),
                      random.nextInt(6) == 0
                          ? "NULL"
                          : "DATE '2026-03-0" + (1 + random.nextInt(8)) + "'",
                      random.nextInt(6) == 0
                          ? "CAST(NULL AS DOUBLE PRECISION)"
                          : "CAST(" + random.nextInt(30) * 0.125 + " AS DOUBLE PRECISION)"));
        }
        case 4, 5 ->
            statements.add(
                "INSERT INTO scan VALUES (%s, %s, %s, %s)"
                    .formatted(number(random), gate(random), number(random), at(random)));
        case 6 -> statements.add("UPDATE stop SET grams = grams + 1 WHERE MOD(id, 5) = " + id % 5);
        case 7 ->
            statements.add("UPDATE stop SET gate = " + gate(random) + " WHERE grams = " + id % 10);
        default ->
            statements.add(
                random.nextInt(8) == 0
                    ? "DELETE FROM stop"
                    : "DELETE FROM stop WHERE grams = " + random.nextInt(10));
      }
    }
    return statements;
  }

  private static String number(Random random) {
    return random.nextInt(8) == 0 ? "NULL" : "" + random.nextInt(6);
  }

  private static String gate(Random random) {
    String longer = random.nextInt(4) == 0 ? " with a name that is too long to be kept inline" : "";
    return random.nextInt(8) == 0 ? "NULL" : "'G" + random.nextInt(4) + longer + "'";
  }

  private static String at(Random random) {
    return random.nextInt(8) == 0
        ? "NULL"
        : "TIMESTAMP '2026-03-02 %02d:%02d:00'"
            .formatted(6 + random.nextInt(12), random.nextInt(2) * 30);
  }
}
