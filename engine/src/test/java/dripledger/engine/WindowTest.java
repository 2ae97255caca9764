package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.Map;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.Test;

/**
 * What window functions and first rows keep, say and refuse; what they answer is tested elsewhere.
 */
class WindowTest {
  private final TestEngine db = new TestEngine();

  @AfterEach
  void close() {
    db.close();
  }

  @Test
  void whatQualifyAsksOfARankingIsRecognised() {
    db.run(
        "CREATE TABLE box (box INTEGER PRIMARY KEY, gate VARCHAR NOT NULL, grams INTEGER, speed DOUBLE)");
    String ranking = "ROW_NUMBER() OVER (PARTITION BY gate ORDER BY grams DESC, box)";
    for (String[] each :
        new String[][] {
          {"SELECT * FROM box QUALIFY " + ranking + " <= 3", "first 3 by ROW_NUMBER"},
          {"SELECT * FROM box QUALIFY " + ranking + " = 1", "first 1 by ROW_NUMBER"},
          {
            "SELECT box FROM box QUALIFY 3 > " + ranking + " AND grams > 5", "first 2 by ROW_NUMBER"
          },
          {"SELECT box, " + ranking + " AS n FROM box QUALIFY n < 3", "first 2 by ROW_NUMBER"},
          {
            "SELECT box FROM box WHERE grams > 0 QUALIFY RANK() OVER (ORDER BY grams) BETWEEN 1 AND 4",
            "first 4 by RANK"
          }
        }) {
      assertThat(db.rows("EXPLAIN " + each[0])).anyMatch(line -> line.contains(each[1]));
    }
    db.run(
        "INSERT INTO box VALUES (1, 'G1', 3, 1), (2, 'G1', 9, 1), (3, 'G1', 6, 1), (4, 'G2', 1, 1)");
    assertThat(
            db.rows(
                "SELECT box, gate FROM box QUALIFY ROW_NUMBER() OVER (PARTITION BY gate ORDER BY grams"
                    + " DESC) <= 2 AND grams + SUM(grams) OVER () > 20 ORDER BY box"))
        .containsExactly("[2, G1]", "[3, G1]");
  }

  @Test
  void theFirstRowsAreAViewOfAnyKind() {
    db.run("CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR)");
    db.run("INSERT INTO gate VALUES ('G1', 'a'), ('G2', 'b'), ('G3', 'c')");
    db.run("CREATE VIEW first AS SELECT gate FROM gate ORDER BY gate DESC LIMIT 2");
    assertThat(db.rows("SELECT * FROM first ORDER BY gate")).containsExactly("[G2]", "[G3]");
    db.run("CREATE MATERIALIZED VIEW last AS SELECT gate FROM first ORDER BY gate LIMIT 1");
    db.run("DELETE FROM gate WHERE gate = 'G3'");
    assertThat(db.rows("SELECT * FROM last")).containsExactly("[G1]");
    assertThat(db.rows("SELECT * FROM first ORDER BY gate")).containsExactly("[G1]", "[G2]");
    db.crash();
    assertThat(db.rows("SELECT * FROM last")).containsExactly("[G1]");
    try (var followed =
        db.engine.follow("SELECT gate FROM gate ORDER BY gate\n LIMIT 1", Map.of())) {
      assertThat(followed).isNotNull();
    }
    assertThat(db.error("CREATE MATERIALIZED VIEW w AS SELECT gate FROM gate ORDER BY gate").hint())
        .isEqualTo("sort where the view is read");
  }

  @Test
  void ofAStreamOnlyTheRowsThatAreNeededAreKept() {
    db.run("CREATE STREAM scan (parcel BIGINT NOT NULL, gate VARCHAR, at INTEGER NOT NULL)");
    String last =
        "SELECT parcel, gate, before FROM (SELECT parcel, gate, LEAD(gate) OVER w AS before, ROW_NUMBER()"
            + " OVER w AS n FROM scan WINDOW w AS (PARTITION BY parcel ORDER BY at DESC)) AS s WHERE n = 1";
    db.run("CREATE MATERIALIZED VIEW trail AS " + last);
    db.run("CREATE MATERIALIZED VIEW top AS SELECT at FROM scan ORDER BY at DESC LIMIT 4");
    for (int at = 0; at < 50; at++) {
      db.run(
          "INSERT INTO scan VALUES (%d, 'G%d', %d), (9, 'X', %d)"
              .formatted(at % 3, at, at, 100 - at));
    }
    assertThat(db.rows("SELECT * FROM trail ORDER BY parcel"))
        .containsExactly("[0, G48, G45]", "[1, G49, G46]", "[2, G47, G44]", "[9, X, X]");
    assertThat(db.rows("SELECT * FROM top ORDER BY at"))
        .containsExactly("[97]", "[98]", "[99]", "[100]");
    assertThat(String.join("\n", db.rows("EXPLAIN ANALYZE trail")))
        .contains("first 1 by ROW_NUMBER; LEAD(gate, 1) by parcel ordered by at DESC")
        .contains("2 rows for each parcel: no bound, 8, "); // four parcels
    assertThat(String.join("\n", db.rows("EXPLAIN ANALYZE top"))).contains("4 rows, 4, ");
    db.checkpoint();
    db.crash();
    db.run("INSERT INTO scan VALUES (2, 'G9', 90)");
    assertThat(db.rows("SELECT * FROM trail WHERE parcel = 2")).containsExactly("[2, G9, G47]");
  }

  @Test
  void changesThatChangeNothingArePutOutNowhere() {
    db.run("CREATE TABLE load (id INTEGER PRIMARY KEY, gate VARCHAR, grams INTEGER, note VARCHAR)");
    db.run(
        "CREATE MATERIALIZED VIEW ranked AS SELECT gate, grams, RANK() OVER (PARTITION BY gate ORDER BY"
            + " grams) AS r FROM load");
    db.run("CREATE MATERIALIZED VIEW n AS SELECT COUNT(*) AS n FROM ranked");
    db.run("INSERT INTO load VALUES (1, 'a', 5, 'x'), (2, 'a', 7, 'y'), (3, 'b', 1, 'z')");
    String before = changedEpoch();
    db.run("UPDATE load SET note = 'w'");
    assertThat(changedEpoch()).isEqualTo(before);
    db.run("UPDATE load SET grams = 6 WHERE id = 1");
    assertThat(changedEpoch()).isNotEqualTo(before);
    assertThat(db.rows("SELECT * FROM ranked ORDER BY gate, r"))
        .containsExactly("[a, 6, 1]", "[a, 7, 2]", "[b, 1, 1]");
  }

  private String changedEpoch() {
    String views = String.join("\n", db.rows("SHOW VIEWS"));
    return views
        .lines()
        .filter(line -> line.startsWith("[ranked"))
        .findFirst()
        .orElseThrow()
        .split(", ")[4];
  }

  @Test
  void theWholeOfARelationCanBeNothing() {
    db.run("CREATE TABLE gate (gate VARCHAR PRIMARY KEY, load INTEGER)");
    db.run("CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate VARCHAR)");
    db.run(
        "CREATE MATERIALIZED VIEW lightest AS SELECT g.load, p.parcel, MIN(p.parcel) OVER () AS least"
            + " FROM gate AS g RIGHT JOIN parcel AS p ON g.gate = p.gate");
    for (int parcel = 5; parcel < 8; parcel++) {
      db.run("INSERT INTO parcel VALUES (" + parcel + ", 'G1')");
      assertThat(db.rows("SELECT * FROM lightest"))
          .containsExactly("[null, " + parcel + ", " + parcel + "]");
      db.run("DELETE FROM parcel WHERE parcel = " + parcel);
      assertThat(db.rows("SELECT * FROM lightest")).isEmpty();
    }
  }

  @Test
  void ofNothingButNullsThereIsNoSum() {
    db.run("CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, grams INTEGER)");
    db.run(
        "CREATE MATERIALIZED VIEW ordered AS SELECT parcel, COUNT(*) OVER (ORDER BY parcel) AS n,"
            + " SUM(grams) OVER () AS grams FROM parcel");
    db.run("INSERT INTO parcel VALUES (1, NULL)");
    db.run("INSERT INTO parcel VALUES (2, NULL)");
    db.run("CREATE MATERIALIZED VIEW later AS SELECT n, grams FROM ordered WHERE parcel > 1");
    for (int parcel = 3; parcel < 6; parcel++) {
      db.run("INSERT INTO parcel VALUES (" + parcel + ", NULL)");
      db.run("DELETE FROM parcel WHERE parcel = " + (parcel - 2));
      assertThat(db.rows("SELECT * FROM ordered ORDER BY parcel"))
          .containsExactly("[" + (parcel - 1) + ", 1, null]", "[" + parcel + ", 2, null]");
    }
  }

  @Test
  void whatIsAskedWronglySaysSo() {
    db.run("CREATE TABLE load (id INTEGER PRIMARY KEY, gate VARCHAR, grams INTEGER)");
    assertThat(db.error("SELECT NTILE(0) OVER (ORDER BY id) FROM load"))
        .hasMessageContaining("NTILE needs a number of 1 or more");
    assertThat(
            db.error(
                "SELECT SUM(grams) OVER (ORDER BY id ROWS BETWEEN id PRECEDING AND CURRENT ROW) FROM load"))
        .hasMessageContaining("not constant");
    assertThat(db.error("SELECT SUM(grams) OVER w FROM load")).hasMessageContaining("w");
    assertThat(db.error("SELECT gate FROM load WHERE ROW_NUMBER() OVER (ORDER BY id) = 1"))
        .hasMessageContaining("cannot be in WHERE");
  }
}
