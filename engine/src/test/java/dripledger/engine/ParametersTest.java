package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.sql.Argument;
import dripledger.engine.sql.ArgumentKinds;
import dripledger.engine.sql.SqlFrontEnd;
import java.math.BigDecimal;
import java.time.Instant;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.MethodSource;

/**
 * A query that was planned once, for all values of its parameters, answers as one that is planned
 * with each of them, whatever the values are and wherever they stand.
 */
class ParametersTest {
  /** Of n, m: whole numbers; s: text; t: a time; d: a date; x: a floating one; b: a truth value. */
  private static final List<String> QUERIES =
      List.of(
          "SELECT * FROM parcel WHERE parcel = :n",
          "SELECT gate, grams FROM parcel WHERE :n = parcel AND gate = :s",
          "SELECT parcel FROM parcel WHERE parcel > :n AND parcel <= :m ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE parcel BETWEEN :n AND :m ORDER BY parcel DESC LIMIT :n",
          "SELECT parcel FROM parcel ORDER BY parcel LIMIT :n OFFSET :m",
          "SELECT parcel, gate FROM parcel WHERE gate > :s ORDER BY gate, parcel LIMIT 5 OFFSET :n",
          "SELECT parcel FROM parcel WHERE grams > :n AND at < :t ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE at >= :t ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE CAST(at AS DATE) = :d ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE ratio > :x ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE urgent = :b ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE gate IN (:s, 'G1') AND grams <> :n ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE gate LIKE :s ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE gate LIKE :s || '%' ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE (:s IS NULL OR gate = :s) AND (:n IS NULL OR parcel = :n)"
              + " ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE gate IS DISTINCT FROM :s ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE gate = COALESCE(:s, gate) ORDER BY parcel",
          "SELECT parcel + :n AS more, :m * 2 AS twice, UPPER(:s) AS s FROM parcel ORDER BY parcel",
          "SELECT :s AS s, :n AS n, :t AS t, :d AS d, :x AS x, :b AS b",
          "SELECT CASE WHEN grams > :n THEN :s ELSE gate END AS c FROM parcel ORDER BY parcel",
          "SELECT gate, COUNT(*) AS n, SUM(grams + :n) AS g FROM parcel WHERE grams < :m GROUP BY gate"
              + " HAVING COUNT(*) > :n ORDER BY gate NULLS FIRST",
          "SELECT grams / :n AS q, COUNT(*) FILTER (WHERE gate = :s) AS c FROM parcel"
              + " GROUP BY grams / :n ORDER BY q NULLS FIRST",
          "SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON g.gate = p.gate AND g.width > :n"
              + " WHERE p.parcel < :m ORDER BY p.parcel",
          "SELECT p.parcel, g.hall FROM parcel p LEFT JOIN gate g ON g.gate = p.gate AND g.hall = :s"
              + " WHERE p.grams > :n ORDER BY p.parcel",
          "SELECT parcel FROM parcel WHERE gate IN (SELECT gate FROM gate WHERE width >= :n)"
              + " ORDER BY parcel",
          "SELECT parcel FROM parcel p WHERE EXISTS (SELECT 1 FROM gate g WHERE g.gate = p.gate AND"
              + " g.hall <> :s) ORDER BY parcel",
          "SELECT parcel, (SELECT MAX(width) FROM gate WHERE hall > :s) AS w FROM parcel WHERE"
              + " parcel < :n ORDER BY parcel",
          "SELECT parcel FROM parcel WHERE parcel < :n UNION SELECT width FROM gate WHERE width > :m"
              + " ORDER BY parcel",
          "SELECT parcel, SUM(grams) OVER (PARTITION BY gate ORDER BY parcel) + :n AS s FROM parcel"
              + " WHERE grams > :n ORDER BY parcel",
          "WITH a AS (SELECT gate, COUNT(*) AS n FROM parcel WHERE grams > :n GROUP BY gate)"
              + " SELECT a.gate, b.n FROM a JOIN a AS b ON b.n = a.n WHERE a.gate > :s ORDER BY 1, 2",
          "SELECT parcel FROM heavy WHERE gate = :s AND parcel > :n ORDER BY parcel",
          "SELECT gate, n FROM totals WHERE gate = :s",
          "SELECT gate, n FROM totals WHERE n > :n ORDER BY n DESC, gate LIMIT :m",
          "SELECT v * :n AS v FROM (VALUES (1), (2)) AS t (v) WHERE v > :n - 1",
          "SELECT parcel FROM (SELECT parcel FROM parcel ORDER BY parcel LIMIT :n) x ORDER BY parcel",
          "SELECT at + INTERVAL '1' HOUR * :n AS later FROM parcel WHERE at + INTERVAL '2' DAY > :t"
              + " ORDER BY parcel",
          "SELECT date_trunc(:s, at) AS h FROM parcel WHERE parcel = :n",
          "SELECT 100 / :n AS q",
          "SELECT parcel FROM parcel WHERE at > CURRENT_TIMESTAMP - :n * INTERVAL '1' HOUR",
          "SELECT parcel FROM parcel WHERE CAST(at AS DATE) < CURRENT_DATE AND parcel < :n ORDER BY 1",
          "SELECT CURRENT_DATE AS d, date_trunc('day', CURRENT_TIMESTAMP) AS t, :n AS n",
          "SELECT COUNT(*) AS n FROM parcel WHERE grams / (grams - :n) > 1");

  /** Those that only values can tell what they are: planned with each. */
  private static final List<String> WITH_EACH =
      List.of("(SELECT parcel FROM parcel ORDER BY parcel LIMIT :n)", "date_trunc(:s");

  private static final int ROUNDS = 24;

  private static TestEngine db;
  private static int asked;

  static List<String> queries() {
    return QUERIES;
  }

  @BeforeAll
  static void start() {
    db = new TestEngine();
    db.run(
        """
        CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, width INTEGER);
        INSERT INTO gate VALUES ('G1', 'North', 4), ('G2', 'North', 7), ('G3', 'South', 12), ('G4', NULL, NULL);
        CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate VARCHAR, grams BIGINT, at TIMESTAMP,
          ratio DOUBLE, urgent BOOLEAN);
        CREATE VIEW heavy AS SELECT parcel, gate, grams FROM parcel WHERE grams > 5;
        CREATE MATERIALIZED VIEW totals AS SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate;
        """);
    Random random = new Random(5);
    StringBuilder rows = new StringBuilder("INSERT INTO parcel VALUES ");
    for (int i = 0; i < 60; i++) {
      rows.append(i == 0 ? "" : ", ")
          .append(
              "(%d, %s, %s, TIMESTAMP '2026-03-0%d 06:00:00', %s, %s)"
                  .formatted(
                      i,
                      random.nextInt(9) == 0 ? "NULL" : "'G" + random.nextInt(5) + "'",
                      random.nextInt(9) == 0 ? "NULL" : "" + random.nextInt(20),
                      1 + random.nextInt(3),
                      random.nextDouble(),
                      List.of("TRUE", "FALSE", "NULL").get(random.nextInt(3))));
    }
    db.run(rows.toString());
  }

  @AfterAll
  static void stop() {
    db.close();
  }

  private static Argument argument(Kind kind, Object value) {
    return new Argument(ColumnType.of(kind), value);
  }

  /**
   * Some values; {@code how} says in what types the numbers come, and whether with types at all.
   */
  private static Map<String, Object> values(Random random, int how) {
    Kind number = how == 0 ? Kind.INTEGER : how == 1 ? Kind.BIGINT : Kind.SMALLINT;
    long n = how == 1 && random.nextInt(4) == 0 ? 99_999_999_999L : random.nextInt(20);
    long m = 5L + random.nextInt(40);
    String s = List.of("G1", "G2", "G3", "North", "", "G%", "hour", "G'1").get(random.nextInt(8));
    Map<String, Object> values = new HashMap<>();
    values.put("n", how == 3 ? (Object) n : argument(number, n));
    values.put("m", how == 3 ? (Object) (int) m : argument(number, m));
    values.put("s", how == 3 ? s : argument(Kind.VARCHAR, s));
    values.put("t", argument(Kind.TIMESTAMP, LocalDateTime.of(2026, 3, 1, 6, 0).plusHours(m)));
    values.put("d", argument(Kind.DATE, LocalDate.of(2026, 3, 1 + (int) n % 4)));
    values.put("x", argument(Kind.DOUBLE, random.nextInt(10) / 10.0));
    values.put("b", how == 3 ? (Object) random.nextBoolean() : argument(Kind.BOOLEAN, n > 9));
    if (random.nextInt(4) == 0) {
      String name = List.of("n", "m", "s", "t", "d", "x", "b").get(random.nextInt(7));
      values.put(
          name,
          new Argument(
              values.get(name) instanceof Argument a ? a.type() : ColumnType.of(Kind.VARCHAR),
              null));
    }
    return values;
  }

  private static String answer(String query, Map<String, Object> values) {
    try {
      Result.Rows rows = (Result.Rows) db.run(query, values);
      List<String> all = new ArrayList<>();
      rows.rows().forEach(row -> all.add(Arrays.toString(row)));
      return rows.columns().stream()
              .map(c -> c.name() + " " + c.type().sql().replaceAll("\\(.*", ""))
              .toList()
          + " "
          + all;
    } catch (EngineException e) {
      return e.code() + " " + e.getMessage();
    }
  }

  @ParameterizedTest(name = "{0}")
  @MethodSource("queries")
  void aPlanForAllValuesAnswersAsOneForEach(String query) {
    Random random = new Random(11);
    int kept = 0;
    for (int i = 0; i < ROUNDS; i++) {
      Map<String, Object> values = values(random, i % 4);
      // What no one has asked before is planned with its values.
      String expected = answer(query + " -- " + asked++, values);
      assertThat(answer(query, values)).as("%s with %s", query, values).isEqualTo(expected);
      assertThat(answer(query, values)).as("again, with %s", values).isEqualTo(expected);
      boolean hasNull =
          values.values().stream().anyMatch(v -> v instanceof Argument a && a.value() == null);
      ArgumentKinds kinds = ArgumentKinds.of(values);
      if (new SqlFrontEnd().prepare(query, db.engine.catalog(), kinds) != null) {
        kept++;
      } else {
        assertThat(hasNull || WITH_EACH.stream().anyMatch(query::contains))
            .as("%s with %s", query, values)
            .isTrue();
      }
    }
    assertThat(kept > 0 || WITH_EACH.stream().anyMatch(query::contains)).isTrue();
  }

  @Test
  void ofTypesThatDependOnTheValueThereIsNoPlanForAll() {
    Map<String, Object> values = Map.of("n", argument(Kind.DECIMAL, new BigDecimal("5.25")));
    assertThat(ArgumentKinds.of(values)).isNull();
    for (String number : List.of("5.25", "5.5", "1234.125")) {
      String query = "SELECT :n + 1 AS n FROM gate WHERE width > :n ORDER BY gate LIMIT 1";
      String asText = query.replace(":n", number);
      Map<String, Object> given = Map.of("n", new BigDecimal(number));
      for (int i = 0; i < 3; i++) {
        assertThat(answer(query, given)).isEqualTo(answer(asText, Map.of()));
      }
    }
    assertThat(ArgumentKinds.of(Map.of("t", argument(Kind.TIME, LocalTime.NOON)))).isNotNull();
  }

  @Test
  void aSingleFloatIsOfItsOwnPrecision() {
    db.run("CREATE TABLE scale (n INTEGER PRIMARY KEY, weight REAL)");
    db.run("INSERT INTO scale VALUES (1, 1.1), (2, 2.2)");
    for (int i = 0; i < 4; i++) {
      Map<String, Object> values = Map.of("x", argument(Kind.REAL, i % 2 == 0 ? 1.1 : 2.2));
      assertThat(answer("SELECT n FROM scale WHERE weight = :x", values))
          .endsWith("[[" + (1 + i % 2) + "]]");
    }
  }

  /** A plan that was made before asks the clock anew. */
  @Test
  void theTimeIsThatOfTheAsking() {
    String query = "SELECT CURRENT_TIMESTAMP AS t FROM gate WHERE gate = 'G1'";
    for (int day = 10; day < 15; day++) {
      db.clock(Instant.parse("2026-11-" + day + "T08:00:00Z"));
      assertThat(answer(query, Map.of())).endsWith("[[2026-11-" + day + "T08:00]]");
    }
  }

  /** A plan is of the catalog that it was made with. */
  @Test
  void whatIsDefinedAnewIsPlannedAnew() {
    db.run("CREATE VIEW few AS SELECT parcel FROM parcel WHERE parcel < 3");
    Map<String, Object> none = Map.of("n", 1);
    String query = "SELECT parcel FROM few WHERE parcel >= :n ORDER BY parcel";
    for (int i = 0; i < 3; i++) {
      assertThat(answer(query, none)).endsWith("[[1], [2]]");
    }
    db.run("CREATE OR REPLACE VIEW few AS SELECT parcel FROM parcel WHERE parcel < 2");
    assertThat(answer(query, none)).endsWith("[[1]]");
    db.run("DROP VIEW few");
    assertThat(answer(query, none)).contains("no stream, table or view \"few\"");
  }

  /** As in PostgreSQL, no number of rows is all of them. */
  @Test
  void noLimitIsNone() {
    Map<String, Object> none = new HashMap<>();
    none.put("n", null);
    for (String query : List.of("ORDER BY gate LIMIT :n", "ORDER BY gate OFFSET :n")) {
      assertThat(answer("SELECT gate FROM gate " + query, none))
          .endsWith("[[G1], [G2], [G3], [G4]]");
    }
    String within = "SELECT COUNT(*) AS n FROM (SELECT gate FROM gate ORDER BY gate LIMIT :n) x";
    assertThat(answer(within, none)).endsWith("[[4]]");
    assertThat(answer(within, Map.of("n", 2))).endsWith("[[2]]");
    assertThat(answer(within, Map.of("n", -2))).contains("must not be negative");
  }

  @Test
  void aNumberOfRowsIsNotNegative() {
    String query = "SELECT parcel FROM parcel ORDER BY parcel LIMIT :n";
    for (int i = 0; i < 3; i++) {
      assertThat(answer(query, Map.of("n", 1))).endsWith("[[0]]");
      assertThat(answer(query, Map.of("n", -1)))
          .isEqualTo("INVALID LIMIT and OFFSET must not be negative");
    }
  }
}
