package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.query.Result;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.Test;

/** Queries by key, and queries asked again, for other values. */
class AskingByKeyTest {
  private final TestEngine db = new TestEngine();

  private static final String GATE =
      "CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, capacity_per_minute INTEGER);";

  @AfterEach
  void close() {
    db.close();
  }

  @Test
  void conditionsOnAKeyAnswerWhatAScanAnswers() {
    db.run(GATE);
    db.run("CREATE TABLE visit (gate VARCHAR(4), day INTEGER, n BIGINT, PRIMARY KEY (gate, day))");
    db.run(
        "CREATE MATERIALIZED VIEW by_day AS SELECT gate, day, SUM(n) AS n FROM visit GROUP BY gate, day");
    db.run(
        "CREATE MATERIALIZED VIEW by_gate AS SELECT SUM(n) AS n, gate, COUNT(*) AS days FROM visit GROUP BY gate");
    db.run(
        "CREATE MATERIALIZED VIEW busy AS SELECT gate, SUM(n) AS n FROM visit GROUP BY gate HAVING SUM(n) > 3");
    StringBuilder rows = new StringBuilder("INSERT INTO visit VALUES ");
    for (int i = 0; i < 60; i++) {
      rows.append(i == 0 ? "" : ", ").append("('G0" + i % 7 + "', " + i / 7 + ", " + i % 3 + ")");
    }
    db.run(rows.toString());
    for (String relation : List.of("visit", "by_day")) {
      for (String condition :
          List.of(
              "gate = 'G03' AND day = 2",
              "day = 2 AND gate = 'G03'",
              "gate = 'G03'",
              "'G03' = gate AND n > 0",
              "day = 2",
              "gate = 'G03' AND gate = 'G04'",
              "gate = 'a gate with a long name' AND day = 1",
              "gate = 'G03' AND day = 2.5",
              "gate = 'G03' AND day = 99999999999",
              "gate = 'G03' AND day < 99999999999",
              "gate = 'G03' AND day > -99999999999 AND day <= 1",
              "gate > 'a gate with a long name'",
              "gate <= 'G03 is long' AND gate > 'G01'",
              "gate LIKE 'G03 is long%'",
              "gate = 'G03' OR day = 2",
              "gate = NULL")) {
        String query = "SELECT gate, day, n FROM " + relation + " WHERE ";
        List<String> all =
            db.rows("SELECT gate, day, n, (" + condition + ") AS is_so FROM " + relation).stream()
                .filter(r -> r.endsWith(", true]"))
                .map(r -> r.replace(", true]", "]"))
                .sorted()
                .toList();
        assertThat(db.rows(query + condition).stream().sorted())
            .as(relation + " " + condition)
            .containsExactlyElementsOf(all);
      }
    }
    assertThat(db.rows("SELECT n, days FROM by_gate WHERE gate = 'G03'"))
        .isEqualTo(db.rows("SELECT SUM(n) AS n, COUNT(*) AS days FROM visit WHERE gate = 'G03'"));
    assertThat(db.rows("SELECT gate FROM busy WHERE gate = 'G03'"))
        .isEqualTo(
            db.rows(
                "SELECT gate FROM (SELECT gate, SUM(n) AS n FROM visit GROUP BY gate) AS g WHERE n > 3 AND gate = 'G03'"));
    assertThat(
            db.rows(
                "SELECT a.gate FROM (SELECT gate FROM by_gate WHERE gate = 'G01' UNION ALL SELECT gate FROM by_gate WHERE gate = 'G02') AS a"))
        .containsExactlyInAnyOrder("[G01]", "[G02]");
  }

  @Test
  void aQueryAskedAgainAnswersForItsNewValuesAndTheNewCatalog() {
    db.run("CREATE TABLE visit (gate VARCHAR(4), day INTEGER, n BIGINT, PRIMARY KEY (gate, day))");
    db.run("CREATE MATERIALIZED VIEW by_gate AS SELECT gate, SUM(n) AS n FROM visit GROUP BY gate");
    db.run("INSERT INTO visit VALUES ('G01', 1, 10), ('G01', 2, 20), ('G02', 1, 5)");
    String ofGate = "SELECT n FROM by_gate WHERE gate = :g";
    String ofDay = "SELECT n FROM visit WHERE :d = day AND gate = :g AND n > 5";
    String ofOne = "SELECT COUNT(*) AS c, MAX(n) AS m FROM visit WHERE gate = :g";
    String other = "SELECT gate FROM visit WHERE n = :n ORDER BY gate LIMIT 1";
    for (int round = 0; round < 4; round++) {
      assertThat(rows(ofGate, Map.of("g", "G01"))).containsExactly("[30]");
      assertThat(rows(ofGate, Map.of("g", "G02"))).containsExactly("[5]");
      assertThat(rows(ofGate, Map.of("g", "a longer name than the column has"))).isEmpty();
      assertThat(rows(ofGate, java.util.Collections.singletonMap("g", null))).isEmpty();
      assertThat(rows(ofDay, Map.of("g", "G01", "d", 2))).containsExactly("[20]");
      assertThat(rows(ofDay, Map.of("g", "G02", "d", 1L))).isEmpty();
      assertThat(rows(ofDay, Map.of("g", "G02", "d", 1.0))).isEmpty();
      assertThat(rows(ofOne, Map.of("g", "G01"))).containsExactly("[2, 20]");
      assertThat(rows(ofOne, Map.of("g", "G09"))).containsExactly("[0, null]");
      assertThat(rows(other, Map.of("n", 5))).containsExactly("[G02]");
      assertThat(db.rows("SELECT n FROM by_gate WHERE gate = 'G02'")).containsExactly("[5]");
    }
    db.run("UPDATE visit SET n = 6 WHERE gate = 'G02'");
    assertThat(rows(ofGate, Map.of("g", "G02"))).containsExactly("[6]");
    db.run(
        "CREATE OR REPLACE MATERIALIZED VIEW by_gate AS SELECT gate, 2 * SUM(n) AS n FROM visit GROUP BY gate");
    assertThat(rows(ofGate, Map.of("g", "G02"))).containsExactly("[12]");
    db.run("DROP MATERIALIZED VIEW by_gate");
    assertThat(db.error("SELECT n FROM by_gate WHERE gate = 'G02'").getMessage())
        .contains("no stream, table or view");
  }

  private List<String> rows(String query, Map<String, Object> arguments) {
    return ((Result.Rows) db.run(query, arguments)).rows().stream().map(Arrays::toString).toList();
  }
}
