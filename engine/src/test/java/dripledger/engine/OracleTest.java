package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.PostgresCluster;
import java.math.BigDecimal;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/**
 * The promise of the product, checked against PostgreSQL: after every epoch of seeded random
 * changes every view equals what PostgreSQL answers for the same query over the same rows.
 */
class OracleTest {
  private static final int EPOCHS = 60;
  private static PostgresCluster cluster;

  @BeforeAll
  static void startPostgres() throws Exception {
    cluster = PostgresCluster.temporary();
  }

  @AfterAll
  static void stopPostgres() {
    cluster.close();
  }

  /** A view and, where the words differ, the same query for PostgreSQL. */
  private record Shape(String name, String ours, String oracle) {}

  private static List<Shape> shapes() {
    Map<String, String> same = new LinkedHashMap<>();
    same.put("all_rows", "SELECT * FROM parcel");
    same.put("filtered", "SELECT k, area FROM parcel WHERE grams > 500 AND service <> 'bulky'");
    same.put("null_logic", "SELECT k FROM parcel WHERE NOT (grams > 500 OR fragile)");
    same.put(
        "null_tests",
        "SELECT k, grams IS NULL AS a, fragile IS NOT TRUE AS b, area IS NOT DISTINCT FROM service AS"
            + " c FROM parcel");
    same.put(
        "case_when",
        "SELECT k, CASE WHEN grams < 300 THEN 'light' WHEN grams < 900 THEN 'medium' WHEN grams IS"
            + " NULL THEN NULL ELSE 'heavy' END AS class FROM parcel");
    same.put(
        "arithmetic",
        "SELECT k, grams + 1 AS a, grams * 2 - k AS b, cents / 4 AS c, MOD(grams, 7) AS d, -grams AS"
            + " e, big * 3 AS f, grams / 7 AS g FROM parcel");
    same.put(
        "decimals",
        "SELECT k, rate * 2 AS a, rate + 1 AS b, rate * rate AS c, ROUND(rate, 1) AS d, FLOOR(rate) AS"
            + " e, CEIL(rate) AS f, ABS(rate) AS g FROM parcel");
    same.put(
        "text",
        "SELECT k, UPPER(area) AS a, LOWER(service) AS b, CHAR_LENGTH(area) AS c, SUBSTRING(area FROM"
            + " 2 FOR 3) AS d, area || '-' || service AS e, POSITION('-' IN area) AS f, REPLACE(area,"
            + " 'Q', 'R') AS g, TRIM(BOTH ' ' FROM '  ' || area || ' ') AS h FROM parcel");
    same.put(
        "more_text",
        "SELECT k, LEFT(area, 2) AS a, RIGHT(area, 2) AS b, LPAD(area, 10, '*') AS c, RPAD(area, 3)"
            + " AS d, REVERSE(area) AS e, SPLIT_PART(area, '-', 2) AS f, INITCAP(service) AS g,"
            + " REPEAT(service, 2) AS h FROM parcel");
    same.put(
        "likes",
        "SELECT k FROM parcel WHERE area LIKE 'QH-N%' OR service LIKE '_ulk%' OR area ILIKE 'qh-s_'");
    same.put(
        "in_between",
        "SELECT k FROM parcel WHERE service IN ('bulky', 'standard') AND grams BETWEEN 100 AND 800");
    same.put(
        "casts",
        "SELECT k, CAST(grams AS VARCHAR) AS a, CAST(rate AS INTEGER) AS b, CAST(k AS DECIMAL(10, 2))"
            + " AS c, CAST(weight AS INTEGER) AS d, CAST('2026-03-02' AS DATE) AS e, CAST(at AS DATE)"
            + " AS f, CAST(fragile AS VARCHAR) AS g, CAST(at AS VARCHAR) AS h, rate::int AS i FROM"
            + " parcel");
    same.put(
        "times",
        "SELECT k, date_trunc('hour', at) AS a, EXTRACT(HOUR FROM at) AS b, at + INTERVAL '90' MINUTE"
            + " AS c, EXTRACT(DOW FROM at) AS d, at - INTERVAL '1' MONTH AS e, EXTRACT(SECOND FROM"
            + " at) AS f, date_trunc('week', at) AS g FROM parcel");
    same.put(
        "coalesce",
        "SELECT k, COALESCE(grams, -1) AS a, NULLIF(service, 'bulky') AS b, GREATEST(grams, k) AS c, LEAST(grams, k, 500) AS d, CONCAT(service, area) AS e FROM parcel");
    same.put(
        "doubles",
        "SELECT k, weight * 1.5e0 AS a, SQRT(ABS(weight)) AS b, weight / 3 AS c FROM parcel");
    same.put(
        "grouped",
        "SELECT service, COUNT(*) AS n, COUNT(grams) AS g, SUM(grams) AS s, AVG(grams) AS m, MIN(grams)"
            + " AS lo, MAX(grams) AS hi FROM parcel GROUP BY service");
    same.put(
        "grouped_decimals",
        "SELECT area, SUM(rate) AS s, AVG(rate) AS m, MIN(rate) AS lo, MAX(rate) AS hi, SUM(big) AS b,"
            + " AVG(big / 10000000000) AS c, SUM(cents) AS w FROM parcel GROUP BY area");
    same.put(
        "grouped_doubles",
        "SELECT service, SUM(weight) AS s, AVG(weight) AS m, MIN(weight) AS lo, MAX(weight) AS hi FROM"
            + " parcel GROUP BY service");
    same.put(
        "grouped_text",
        "SELECT grams / 100 AS bucket, MIN(area) AS lo, MAX(area) AS hi, MIN(at) AS first_at, MAX(at)"
            + " AS last_at FROM parcel GROUP BY grams / 100");
    same.put(
        "expressions",
        "SELECT CASE WHEN fragile THEN 'f' ELSE 's' END AS kind, date_trunc('hour', at) AS h, COUNT(*)"
            + " * 2 + 1 AS n, SUM(grams) / COUNT(*) AS m FROM parcel GROUP BY CASE WHEN fragile THEN"
            + " 'f' ELSE 's' END, date_trunc('hour', at)");
    same.put(
        "having",
        "SELECT area, COUNT(*) AS n FROM parcel GROUP BY area HAVING COUNT(*) > 2 AND MAX(grams) > 400");
    same.put(
        "filters",
        "SELECT service, COUNT(*) FILTER (WHERE grams > 500) AS heavy, SUM(grams) FILTER (WHERE"
            + " fragile) AS f, MIN(grams) FILTER (WHERE NOT fragile) AS m FROM parcel GROUP BY service");
    same.put(
        "global",
        "SELECT COUNT(*) AS n, SUM(grams) AS s, MIN(at) AS a, MAX(area) AS b FROM parcel");
    same.put("global_filtered", "SELECT COUNT(*) AS n, AVG(rate) AS a FROM parcel WHERE k < 0");
    same.put("distinct_rows", "SELECT DISTINCT service, fragile FROM parcel");
    same.put(
        "distinct_calls",
        "SELECT service, COUNT(DISTINCT area) AS n, SUM(DISTINCT grams) AS s FROM parcel GROUP BY"
            + " service");
    same.put(
        "united",
        "SELECT k AS id, area FROM parcel WHERE grams > 400 UNION ALL SELECT big AS id, service FROM"
            + " parcel WHERE fragile");
    same.put("united_distinct", "SELECT area AS x FROM parcel UNION SELECT service FROM parcel");
    same.put(
        "nested",
        "SELECT n, COUNT(*) AS areas FROM (SELECT area, COUNT(*) AS n FROM parcel GROUP BY area) AS q"
            + " GROUP BY n");
    same.put(
        "nested_numbers",
        "SELECT hi, n, COUNT(*) AS c, SUM(n) AS t, MIN(lo) AS lo, MAX(s) AS s, COUNT(s) FILTER (WHERE"
            + " fragile) AS f FROM (SELECT k / 3 AS third, fragile, COUNT(*) AS n, SUM(grams) AS s,"
            + " MIN(k) AS lo, MAX(grams / 300) AS hi FROM parcel GROUP BY k / 3, fragile) AS q GROUP"
            + " BY hi, n");
    same.put(
        "nested_in_part",
        "SELECT third, COUNT(*) AS c, SUM(s) AS s FROM (SELECT k / 3 AS third, fragile, COUNT(*) AS n,"
            + " SUM(grams) AS s, MIN(k) AS lo, MAX(grams / 300) AS hi FROM parcel GROUP BY k / 3,"
            + " fragile) AS q GROUP BY third");
    same.put(
        "with_query",
        "WITH heavy AS (SELECT area, grams FROM parcel WHERE grams > 300) SELECT area, MAX(grams) AS m"
            + " FROM heavy GROUP BY area");
    same.put(
        "events",
        "SELECT gate, date_trunc('minute', at) AS m, COUNT(*) AS n, SUM(grams) AS s, MAX(grams) AS hi,"
            + " MIN(at) AS lo FROM scan GROUP BY gate, date_trunc('minute', at)");
    same.put("events_raw", "SELECT gate, grams FROM scan WHERE grams IS NOT NULL");
    List<Shape> shapes = new ArrayList<>();
    same.forEach((name, sql) -> shapes.add(new Shape("v_" + name, sql, sql)));
    shapes.add(
        new Shape(
            "latest",
            "SELECT area, MAX_BY(service, grams) AS s, MIN_BY(k, grams) AS m FROM parcel GROUP BY area",
            "SELECT area, (array_agg(service ORDER BY grams DESC, service DESC) FILTER (WHERE grams IS"
                + " NOT NULL))[1] AS s, (array_agg(k ORDER BY grams, k) FILTER (WHERE grams IS NOT"
                + " NULL))[1] AS m FROM parcel GROUP BY area"));
    shapes.add(
        new Shape(
            "latest_event",
            "SELECT parcel, MAX_BY(gate, at) AS g FROM scan GROUP BY parcel",
            "SELECT parcel, (array_agg(gate ORDER BY at DESC, gate DESC NULLS FIRST))[1] AS g FROM scan"
                + " GROUP BY parcel"));
    shapes.add(
        new Shape(
            "json",
            "SELECT k, JSON_VALUE(note, '$.a') AS a, JSON_EXISTS(note, '$.b') AS b,"
                + " JSON_VALUE(note, '$.n' RETURNING INTEGER) AS n FROM parcel",
            "SELECT k, note::jsonb ->> 'a' AS a, jsonb_path_exists(note::jsonb, '$.b') AS b,"
                + " (note::jsonb ->> 'n')::int AS n FROM parcel"));
    shapes.add(
        new Shape(
            "view_on_view",
            "SELECT n, SUM(s) AS s, COUNT(*) AS services FROM v_grouped GROUP BY n",
            "SELECT n, SUM(s) AS s, COUNT(*) AS services FROM (SELECT service, COUNT(*) AS n,"
                + " SUM(grams) AS s FROM parcel GROUP BY service) q GROUP BY n"));
    return shapes;
  }

  private static final String COLUMNS =
      """
      (k INTEGER PRIMARY KEY, service VARCHAR, area VARCHAR, grams INTEGER, big BIGINT,
       rate DECIMAL(12, 3), cents DECIMAL(25, 2), weight DOUBLE PRECISION, at TIMESTAMP,
       fragile BOOLEAN, note VARCHAR)
      """;

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3, 4, 5, 6})
  void everyViewEqualsPostgresAtEveryEpoch(long seed) throws Exception {
    Random random = new Random(seed);
    String database = "oracle" + seed;
    List<Shape> shapes = shapes();
    assertThat(shapes.size()).isGreaterThanOrEqualTo(20);
    try (Connection admin = connect("postgres");
        Statement s = admin.createStatement()) {
      s.execute("CREATE DATABASE " + database + " TEMPLATE template0 LC_COLLATE 'C' LC_CTYPE 'C'");
    }
    try (TestEngine db = new TestEngine();
        Connection pg = connect(database);
        Statement oracle = pg.createStatement()) {
      db.run("CREATE TABLE parcel " + COLUMNS);
      oracle.execute("CREATE TABLE parcel " + COLUMNS);
      db.run(
          "CREATE STREAM scan (parcel BIGINT NOT NULL, gate VARCHAR, at TIMESTAMP, grams INTEGER)");
      oracle.execute(
          "CREATE TABLE scan (parcel BIGINT, gate VARCHAR, at TIMESTAMP, grams INTEGER)");
      // Half of the views are there from the start, half are filled from what is there later.
      for (int i = 0; i < shapes.size(); i += 2) {
        create(db, shapes.get(i));
      }
      for (int epoch = 0; epoch < EPOCHS; epoch++) {
        change(random, db, oracle);
        if (epoch == EPOCHS / 3) {
          for (int i = 1; i < shapes.size(); i += 2) {
            create(db, shapes.get(i));
          }
        }
        if (random.nextInt(4) == 0) {
          db.checkpoint();
        }
        if (random.nextInt(8) == 0) {
          db.crash();
        }
        for (int i = 0; i < shapes.size(); i += epoch < EPOCHS / 3 ? 2 : 1) {
          Shape shape = shapes.get(i);
          assertThat(Answers.ours(db, "SELECT * FROM " + shape.name))
              .as("seed %d, epoch %d, view %s: %s", seed, epoch, shape.name, shape.ours)
              .isEqualTo(Answers.theirs(oracle, shape.oracle));
        }
      }
      for (Shape shape : shapes) {
        assertThat(Answers.ours(db, shape.ours))
            .as("seed %d, asked once: %s", seed, shape.ours)
            .isEqualTo(Answers.theirs(oracle, shape.oracle));
      }
    }
  }

  private static Connection connect(String database) throws SQLException {
    return DriverManager.getConnection(cluster.jdbcUrl(database), PostgresCluster.USER, "loopback");
  }

  private static void create(TestEngine db, Shape shape) {
    db.run("CREATE MATERIALIZED VIEW " + shape.name + " AS " + shape.ours);
  }

  /** One epoch's changes, as the same statements on both sides. */
  private static void change(Random random, TestEngine db, Statement oracle) throws SQLException {
    List<String> statements = new ArrayList<>();
    int count = 1 + random.nextInt(3);
    for (int i = 0; i < count; i++) {
      switch (random.nextInt(6)) {
        case 0, 1, 2 -> {
          List<String> rows = new ArrayList<>();
          for (int r = 0; r < 1 + random.nextInt(8); r++) {
            int k = random.nextInt(120);
            statements.add("DELETE FROM parcel WHERE k = " + k);
            statements.add("INSERT INTO parcel VALUES " + row(random, k));
          }
          for (int r = 0; r < random.nextInt(6); r++) {
            String event = event(random);
            rows.add(event);
            if (random.nextInt(5) == 0) {
              rows.add(event); // a duplicate
            }
          }
          if (!rows.isEmpty()) {
            statements.add("INSERT INTO scan VALUES " + String.join(", ", rows));
          }
        }
        case 3 ->
            statements.add(
                "UPDATE parcel SET grams = grams + "
                    + random.nextInt(50)
                    + ", area = 'QH-N' || k WHERE MOD(k, 7) = "
                    + random.nextInt(7));
        case 4 ->
            statements.add(
                "UPDATE parcel SET service = NULL, fragile = NOT fragile, rate = rate * 2, weight ="
                    + " weight + 0.1e0 WHERE k < "
                    + random.nextInt(60)
                    + " AND rate < 1000");
        default ->
            statements.add(
                random.nextInt(8) == 0
                    ? "DELETE FROM parcel"
                    : "DELETE FROM parcel WHERE MOD(k, 5) = " + random.nextInt(5));
      }
    }
    db.run("BEGIN; " + String.join("; ", statements) + "; COMMIT");
    for (String statement : statements) {
      oracle.execute(statement);
    }
  }

  private static String maybe(Random random, String value) {
    return random.nextInt(6) == 0 ? "NULL" : value;
  }

  private static String row(Random random, int k) {
    String service = List.of("'next_day'", "'standard'", "'bulky'").get(random.nextInt(3));
    String[] values = {
      "" + k,
      maybe(random, service),
      maybe(random, "'QH-" + "NSEW".charAt(random.nextInt(4)) + random.nextInt(3) + "'"),
      maybe(random, "" + (random.nextInt(2000) - 500)),
      maybe(random, "" + (random.nextLong() >> 8)),
      maybe(random, BigDecimal.valueOf(random.nextInt(2_000_000) - 1_000_000, 3).toPlainString()),
      maybe(random, BigDecimal.valueOf(random.nextLong() >> 4, 2).toPlainString()),
      maybe(random, "" + (random.nextInt(20000) - 10000) / 64.0 + "e0"),
      maybe(random, "TIMESTAMP '" + time(random) + "'"),
      maybe(random, random.nextBoolean() ? "TRUE" : "FALSE"),
      maybe(
          random,
          "'{\"a\":\"x"
              + random.nextInt(3)
              + "\",\"n\":"
              + random.nextInt(9)
              + (random.nextBoolean() ? ",\"b\":[1]" : "")
              + "}'")
    };
    return "(" + String.join(", ", values) + ")";
  }

  private static String event(Random random) {
    return "("
        + random.nextInt(40)
        + ", "
        + maybe(random, "'G0" + random.nextInt(5) + "'")
        + ", TIMESTAMP '"
        + time(random)
        + "', "
        + maybe(random, "" + random.nextInt(3000))
        + ")";
  }

  private static String time(Random random) {
    return LocalDateTime.of(2026, 3, 2, 6, 0)
        .plusSeconds(random.nextInt(7200))
        .plusNanos(random.nextInt(1_000_000) * 1000L)
        .toString()
        .replace('T', ' ')
        .replaceFirst("^(\\S+ \\d\\d:\\d\\d)$", "$1:00");
  }
}
