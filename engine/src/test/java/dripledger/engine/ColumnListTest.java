package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.error.EngineException;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;

/** CREATE VIEW v (a, b) AS …: the columns are called as the list says. */
class ColumnListTest {
  private final TestEngine db = new TestEngine();

  @BeforeEach
  void table() {
    db.run(
        "CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, capacity INTEGER);"
            + "INSERT INTO gate VALUES ('G1', 'North', 3), ('G2', 'North', 5), ('G3', 'South', 8)");
  }

  @AfterEach
  void close() {
    db.close();
  }

  @Test
  void columnsOfViewsAreCalledAsTheListSays() {
    db.run(
        "CREATE VIEW plain (place, room) AS SELECT hall, capacity FROM gate WHERE capacity > 3;"
            + "CREATE MATERIALIZED VIEW summed (place, gates) KEY (place) AS SELECT hall, COUNT(*),"
            + " SUM(capacity) AS room FROM gate GROUP BY hall;"
            + "CREATE MATERIALIZED VIEW above AS SELECT place, SUM(room) AS room FROM plain GROUP BY"
            + " place");
    for (int start = 0; start < 2; start++) {
      assertThat(db.rows("SELECT place, room FROM plain ORDER BY room"))
          .containsExactly("[North, 5]", "[South, 8]");
      assertThat(db.rows("SELECT place, gates, room FROM summed ORDER BY place"))
          .containsExactly("[North, 2, 8]", "[South, 1, 8]");
      assertThat(db.rows("SELECT place, room FROM above ORDER BY place"))
          .containsExactly("[North, 5]", "[South, 8]");
      assertThat(db.rows("SELECT p.place FROM plain AS p JOIN summed AS s ON p.place = s.place"))
          .hasSize(2);
      assertThat(db.error("SELECT hall FROM plain").getMessage()).contains("hall");
      db.crash();
    }
  }

  @Test
  void tooManyNamesOrOneTwiceAreRefusedAtTheirPlace() {
    EngineException e = db.error("CREATE VIEW v (a, b) AS SELECT hall FROM gate");
    assertThat(e.getMessage()).isEqualTo("2 names for 1 columns");
    assertThat(e.column()).isEqualTo(19);
    assertThat(db.error("CREATE VIEW v (a, a) AS SELECT hall, gate FROM gate").getMessage())
        .contains("appears twice");
  }
}
