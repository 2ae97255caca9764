package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import java.util.List;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;

/** What somebody who works with arrays meets beside the answers: plans, refusals, nested rows. */
class ArrayTest {
  private final TestEngine db = new TestEngine();

  @BeforeEach
  void gate() {
    db.run("CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR)");
  }

  @AfterEach
  void close() {
    db.close();
  }

  @Test
  void elementsThatAreRowsAreColumns() {
    db.run(
        "CREATE STREAM scan (parcel INTEGER NOT NULL, note VARCHAR, items ROW(name VARCHAR, grams"
            + " INTEGER) ARRAY)");
    db.run(
        "CREATE MATERIALIZED VIEW item AS SELECT s.parcel, i.n, i.name, i.grams FROM scan AS s,"
            + " UNNEST(s.items) WITH ORDINALITY AS i (name, grams, n)");
    db.push(
        "scan",
        new Object[] {1L, "a", List.of(List.of("book", 300L), List.of("lamp", 900L))},
        new Object[] {2L, "b", List.of()},
        new Object[] {3L, "c", null});
    assertThat(db.rows("SELECT * FROM item ORDER BY parcel, n"))
        .containsExactly("[1, 1, book, 300]", "[1, 2, lamp, 900]");
    // Nothing is read that nobody asks for, and nothing is kept.
    assertThat(db.rows("EXPLAIN SELECT i.grams FROM scan AS s, UNNEST(s.items) AS i (name, grams)"))
        .hasSize(4)
        .anyMatch(line -> line.contains("a row for each element of items"))
        .noneMatch(line -> line.contains("note"));
  }

  @Test
  void aLongSeriesIsMadeInBlocks() {
    for (String[] each :
        new String[][] {
          {"1, 200000", "200000, 1, 200000"},
          {"-5, 250000, 2", "125003, -5, 249999"},
          {"100000, -100000, -1", "200001, -100000, 100000"}
        }) {
      assertThat(
              db.rows(
                  "SELECT COUNT(*), MIN(x), MAX(x) FROM generate_series(" + each[0] + ") AS s (x)"))
          .containsExactly("[" + each[1] + "]");
    }
    db.run("INSERT INTO gate SELECT 'G' || n, 'h' || n % 7 FROM generate_series(1, 70000) AS n");
    assertThat(db.rows("SELECT COUNT(*), COUNT(DISTINCT hall) FROM gate"))
        .containsExactly("[70000, 7]");
  }

  @Test
  void whatIsWrongWithArraysSaysSo() {
    for (String statement :
        new String[] {
          "SELECT ARRAY[1, 'a'] AS x: one kind",
          "SELECT ARRAY[] AS x: one at least",
          "SELECT gate FROM gate WHERE gate = ANY (ARRAY[1, 2]): an array of the same kind",
          "SELECT gate FROM gate WHERE gate = ANY ('G01'): an array of the same kind",
          "SELECT x FROM UNNEST(5) AS t (x): UNNEST takes arrays",
          "SELECT generate_series(1, 3): stands in FROM",
          "SELECT array_length(ARRAY[1], 2) AS n: one dimension",
          "SELECT gate #>> 'a.b' AS x FROM gate: a list of names",
          "SELECT gate[1] AS x FROM gate: does not go with these types"
        }) {
      int says = statement.lastIndexOf(": ");
      EngineException e = db.error(statement.substring(0, says));
      assertThat(e).hasMessageContaining(statement.substring(says + 2));
      assertThat(e.line()).isEqualTo(1);
      assertThat(e.hint()).isNotNull();
    }
    db.run("INSERT INTO gate VALUES ('G01', 'North')");
    assertThat(db.error("SELECT x FROM gate, generate_series(1, 100000 + LENGTH(gate)) AS s (x)"))
        .hasMessageContaining("at most 60000");
    assertThat(db.error("SELECT x FROM generate_series(1, 9000000000000000000) AS s (x)"))
        .hasMessageContaining("at most 60000");
    assertThat(db.rows("SELECT x FROM generate_series(1, 5, 9000000000000000000) AS s (x)"))
        .containsExactly("[1]");
    db.run("DELETE FROM gate");
    Result.Rows named =
        (Result.Rows)
            db.run("SELECT (ARRAY[1, 2])[1], ARRAY[gate], CARDINALITY(ARRAY[1]) FROM gate");
    assertThat(named.columns().stream().map(c -> c.name()))
        .containsExactly("array", "array", "cardinality");
  }
}
