package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.PostgresCluster;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.CsvSource;
import org.junit.jupiter.params.provider.ValueSource;

/** What is said shorter than it is carried out: rows compared, signs for functions. */
class ShorthandsTest extends BesidePostgres {
  private static final String TABLE =
      "CREATE TABLE stop (id INTEGER PRIMARY KEY, gate VARCHAR, grams INTEGER, at TIMESTAMP)";

  private static List<OracleRun.Query> comparisons() {
    List<OracleRun.Query> queries = new ArrayList<>();
    String[] rows = {
      "(gate, grams) ? ('G2', 3)",
      "(grams, gate, id) ? (2, 'G1', 20)",
      "(at, id) ? (TIMESTAMP '2026-03-02 06:30:00', 10)",
      "(id, grams) ? (grams, id)",
      "ROW(id, gate) ? ROW(15, 'G3')",
    };
    for (int i = 0; i < rows.length; i++) {
      int n = 0;
      for (String sign : List.of("<", "<=", ">", ">=", "=", "<>")) {
        String condition = rows[i].replace("?", sign);
        String name = "rows_" + i + "_" + n++;
        queries.add(OracleRun.Query.of(name, "SELECT id FROM stop WHERE " + condition));
      }
      String not = "SELECT id, (" + rows[i].replace("?", ">") + ") IS UNKNOWN AS u FROM stop";
      queries.add(OracleRun.Query.of("unknown_" + i, not));
    }
    queries.add(
        OracleRun.Query.of(
            "later",
            "SELECT a.id, COUNT(b.id) AS n FROM stop AS a LEFT JOIN stop AS b ON a.gate = b.gate"
                + " AND (b.at, b.id) > (a.at, a.id) GROUP BY a.id"));
    return queries;
  }

  /** With NULLs in every column but the key, as views and asked once. */
  @ParameterizedTest
  @ValueSource(longs = {1, 2})
  void rowsAreComparedAsPostgresComparesThem(long seed) throws Exception {
    new OracleRun(cluster, TABLE, "unused (x INTEGER)", comparisons(), ShorthandsTest::changes)
        .epochs(20)
        .run("rows" + seed, seed);
  }

  private static List<String> changes(Random random) {
    List<String> statements = new ArrayList<>();
    for (int i = 0; i < 4; i++) {
      int id = random.nextInt(30);
      statements.add("DELETE FROM stop WHERE id = " + id);
      if (random.nextInt(5) > 0) {
        statements.add(
            "INSERT INTO stop VALUES (%d, %s, %s, %s)"
                .formatted(
                    id,
                    random.nextInt(6) == 0 ? "NULL" : "'G" + random.nextInt(4) + "'",
                    random.nextInt(6) == 0 ? "NULL" : "" + random.nextInt(6),
                    random.nextInt(6) == 0
                        ? "NULL"
                        : "TIMESTAMP '2026-03-02 06:%02d:00'".formatted(random.nextInt(6) * 10)));
      }
    }
    return statements;
  }

  @Test
  void expressionsAnswerWhatPostgresAnswers() throws SQLException {
    List<String> expressions = new ArrayList<>();
    for (String pattern :
        List.of("^G", "g0", "[0-9]+$", "a|Q", "^(.)\\w*-", "ä", "", "x*", "QU", "\\.")) {
      for (String sign : List.of("~", "~*", "!~", "!~*")) {
        expressions.add("s " + sign + " '" + pattern + "'");
      }
      expressions.add("array_to_string(regexp_match(s, '" + pattern + "'), '|')");
      expressions.add("array_to_string(regexp_match(s, '(" + pattern + ")(.?)', 'i'), '|', '-')");
    }
    for (String pattern :
        List.of(
            "%", "G__", "(Q|ä)%", "%[a-c_%]%", "_+", "G[0-9]{2}", "a.c", "\\%%", "%$", "(ab)*c")) {
      expressions.add("s SIMILAR TO '" + pattern + "'");
      expressions.add("s NOT SIMILAR TO '" + pattern + "'");
    }
    expressions.add("s SIMILAR TO 'a#%#_' ESCAPE '#'");
    expressions.add("s ~ 'a' AND NOT s ~ 'b' OR s || 'x' ~ 'cx$'");
    expressions.add("(k + 1)::VARCHAR ~ '^[2-4]$'");
    for (String trimmed : List.of("btrim(s)", "btrim(s, 'Qaen')", "btrim(s, '')")) {
      expressions.add(trimmed);
    }
    for (String place :
        List.of(
            "2",
            "2 FOR 0",
            "2 FOR -1",
            "2000000000 FOR 2",
            "1 FOR 100",
            "100",
            "3 FOR 2",
            "k FOR k")) {
      expressions.add("overlay(s PLACING 'äx' FROM " + place + ")");
    }
    expressions.addAll(
        List.of(
            "bit_length(s)",
            "to_hex(k * 255)",
            "scale(1.50)",
            "scale(CAST(k AS DECIMAL(10, 4)))",
            "num_nulls(s, n)",
            "num_nonnulls(s, n, k)",
            "cardinality(CAST(ARRAY[] AS INTEGER ARRAY))",
            "array_to_string(CAST(ARRAY[] AS VARCHAR ARRAY) || ARRAY[s], ',')"));
    String table =
        "CREATE TABLE word (k INTEGER PRIMARY KEY, s VARCHAR, n INTEGER);"
            + "INSERT INTO word VALUES (1, 'G07', NULL), (2, 'Quillhaven-QH', 1), (3, NULL, NULL),"
            + " (4, '', 2), (5, 'a.c', 3), (6, '  äöü  ', 4), (7, 'a%_', 5), (8, 'ababc', 6)";
    try (TestEngine db = new TestEngine();
        Connection connection =
            DriverManager.getConnection(
                cluster.jdbcUrl(PostgresCluster.DATABASE), PostgresCluster.USER, "loopback");
        Statement oracle = connection.createStatement()) {
      oracle.execute("DROP TABLE IF EXISTS word");
      oracle.execute(table);
      db.run(table);
      List<String> wrong = new ArrayList<>();
      for (String expression : expressions) {
        String sql = "SELECT k, " + expression + " AS x FROM word";
        List<String> theirs = Answers.theirs(oracle, sql);
        List<String> ours = Answers.ours(db, sql);
        if (!ours.equals(theirs)) {
          wrong.add(expression + ": " + ours + " and not " + theirs);
        }
      }
      assertThat(wrong).isEmpty();
    }
  }

  @Test
  void numbersInHexadecimalAreOfSixtyFourBits() {
    try (TestEngine db = new TestEngine()) {
      assertThat(db.value("SELECT to_hex(-1)")).isEqualTo("ffffffffffffffff");
    }
  }

  /** The next page of an answer begins where the last one ended, and reads nothing before. */
  @Test
  void aPageBeginsWhereTheLastOneEnded() {
    try (TestEngine db = new TestEngine()) {
      db.run(
          "CREATE TABLE load (gate INTEGER, minute INTEGER, n INTEGER, PRIMARY KEY (gate, minute))");
      db.run(
          "INSERT INTO load SELECT i / 50, i % 50, CASE WHEN i < 600 THEN 0 ELSE i END"
              + " FROM generate_series(0, 999) AS s (i)");
      String page =
          "SELECT gate, minute, 1 / n FROM load WHERE (gate, minute) > (%d, %d) ORDER BY gate, minute"
              + " LIMIT 7";
      int gate = 12;
      int minute = 3;
      for (int i = 604; i < 950; i += 7) {
        List<String> rows = db.rows(page.formatted(gate, minute));
        assertThat(rows).hasSize(7);
        assertThat(rows.get(0)).isEqualTo("[" + i / 50 + ", " + i % 50 + ", 0]");
        gate = (i + 6) / 50;
        minute = (i + 6) % 50;
      }
      assertThat(db.rows("EXPLAIN " + page.formatted(3, 3)).toString())
          .contains("by key gate, minute, in part");
      assertThat(db.rows(page.formatted(19, 49))).isEmpty();
    }
  }

  @ParameterizedTest
  @CsvSource(
      delimiter = '|',
      quoteCharacter = '`',
      value = {
        "(1, 2) > (1, 2, 3) | rows of 2 and of 3 columns are not compared",
        "(1, 'a') > ('a', 1) | 'a' is not a valid integer",
        "'a' ~ '(' | not a regular expression",
        "'a' SIMILAR TO '(' | not a pattern of SIMILAR TO: (",
        "'a' SIMILAR TO 'a' ESCAPE 'ab' | an escape is one character",
        "'a' SIMILAR TO 'a#' ESCAPE '#' | ends with its escape",
        "overlay('abc' PLACING 'x' FROM 0) = 'a' | OVERLAY begins at 1",
        "cardinality(ARRAY[]) = 0 | an array has elements of one kind"
      })
  void whatCannotBeSaysSo(String condition, String expected) {
    try (TestEngine db = new TestEngine()) {
      assertThat(db.error("SELECT 1 WHERE " + condition)).hasMessageContaining(expected);
    }
  }
}
