package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.error.EngineException;
import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;

/**
 * Indexes that were declared: they answer what a scan answers while rows come and go, whatever way
 * rows are kept, touch no other rows, and live as long as their relation.
 */
class IndexTest {
  private static final String[] INDEXED = {
    "parcel (gate)",
    "parcel (grams, gate)",
    "heavy (gate, grams)",
    "load (hour)",
    "load (n)",
    "load (n, gate)",
    "seen (gate)",
    "mean (mean)",
    "mean (last, entries)",
    "held (parts, gate)",
    "per_hour (n)"
  };
  private final TestEngine db = new TestEngine();

  @BeforeEach
  void relations() {
    db.run(
        "CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate VARCHAR, grams INTEGER);"
            + "CREATE STREAM scan (gate VARCHAR NOT NULL, hour INTEGER NOT NULL, grams INTEGER);"
            + "CREATE MATERIALIZED VIEW heavy AS SELECT gate, grams FROM parcel WHERE grams > 3;"
            + "CREATE MATERIALIZED VIEW load AS SELECT gate, hour, COUNT(*) AS n FROM scan GROUP BY gate,"
            + " hour;"
            // what is made of groups: computed, filtered, sometimes rejected, also of text and its
            // extremes
            + "CREATE MATERIALIZED VIEW mean AS SELECT MAX(gate) AS last, COUNT(*) AS entries, grams % 7 AS rest,"
            + " 100 / (COUNT(*) - 2) AS mean FROM parcel GROUP BY grams % 7 HAVING COUNT(*) > 1;"
            + "CREATE MATERIALIZED VIEW held AS SELECT gate, COUNT(DISTINCT grams) AS parts, MIN(grams) AS least"
            + " FROM parcel GROUP BY gate;"
            + "CREATE MATERIALIZED VIEW per_hour AS SELECT hour, COUNT(*) AS n FROM scan GROUP BY hour;"
            + "CREATE MATERIALIZED VIEW seen AS SELECT hour, gate, grams FROM scan WHERE grams IS NOT NULL");
  }

  @AfterEach
  void close() {
    db.close();
  }

  private void index() {
    for (String each : INDEXED) {
      db.run("CREATE INDEX ON " + each);
    }
  }

  private void change(Random random) {
    for (int i = 0; i < 12; i++) {
      int k = random.nextInt(60);
      String gate = random.nextInt(8) == 0 ? "NULL" : "'G" + random.nextInt(9) + "'";
      switch (random.nextInt(4)) {
        case 0 -> db.run("DELETE FROM parcel WHERE parcel = " + k);
        case 1 ->
            db.run("UPDATE parcel SET gate = " + gate + ", grams = grams + 1 WHERE parcel < " + k);
        case 2 ->
            db.push(
                "scan",
                new Object[] {
                  "G" + random.nextInt(9),
                  (long) random.nextInt(5),
                  random.nextBoolean() ? null : (long) k
                });
        default -> {
          db.run("DELETE FROM parcel WHERE parcel = " + k);
          db.run("INSERT INTO parcel VALUES (" + k + ", " + gate + ", " + random.nextInt(9) + ")");
        }
      }
    }
  }

  private void answersWhatAScanAnswers() {
    String[][] asked = {
      {"parcel", "gate = 'G1'", "parcel"},
      {"parcel", "gate IN ('G2', 'G3') AND grams > 2", "parcel"},
      {"parcel", "gate > 'G5'", "parcel"},
      {"parcel", "gate LIKE 'G4%'", "parcel"},
      {"parcel", "grams = 4 AND gate = 'G1'", "parcel"},
      {"parcel", "grams BETWEEN 2 AND 4", "parcel"},
      {"heavy", "gate = 'G1'", "grams"},
      {"heavy", "gate = 'G1' AND grams < 8", "grams"},
      {"load", "hour = 2", "gate"},
      {"load", "hour >= 3 AND n > 1", "gate, hour"},
      {"load", "n = 1", "gate, hour"},
      {"load", "n > 2 AND gate > 'G3'", "gate, hour"},
      {"mean", "mean = 100", "rest"},
      {"mean", "mean BETWEEN 10 AND 50", "rest"},
      {"mean", "last = 'G8' AND entries > 2", "rest"},
      {"mean", "last IS NULL", "rest"},
      {"held", "parts = 2", "gate"},
      {"held", "parts >= 3 AND least < 3", "gate"},
      {"per_hour", "n > 4", "hour"},
      {"seen", "gate = 'G7'", "hour, grams"},
      {"seen", "gate < 'G2'", "hour, gate, grams"},
    };
    for (String[] each : asked) {
      String select = "SELECT * FROM " + each[0] + " WHERE ";
      List<String> scanned =
          db.rows(
              select + "CASE WHEN " + each[1] + " THEN TRUE ELSE FALSE END ORDER BY " + each[2]);
      assertThat(db.rows(select + each[1] + " ORDER BY " + each[2]))
          .as(each[0] + " " + each[1])
          .isEqualTo(scanned);
      assertThat(db.value("SELECT COUNT(*) FROM " + each[0] + " WHERE " + each[1]))
          .isEqualTo((long) scanned.size());
    }
    String[][] orders = {
      {"parcel", "gate, parcel", "gate"},
      {"parcel", "grams DESC, gate DESC, parcel", "grams DESC, gate DESC"},
      {"load", "hour DESC, gate", "hour DESC"},
      {"load", "n DESC, gate, hour", "n DESC"},
      {"per_hour", "n, hour", "n"},
      {"held", "parts DESC, gate DESC", "parts DESC, gate DESC"},
    };
    for (String[] order : orders) {
      String column = order[2].split("[ ,]")[0];
      String select = "SELECT " + column + " FROM " + order[0] + " ORDER BY ";
      assertThat(db.rows(select + order[2] + " LIMIT 9"))
          .isEqualTo(
              db.rows(
                  "SELECT "
                      + column
                      + " FROM ("
                      + "SELECT * FROM "
                      + order[0]
                      + ") AS r ORDER BY "
                      + order[1]
                      + " LIMIT 9"));
    }
  }

  @Test
  void indexesFollowRowsThatComeAndGo() {
    Random random = new Random(20260302);
    change(random);
    index();
    for (int round = 0; round < 40; round++) {
      change(random);
      answersWhatAScanAnswers();
    }
    for (String each : INDEXED) {
      db.run("DROP INDEX ON " + each);
    }
    answersWhatAScanAnswers();
  }

  @Test
  void noOtherRowIsTouched() {
    db.run(
        "INSERT INTO parcel SELECT n, 'G' || n % 40, n % 100 FROM generate_series(1, 4000) AS n");
    String byGate = "SELECT COUNT(1 / (parcel - 4)) FROM parcel WHERE gate = 'G7'";
    String heaviest = "SELECT 1 / (grams - 5) FROM parcel ORDER BY grams DESC LIMIT 3";
    assertThat(db.error(heaviest)).hasMessageContaining("division by zero");
    db.run("CREATE INDEX ON parcel (gate); CREATE INDEX ON parcel (grams)");
    assertThat(db.rows(byGate)).containsExactly("[100]");
    assertThat(db.rows(heaviest)).hasSize(3);
    db.run("UPDATE parcel SET gate = 'G7' WHERE parcel = 5");
    assertThat(db.rows(byGate)).containsExactly("[101]");
  }

  @Test
  void noOtherGroupIsTouched() {
    db.run(
        "INSERT INTO parcel SELECT n, 'G' || n % 400, CASE WHEN n < 40 THEN n ELSE 500 END"
            + " FROM generate_series(1, 4000) AS n");
    String most = "SELECT gate, 1 / (least - 39) FROM held ORDER BY parts DESC, gate LIMIT 1";
    String some = "SELECT gate, 1 / (least - 39) FROM held WHERE parts = 3";
    db.run("UPDATE parcel SET grams = 7 WHERE parcel = 401");
    assertThat(db.error(most)).hasMessageContaining("division by zero");
    db.run("CREATE INDEX ON held (parts)");
    assertThat(db.rows(some)).containsExactly("[G1, 0]");
    assertThat(db.rows("EXPLAIN " + some).toString()).contains("by index on parts");
    assertThat(db.rows("SELECT gate, 1 / (least - 39) FROM held ORDER BY parts DESC LIMIT 1"))
        .containsExactly("[G1, 0]");
    db.run("UPDATE parcel SET grams = 8 WHERE parcel IN (801, 2)");
    assertThat(db.rows("SELECT gate, parts FROM held WHERE parts > 2")).containsExactly("[G1, 4]");
    db.run("DELETE FROM parcel WHERE gate = 'G1'");
    assertThat(db.rows("SELECT gate, parts FROM held WHERE parts > 2")).isEmpty();
  }

  /** What was found before a change is found after a start, and by who holds the old version. */
  @Test
  void anIndexOnWhatIsComputedIsThereAfterAStart() {
    db.run("INSERT INTO parcel SELECT n, 'G' || n % 9, n % 5 FROM generate_series(1, 90) AS n");
    db.run("CREATE INDEX ON held (least); DELETE FROM parcel WHERE grams = 0 AND parcel > 45");
    List<String> before = db.rows("SELECT gate, least FROM held WHERE least = 0 ORDER BY gate");
    db.checkpoint();
    db.crash();
    assertThat(db.rows("SELECT gate, least FROM held WHERE least = 0 ORDER BY gate"))
        .isEqualTo(before)
        .isNotEmpty();
    assertThat(db.rows("DESCRIBE held")).anyMatch(line -> line.contains("in index (least)"));
    db.run("UPDATE parcel SET grams = grams + 1");
    assertThat(db.rows("SELECT gate FROM held WHERE least = 0")).isEmpty();
    assertThat(db.rows("SELECT gate FROM held WHERE least = 1")).hasSameSizeAs(before);
  }

  @Test
  void anIndexLivesAsLongAsItsRelation() {
    index();
    assertThat(db.rows("SHOW CREATE parcel").get(0))
        .contains("CREATE INDEX ON parcel (gate);\nCREATE INDEX ON parcel (grams, gate);");
    assertThat(db.rows("DESCRIBE load")).anyMatch(line -> line.contains("in index (hour)"));
    db.run("DROP INDEX ON parcel (gate)");
    db.run("INSERT INTO parcel VALUES (1, 'G1', 5), (2, 'G2', 6)");
    db.checkpoint();
    db.crash();
    assertThat(db.rows("SHOW CREATE parcel").get(0))
        .endsWith(";\nCREATE INDEX ON parcel (grams, gate);]");
    assertThat(db.rows("SHOW CREATE seen").get(0)).contains("CREATE INDEX ON seen (gate);");
    answersWhatAScanAnswers();
    db.run("DROP MATERIALIZED VIEW load");
    db.run(
        "CREATE MATERIALIZED VIEW load AS SELECT gate, hour, COUNT(*) AS n FROM scan GROUP BY gate,"
            + " hour");
    assertThat(db.rows("SHOW CREATE load").get(0)).doesNotContain("INDEX");
    db.crash();
    answersWhatAScanAnswers();
  }

  /** Two views read one step: an index of one of them is not that of the other. */
  @Test
  void viewsOfOneStepHaveIndexesOfTheirOwn() {
    db.run(
        "CREATE MATERIALIZED VIEW other AS SELECT gate, hour, COUNT(*) AS n FROM scan GROUP BY gate, hour;"
            + "CREATE INDEX ON load (hour); CREATE INDEX ON other (hour)");
    db.run("CREATE INDEX ON load (n); CREATE INDEX ON other (n)");
    db.push("scan", new Object[] {"G1", 1L, 5L}, new Object[] {"G2", 2L, 5L});
    assertThat(db.rows("SELECT gate FROM other WHERE n = 1 ORDER BY gate")).hasSize(2);
    db.run("DROP INDEX ON load (n); DROP MATERIALIZED VIEW per_hour");
    db.push("scan", new Object[] {"G2", 2L, 5L});
    assertThat(db.rows("SELECT 1 / (hour - 1), gate FROM other WHERE n = 2"))
        .containsExactly("[1, G2]");
    assertThat(db.rows("SELECT gate FROM load WHERE n = 2")).containsExactly("[G2]");
    db.run("DROP INDEX ON load (hour)");
    assertThat(db.rows("SHOW CREATE load").get(0)).doesNotContain("INDEX");
    assertThat(db.rows("SELECT 1 / (hour - 2) FROM other WHERE hour = 1")).containsExactly("[-1]");
    assertThat(db.rows("SHOW CREATE other").get(0)).contains("INDEX ON other (hour)");
  }

  @Test
  void anIndexIsOnColumnsOfAnyType() {
    db.run(
        "CREATE TABLE odd (k INTEGER PRIMARY KEY, marks VARCHAR ARRAY, speed DOUBLE, day DATE,"
            + " price DECIMAL(30, 2), raw VARBINARY);"
            + "CREATE INDEX ON odd (marks); CREATE INDEX ON odd (speed, day);"
            + "CREATE INDEX ON odd (price); CREATE INDEX ON odd (raw)");
    for (int i = 0; i < 3; i++) {
      db.run(
          "INSERT INTO odd VALUES (%d, ARRAY['a', NULL], -0.0, DATE '2026-03-0%d', %d.5, decode('0%d',"
                  .formatted(i, i + 1, i, i)
              + " 'hex'))");
      assertThat(db.rows("SELECT k FROM odd WHERE speed = 0 AND price >= 0 ORDER BY k"))
          .hasSize(i + 1);
      assertThat(db.rows("SELECT k FROM odd ORDER BY price DESC LIMIT 1"))
          .containsExactly("[" + i + "]");
      assertThat(db.rows("SELECT k FROM odd ORDER BY marks, k")).hasSize(i + 1);
      assertThat(db.rows("SELECT k FROM odd ORDER BY raw DESC LIMIT 1"))
          .containsExactly("[" + i + "]");
    }
    db.run("UPDATE odd SET marks = NULL, price = price + 1; DELETE FROM odd WHERE k = 1");
    assertThat(db.rows("SELECT k, price FROM odd ORDER BY price"))
        .containsExactly("[0, 1.50]", "[2, 3.50]");
  }

  @Test
  void whatIsWrongSaysSo() {
    db.run("CREATE INDEX ON parcel (gate)");
    db.run("CREATE INDEX IF NOT EXISTS ON parcel (gate); DROP INDEX IF EXISTS ON parcel (grams)");
    List<String> wrong = new ArrayList<>();
    for (String each :
        new String[] {
          "CREATE INDEX ON parcel (gate): there is an index on parcel (gate)",
          "DROP INDEX ON parcel (grams): there is no index on parcel (grams)",
          "CREATE INDEX ON parcel (gates): no column \"gates\"",
          "CREATE INDEX ON parcel (grams, grams): is there twice",
          "CREATE INDEX by_gate ON parcel (gate): has no name",
          "CREATE INDEX ON scan (gate): is a stream",
          "CREATE INDEX ON nothing (gate): no materialized view \"nothing\""
        }) {
      int says = each.lastIndexOf(": ");
      EngineException e = db.error(each.substring(0, says));
      if (!e.getMessage().contains(each.substring(says + 2)) || e.line() != 1) {
        wrong.add(each + " but " + e.getMessage() + " at " + e.line());
      }
    }
    assertThat(wrong).isEmpty();
  }
}
