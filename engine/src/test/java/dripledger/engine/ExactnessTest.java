package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import dripledger.engine.source.Connectors;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;

/** What must not drift when rows come and go, and the edges of what the values can hold. */
class ExactnessTest {
  private final TestEngine db = new TestEngine();

  @BeforeEach
  void tables() {
    db.run(
        "CREATE TABLE t (k INTEGER PRIMARY KEY, x DOUBLE, b BIGINT, d DECIMAL(38, 2), i INTEGER, s VARCHAR)");
    db.run(
        "CREATE MATERIALIZED VIEW v AS SELECT SUM(x) AS x, AVG(x) AS a, SUM(b) AS b, SUM(d) AS d FROM t");
  }

  @AfterEach
  void close() {
    db.close();
  }

  @Test
  void aFloatingSumForgetsWhatWasTakenOut() {
    db.run("INSERT INTO t (k, x) VALUES (1, 1e0), (2, 1e300), (3, -1e-300), (4, 0.1e0)");
    db.run("DELETE FROM t WHERE k IN (2, 3)");
    assertThat(db.rows("SELECT x, a FROM v")).containsExactly("[1.1, 0.55]");
    db.run(
        "INSERT INTO t (k, x) VALUES (5, CAST('NaN' AS DOUBLE)), (6, CAST('Infinity' AS DOUBLE))");
    assertThat(db.rows("SELECT x FROM v")).containsExactly("[NaN]");
    db.run("DELETE FROM t WHERE k = 5");
    assertThat(db.rows("SELECT x FROM v")).containsExactly("[Infinity]");
    db.run("DELETE FROM t WHERE k = 6");
    assertThat(db.rows("SELECT x FROM v")).containsExactly("[1.1]");
  }

  @Test
  void sumsOfBigintsAndWideDecimalsDoNotOverflow() {
    db.run(
        "INSERT INTO t (k, b, d) VALUES (1, 9223372036854775807, 999999999999999999999999999999.99)");
    db.run("INSERT INTO t (k, b, d) VALUES (2, 9223372036854775807, 0.01), (3, -5, -1)");
    assertThat(db.rows("SELECT b, d FROM v"))
        .containsExactly("[18446744073709551609, 999999999999999999999999999999.00]");
    db.run("DELETE FROM t WHERE k < 3");
    assertThat(db.rows("SELECT b, d FROM v")).containsExactly("[-5, -1.00]");
  }

  @Test
  void integersOverflowIntoARejectAndNeverWrap() {
    db.run("CREATE MATERIALIZED VIEW w AS SELECT k, i + 1 AS j FROM t");
    db.run("INSERT INTO t (k, i) VALUES (1, 2147483647), (2, 5)");
    assertThat(db.rows("SELECT * FROM w")).containsExactly("[2, 6]");
    assertThat(db.state("w").reasons().get(0)).isEqualTo("2147483648 is out of range for INTEGER");
    assertThat(db.error("SELECT CAST('12x' AS INTEGER)").getMessage())
        .contains("'12x' is not a valid integer");
  }

  @Test
  void aDayThatIsNotInTheCalendarIsNoTime() {
    for (String cast :
        new String[] {
          "'2026-02-30' AS DATE",
          "'2027-02-29' AS TIMESTAMP",
          "'2026-04-31 06:00:00' AS TIMESTAMP",
          "'2026-03-02x' AS DATE",
          "'2026-03-02 25:00' AS DATE",
          "'06:61:00' AS TIME"
        }) {
      assertThat(db.error("SELECT CAST(" + cast + ")").getMessage())
          .as(cast)
          .contains("is not a valid");
    }
  }

  @Test
  void theClockIsAskedOnceAQuery() {
    assertThat(db.rows("SELECT CURRENT_TIMESTAMP AS a, now() - INTERVAL '1' HOUR AS b"))
        .containsExactly("[2026-03-02T06:00, 2026-03-02T05:00]");
  }

  @Test
  void textIsCountedInCharactersAndNotInUnits() {
    db.run("INSERT INTO t (k, s) VALUES (1, 'a😀b')");
    assertThat(db.rows("SELECT CHAR_LENGTH(s), SUBSTRING(s FROM 2 FOR 1), REVERSE(s) FROM t"))
        .containsExactly("[3, 😀, b😀a]");
  }

  @Test
  void anAnswerHasABoundInRows() {
    EngineOptions few =
        new EngineOptions(1000, 1 << 20, 3, 10, 1L << 30, 5000, 60_000, 1L << 30, 30_000, 2, 1);
    try (Engine other = new Engine(few, TestEngine.records(), Connectors.NONE, TestEngine.CLOCK)) {
      other.start();
      other.execute(
          "CREATE TABLE n (k INTEGER PRIMARY KEY); INSERT INTO n VALUES (1), (2), (3), (4)");
      assertThatThrownBy(() -> other.execute("SELECT k FROM n"))
          .isInstanceOfSatisfying(
              EngineException.class,
              e -> assertThat(e.code()).isEqualTo(EngineException.Code.LIMIT));
      assertThat(rows(other, "SELECT k FROM n WHERE k < 4")).isEqualTo(3);
      assertThat(rows(other, "SELECT k FROM n ORDER BY k DESC LIMIT 2 OFFSET 1")).isEqualTo(2);
    }
  }

  private static int rows(Engine engine, String query) {
    return ((Result.Rows) engine.execute(query).get(0)).rows().size();
  }

  @Test
  void numbersAndTextAreNotCompared() {
    try (TestEngine db = new TestEngine()) {
      db.run("CREATE TABLE load (id INTEGER PRIMARY KEY, gate VARCHAR, cost DECIMAL(8, 2))");
      db.run("INSERT INTO load VALUES (5, '5', 5)");
      for (String condition :
          new String[] {
            "id = gate",
            "gate < cost",
            "id IN (SELECT gate FROM load)",
            "gate IN (id, 3)",
            "gate + 1 > 2"
          }) {
        assertThat(db.error("SELECT id FROM load WHERE " + condition))
            .as(condition)
            .hasMessageNotContaining("internal");
      }
      assertThat(db.error("SELECT id FROM load WHERE id = gate").hint())
          .contains("cast one of them");
      for (String condition :
          new String[] {
            "id = '5'", "cost IN ('5', '6')", "id = CAST(gate AS INTEGER)", "'6' > cost"
          }) {
        assertThat(db.rows("SELECT id FROM load WHERE " + condition)).containsExactly("[5]");
      }
    }
  }
}
