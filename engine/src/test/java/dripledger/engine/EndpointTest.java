package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.query.Result;
import java.util.Arrays;
import java.util.Map;
import java.util.stream.Collectors;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.Test;

/** Endpoints: what is declared is what can be called. */
class EndpointTest {
  private final TestEngine db = new TestEngine();

  {
    db.run("CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, opened DATE);");
    db.run(
        "INSERT INTO gate VALUES ('G01', 'North', DATE '2026-01-01'), ('G02', 'South', DATE"
            + " '2026-02-01'), ('G03', 'North', NULL)");
  }

  @AfterEach
  void close() {
    db.close();
  }

  private String call(String name, Map<String, String> given) {
    CatalogObject.Endpoint endpoint =
        db.engine.endpoints().endpoint(name, db.engine.access().owner());
    Result.Rows rows =
        db.engine.endpoints().call(endpoint, given, db.engine.access().owner()).rows();
    return rows.rows().stream().map(Arrays::toString).collect(Collectors.joining());
  }

  @Test
  void conditionsOfOptionalParametersFallAway() {
    db.run(
        "CREATE ENDPOINT e (hall VARCHAR OPTIONAL, since DATE OPTIONAL, of VARCHAR DEFAULT NULL) AS"
            + " SELECT gate FROM gate WHERE hall = :hall AND (opened >= :since AND gate > 'G')"
            + " AND (:of IS NULL OR gate = :of) ORDER BY gate");
    assertThat(call("e", Map.of())).isEqualTo("[G01][G02][G03]");
    assertThat(call("e", Map.of("hall", "North"))).isEqualTo("[G01][G03]");
    assertThat(call("e", Map.of("since", "2026-01-15"))).isEqualTo("[G02]");
    assertThat(call("e", Map.of("since", "2026-01-01", "hall", "North"))).isEqualTo("[G01]");
    assertThat(call("e", Map.of("of", "G03"))).isEqualTo("[G03]");
    assertThat(call("e", Map.of("of", "' OR 'a' = 'a"))).as("values are no text").isEmpty();
  }

  @Test
  void plansAndAnswersAreKeptButNeverWrong() {
    db.run(
        "CREATE ENDPOINT e (n INTEGER DEFAULT 1) AS SELECT gate FROM gate ORDER BY gate DESC LIMIT"
            + " :n");
    db.run("CREATE ENDPOINT kept OPTIONS (cache '1 hour') AS SELECT COUNT(*) AS gates FROM gate");
    assertThat(call("e", Map.of())).isEqualTo("[G03]");
    assertThat(call("kept", Map.of())).isEqualTo("[3]");
    db.run("INSERT INTO gate VALUES ('G04', 'South', NULL)");
    assertThat(call("e", Map.of())).isEqualTo("[G04]");
    assertThat(call("e", Map.of("n", "2"))).isEqualTo("[G04][G03]");
    assertThat(call("kept", Map.of())).as("for an hour").isEqualTo("[3]");
    db.run("CREATE OR REPLACE ENDPOINT e AS SELECT 'other' AS gate");
    assertThat(call("e", Map.of())).isEqualTo("[other]");
    assertThat(db.rows("SHOW ENDPOINTS").toString()).contains("kept");
    assertThat(db.rows("DESCRIBE kept").toString()).contains("gates");
    assertThat(db.rows("EXPLAIN kept").toString()).containsIgnoringCase("gate");
    assertThat(db.rows("SHOW CREATE ENDPOINT e").toString()).contains("CREATE OR REPLACE ENDPOINT");
  }

  @Test
  void whatIsDeclaredIsChecked() {
    for (String[] wrong :
        new String[][] {
          {"CREATE ENDPOINT e AS SELECT gate FROM gate WHERE hall = :hall", "is not declared"},
          {"CREATE ENDPOINT e (a INTEGER, a INTEGER) AS SELECT 1 AS x", "appears twice"},
          {"CREATE ENDPOINT e (a INTEGER DEFAULT 'x') AS SELECT 1 AS x", "is no INTEGER"},
          {"CREATE ENDPOINT e (a INTEGER CHECK (b > 1)) AS SELECT 1 AS x", "the CHECK of \"a\""},
          {"CREATE ENDPOINT e (a INTEGER CHECK (a + 1)) AS SELECT 1 AS x", "is a condition"},
          {"CREATE ENDPOINT e (a BIGINT ARRAY) AS SELECT 1 AS x", "cannot be of type"},
          {"CREATE ENDPOINT e AS SELECT 1, 2", "has no name of its own"},
          {"CREATE ENDPOINT e AS SELECT gatee FROM gate", "no column \"gatee\""},
          {"CREATE ENDPOINT e OPTIONS (rows 1) AS SELECT 1 AS x", "no option \"rows\""},
          {"CREATE ENDPOINT gate AS SELECT 1 AS x", "there is a table \"gate\" already"},
          {"CREATE OR REPLACE ENDPOINT gate AS SELECT 1 AS x", "would lose"}
        }) {
      assertThatThrownBy(() -> db.run(wrong[0])).as(wrong[0]).hasMessageContaining(wrong[1]);
    }
    db.run("CREATE ENDPOINT e AS SELECT gate FROM gate");
    assertThatThrownBy(() -> db.run("SELECT * FROM e")).hasMessageContaining("\"e\"");
    assertThatThrownBy(() -> db.run("DROP TABLE gate")).hasMessageContaining("endpoint e reads");
    db.run("DROP ENDPOINT e");
    assertThatThrownBy(() -> call("e", Map.of())).hasMessageContaining("no endpoint \"e\"");
  }
}
