package dripledger.engine;

import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/** Statistics, collected values and grouping sets, against PostgreSQL at every epoch. */
class AggregateOracleTest extends BesidePostgres {
  private static final String TABLES =
      """
      CREATE TABLE load (id INTEGER PRIMARY KEY, gate VARCHAR, hall VARCHAR, grams INTEGER,
        big BIGINT, cost DECIMAL(10,3), speed DOUBLE PRECISION, weight DOUBLE PRECISION, held BOOLEAN,
        at TIMESTAMP)
      """;
  private static final List<OracleRun.Query> QUERIES = new ArrayList<>();

  private static void add(String name, String sql) {
    QUERIES.add(OracleRun.Query.of(name, sql));
  }

  /** Aggregates by group and over everything. */
  private static void both(String name, String aggregates) {
    add(name + "_by_gate", "SELECT gate, " + aggregates + " FROM load GROUP BY gate");
    add(name + "_of_all", "SELECT " + aggregates + " FROM load");
  }

  static {
    both(
        "deviations",
        "STDDEV_POP(grams) AS a, STDDEV_SAMP(grams) AS b, STDDEV(cost) AS c, VAR_POP(cost) AS d,"
            + " VAR_SAMP(id) AS e, VARIANCE(grams) AS f");
    both(
        "deviations_of_doubles",
        "STDDEV_POP(speed) AS a, STDDEV_SAMP(speed) AS b, VAR_POP(weight) AS c, VARIANCE(weight) AS d,"
            + " SUM(speed) AS e, AVG(weight) AS f");
    both(
        "two_columns",
        "COVAR_POP(speed, weight) AS a, COVAR_SAMP(speed, weight) AS b, CORR(speed, weight) AS c,"
            + " REGR_COUNT(speed, weight) AS d, REGR_AVGX(speed, weight) AS e, REGR_AVGY(speed, weight) AS f");
    both(
        "regressions",
        "REGR_SXX(speed, weight) AS a, REGR_SYY(speed, weight) AS b, REGR_SXY(speed, weight) AS c,"
            + " REGR_SLOPE(speed, weight) AS d, REGR_INTERCEPT(speed, weight) AS e, REGR_R2(speed, weight)"
            + " AS f");
    both(
        "truths",
        "BOOL_AND(held) AS a, BOOL_OR(held) AS b, EVERY(grams > 1) AS c, BOOL_OR(grams > 4) FILTER (WHERE"
            + " held) AS d");
    both(
        "bits",
        "BIT_AND(grams) AS a, BIT_OR(grams) AS b, BIT_XOR(grams) AS c, BIT_OR(DISTINCT id) AS d");
    both(
        "texts",
        "STRING_AGG(hall, ',' ORDER BY hall) AS a, STRING_AGG(gate, '; ' ORDER BY id DESC) AS b,"
            + " STRING_AGG(DISTINCT hall, '+' ORDER BY hall) AS c, STRING_AGG(hall, '-' ORDER BY grams DESC"
            + " NULLS LAST, id) FILTER (WHERE id > 5) AS d");
    both(
        "percentiles",
        "PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY grams) AS a, PERCENTILE_CONT(0.9) WITHIN GROUP (ORDER"
            + " BY speed DESC) AS b, PERCENTILE_DISC(0.25) WITHIN GROUP (ORDER BY cost) AS c,"
            + " PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY at) AS d");
    both(
        "modes",
        "MODE() WITHIN GROUP (ORDER BY grams) AS a, MODE() WITHIN GROUP (ORDER BY hall) AS b");
    both(
        "with_distinct",
        "COUNT(DISTINCT hall) AS a, SUM(DISTINCT grams) AS b, AVG(DISTINCT cost) AS c, STDDEV_POP(DISTINCT"
            + " grams) AS d, COUNT(DISTINCT gate) FILTER (WHERE held) AS e");
    QUERIES.add(
        new OracleRun.Query(
            "arrays",
            "SELECT gate, ARRAY_AGG(id ORDER BY id DESC) AS a, ARRAY_AGG(hall ORDER BY hall, id) AS b FROM"
                + " load GROUP BY gate",
            "SELECT gate, '[' || ARRAY_TO_STRING(ARRAY_AGG(id ORDER BY id DESC), ', ') || ']' AS a, '[' ||"
                + " ARRAY_TO_STRING(ARRAY_AGG(hall ORDER BY hall, id), ', ', 'null') || ']' AS b FROM load"
                + " GROUP BY gate"));
    QUERIES.add(
        new OracleRun.Query(
            "json",
            "SELECT gate, JSON_AGG(grams) AS a, JSON_AGG(hall) AS b, JSON_OBJECT_AGG(id, cost) AS c FROM"
                + " load GROUP BY gate",
            "SELECT gate, JSON_AGG(grams ORDER BY grams)::text AS a, JSON_AGG(hall ORDER BY hall)::text AS b,"
                + " '{' || STRING_AGG('\"' || id || '\": ' || COALESCE(cost::text, 'null'), ', ' ORDER BY"
                + " id) || '}' AS c FROM load GROUP BY gate"));
    add(
        "sets",
        "SELECT gate, hall, COUNT(*) AS n, SUM(grams) AS s, GROUPING(gate) AS g, GROUPING(gate, hall) AS h"
            + " FROM load GROUP BY GROUPING SETS ((gate, hall), (hall), ())");
    add(
        "rolled_up",
        "SELECT gate, hall, held, COUNT(*) AS n FROM load GROUP BY ROLLUP (gate, hall, held)");
    add("cubed", "SELECT gate, hall, MAX(id) AS m FROM load GROUP BY CUBE (gate, hall)");
    add(
        "rolled_up_twice",
        "SELECT gate, hall, SUM(cost) AS s FROM load GROUP BY gate, ROLLUP (hall) HAVING COUNT(*) > 1");
    add(
        "over_windows",
        "SELECT id, STDDEV_POP(grams) OVER (ORDER BY id ROWS 4 PRECEDING) AS s, BOOL_OR(held) OVER"
            + " (PARTITION BY gate ORDER BY id) AS b, CORR(speed, weight) OVER (PARTITION BY gate) AS c,"
            + " STRING_AGG(hall, ',' ) OVER (PARTITION BY hall) AS t FROM load");
    QUERIES.add(
        new OracleRun.Query(
            "any_values",
            "SELECT hall, ANY_VALUE(hall) AS v, APPROX_COUNT_DISTINCT(gate) AS n FROM load GROUP BY hall",
            "SELECT hall, hall AS v, COUNT(DISTINCT gate) AS n FROM load GROUP BY hall"));
    add(
        "events",
        "SELECT gate, STDDEV_SAMP(grams) AS s, STRING_AGG(gate, ',') AS t, MODE() WITHIN GROUP (ORDER BY"
            + " grams) AS m, BIT_XOR(grams) AS x FROM scan GROUP BY gate");
    add("single", "SELECT id, (SELECT grams FROM load WHERE id = 3) AS g FROM load");
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void everyViewEqualsPostgresAtEveryEpoch(long seed) throws Exception {
    new OracleRun(
            cluster,
            TABLES,
            "scan (gate VARCHAR, grams INTEGER)",
            QUERIES,
            AggregateOracleTest::changes)
        .run("aggregates" + seed, seed);
  }

  private static List<String> changes(Random random) {
    List<String> statements = new ArrayList<>();
    for (int i = 0; i <= random.nextInt(6); i++) {
      int id = random.nextInt(40);
      switch (random.nextInt(8)) {
        case 0, 1, 2, 3 -> {
          statements.add("DELETE FROM load WHERE id = " + id);
          statements.add(
              "INSERT INTO load VALUES (%d, %s, %s, %s, %s, %s, %s, %s, %s, %s)"
                  .formatted(
                      id,
                      text(random, "G", 4),
                      text(random, "h", 3),
                      orNull(random, "" + random.nextInt(7)),
                      orNull(random, "" + random.nextLong()),
                      orNull(random, "" + (random.nextInt(4000) - 1000) / 1000.0),
                      number(random),
                      number(random),
                      orNull(random, "" + random.nextBoolean()),
                      orNull(random, "TIMESTAMP '2026-03-02 06:0" + random.nextInt(10) + ":00'")));
        }
        case 4 ->
            statements.add(
                "INSERT INTO scan VALUES (%s, %s)"
                    .formatted(text(random, "G", 4), orNull(random, "" + random.nextInt(7))));
        case 5 -> statements.add("UPDATE load SET grams = grams + 1 WHERE MOD(id, 5) = " + id % 5);
        case 6 ->
            statements.add(
                "UPDATE load SET gate = " + text(random, "G", 4) + " WHERE grams = " + id % 7);
        default ->
            statements.add(
                random.nextInt(8) == 0
                    ? "DELETE FROM load"
                    : "DELETE FROM load WHERE grams = " + random.nextInt(7));
      }
    }
    return statements;
  }

  private static String orNull(Random random, String value) {
    return random.nextInt(7) == 0 ? "NULL" : value;
  }

  private static String text(Random random, String prefix, int values) {
    String longer = random.nextInt(4) == 0 ? " with a name that is too long to be kept inline" : "";
    return orNull(random, "'" + prefix + random.nextInt(values) + longer + "'");
  }

  private static String number(Random random) {
    return orNull(random, "CAST('" + random.nextDouble() * 100 + "' AS DOUBLE PRECISION)");
  }
}
