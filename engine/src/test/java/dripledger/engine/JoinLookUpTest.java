package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.util.List;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;

/**
 * A join asked once of a few rows reads of its other side only what they match. A column that
 * divides by nought for a row nobody asked for tells whether it was touched.
 */
class JoinLookUpTest {
  private final TestEngine db = new TestEngine();

  @BeforeEach
  void rows() {
    db.run(
        "CREATE TABLE gate (gate INTEGER PRIMARY KEY, hall VARCHAR, capacity INTEGER NOT NULL);"
            + "CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate INTEGER, grams INTEGER);"
            + "CREATE STREAM scan (parcel INTEGER NOT NULL, gate INTEGER);"
            + "INSERT INTO gate SELECT g, 'hall ' || g % 7, g % 50 FROM generate_series(1, 2000) AS t (g);"
            + "INSERT INTO parcel SELECT p, CASE WHEN p % 9 = 0 THEN NULL ELSE p % 2100 END, p * 3"
            + " FROM generate_series(1, 3000) AS t (p);"
            + "CREATE MATERIALIZED VIEW per_hall AS SELECT hall, COUNT(*) AS n FROM gate GROUP BY hall");
    db.push("scan", new Object[] {7L, 7L}, new Object[] {7L, 8L}, new Object[] {9999L, null});
  }

  @AfterEach
  void close() {
    db.close();
  }

  /** The gates, of which every fiftieth cannot be computed. */
  private static final String SHARES = "(SELECT gate, hall, 1000 / capacity AS share FROM gate)";

  @Test
  void onlyRowsThatAreAskedForAreTouched() {
    String few =
        "SELECT p.parcel, g.share FROM parcel AS p %s JOIN " + SHARES + " AS g ON g.gate = p.gate";
    assertThat(db.rows(few.formatted("") + " WHERE p.parcel = 12")).containsExactly("[12, 83]");
    assertThat(db.rows(few.formatted("LEFT") + " WHERE p.parcel IN (9, 12, 2099)"))
        .containsExactlyInAnyOrder("[9, null]", "[12, 83]", "[2099, null]");
    assertThatThrownBy(() -> db.rows(few.formatted("")))
        .hasMessageContaining("could not be computed");
    String all = few.formatted("RIGHT").replace("parcel AS p", "parcel_12 AS p");
    db.run("CREATE VIEW parcel_12 AS SELECT * FROM parcel WHERE parcel = 12");
    assertThatThrownBy(() -> db.rows(all))
        .as("every row of the side that is kept is asked for")
        .hasMessageContaining("could not be computed");
  }

  @Test
  void theSmallSideMayBeEither() {
    assertThat(
            db.rows(
                "SELECT p.parcel FROM "
                    + SHARES
                    + " AS g JOIN parcel AS p ON p.gate = g.gate WHERE p.parcel = 13"))
        .containsExactly("[13]");
    assertThat(
            db.rows(
                "SELECT s.parcel, g.share FROM (SELECT gate, COUNT(*) AS parcel FROM (VALUES (3), (3),"
                    + " (4)) AS v (gate) GROUP BY gate) AS s JOIN "
                    + SHARES
                    + " AS g ON g.gate = s.gate"))
        .containsExactlyInAnyOrder("[2, 333]", "[1, 250]");
  }

  @Test
  void aJoinOfMoreGoesFromOneToTheNext() {
    db.run("CREATE TABLE hall (hall VARCHAR PRIMARY KEY, floor INTEGER)");
    db.run("INSERT INTO hall SELECT 'hall ' || h, h FROM generate_series(0, 6) AS t (h)");
    String query =
        "SELECT p.parcel, g.share, h.floor FROM parcel AS p JOIN "
            + SHARES
            + " AS g ON g.gate = p.gate JOIN hall AS h ON h.hall = g.hall WHERE p.parcel = 16";
    assertThat(db.rows(query)).containsExactly("[16, 62, 2]");
  }

  @Test
  void anIndexServesAsAKeyDoes() {
    String query =
        "SELECT g.gate, COUNT(p.n) AS n FROM gate AS g JOIN (SELECT gate, 1 / (grams - 9000) AS n"
            + " FROM parcel) AS p ON p.gate = g.gate WHERE g.gate = 12 GROUP BY g.gate";
    assertThatThrownBy(() -> db.rows(query)).hasMessageContaining("could not be computed");
    db.run("CREATE INDEX ON parcel (gate)");
    assertThat(db.rows(query)).containsExactly("[12, 2]");
    assertThat(db.rows("EXPLAIN " + query).toString())
        .contains("by index on gate, as the other side asks");
  }

  @Test
  void explainSaysHowEachRelationIsRead() {
    List<String> lines =
        db.rows(
            "EXPLAIN SELECT p.parcel, g.hall FROM parcel AS p JOIN gate AS g ON g.gate = p.gate"
                + " WHERE p.parcel = 12");
    assertThat(lines)
        .anyMatch(l -> l.contains("read parcel") && l.contains(", by key parcel, none"));
    assertThat(lines)
        .anyMatch(
            l ->
                l.contains("look up in gate by its key")
                    && l.contains(", by key gate, as the other side asks, none"));
    assertThat(db.rows("EXPLAIN SELECT * FROM gate").toString()).contains("all, 2,000 rows");
    assertThat(db.rows("EXPLAIN SELECT * FROM scan").toString()).contains("all that is kept");
  }

  /** Against a view of the same query, whose look-ups are others. */
  @Test
  void theyAnswerWhatAViewHolds() {
    String[] queries = {
      "SELECT p.parcel, g.hall FROM parcel AS p JOIN gate AS g ON g.gate = p.gate WHERE p.parcel < 40",
      "SELECT p.parcel, g.hall FROM parcel AS p JOIN gate AS g ON g.gate = p.gate WHERE p.parcel = 5",
      "SELECT p.parcel, g.hall FROM parcel AS p LEFT JOIN gate AS g ON g.gate = p.gate AND g.capacity"
          + " > 3 WHERE p.parcel IN (1, 2, 9, 10, 54, 2050)",
      "SELECT g.gate, p.parcel FROM parcel AS p RIGHT JOIN gate AS g ON g.gate = p.parcel WHERE g.gate"
          + " IN (1, 2, 1999)",
      "SELECT p.parcel FROM parcel AS p WHERE p.parcel IN (SELECT s.parcel FROM scan AS s)",
      "SELECT p.parcel FROM parcel AS p WHERE p.gate IN (SELECT gate FROM gate WHERE gate = 17)",
      "SELECT s.parcel, p.grams, g.hall FROM scan AS s JOIN parcel AS p ON p.parcel = s.parcel LEFT"
          + " JOIN gate AS g ON g.gate = s.gate",
      "SELECT a.parcel, b.parcel AS other FROM parcel AS a JOIN parcel AS b ON b.parcel = a.gate WHERE"
          + " a.parcel = 20",
      "SELECT h.hall, h.n, g.gate FROM gate AS g JOIN per_hall AS h ON h.hall = g.hall WHERE g.gate = 3",
      "SELECT g.hall, t.n FROM gate AS g JOIN (SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate) AS"
          + " t ON t.gate = g.gate WHERE g.gate IN (4, 5, 1999)",
      "SELECT v.x, g.hall FROM (VALUES (1), (3), (NULL), (5000)) AS v (x) FULL JOIN (SELECT * FROM gate"
          + " WHERE gate < 6) AS g ON g.gate = v.x",
    };
    for (int i = 0; i < queries.length; i++) {
      db.run("CREATE MATERIALIZED VIEW v" + i + " AS " + queries[i]);
      assertThat(db.rows(queries[i]))
          .as(queries[i])
          .isNotEmpty()
          .containsExactlyInAnyOrderElementsOf(db.rows("SELECT * FROM v" + i));
    }
  }
}
