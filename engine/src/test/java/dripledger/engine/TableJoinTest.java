package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.definition.ViewState;
import dripledger.engine.query.Result;
import dripledger.engine.query.Subscription;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.atomic.AtomicBoolean;
import org.junit.jupiter.api.Test;

/**
 * Joins on the key of a table look its rows up where the table has them: what views show is what a
 * query that is asked once, which joins otherwise, answers of the same epoch.
 */
class TableJoinTest {
  private static final String TABLES =
      """
      CREATE TABLE hall (hall INTEGER PRIMARY KEY, name VARCHAR);
      CREATE TABLE gate (gate INTEGER, side VARCHAR, hall INTEGER, note VARCHAR,
        PRIMARY KEY (side, gate));
      CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate INTEGER, side VARCHAR, grams INTEGER);
      CREATE STREAM scan (parcel INTEGER, gate INTEGER, side VARCHAR, grams INTEGER);
      CREATE MATERIALIZED VIEW sides AS SELECT side, COUNT(*) AS n, MAX(gate) AS last FROM scan
        GROUP BY side;
      """;

  /** Each is kept as a view and asked once. */
  private static final List<String> QUERIES =
      List.of(
          "SELECT s.parcel, p.grams, s.side FROM scan AS s JOIN parcel AS p ON p.parcel = s.parcel",
          "SELECT s.parcel, g.hall FROM scan AS s LEFT JOIN gate AS g ON g.gate = s.gate AND g.side"
              + " = s.side",
          "SELECT g.note, s.grams FROM gate AS g RIGHT JOIN scan AS s ON g.gate = s.gate AND g.side"
              + " = s.side WHERE s.grams > 100",
          // By an index on what it is joined on, which changes.
          "SELECT g.gate, COUNT(*) AS n, SUM(p.parcel) AS s FROM gate AS g JOIN parcel AS p ON p.gate ="
              + " g.gate GROUP BY g.gate",
          "SELECT h.hall, p.parcel FROM hall AS h LEFT JOIN parcel AS p ON p.grams = h.hall",
          "SELECT hall FROM hall WHERE NOT EXISTS (SELECT 1 FROM parcel AS p WHERE p.gate = hall.hall"
              + " AND p.grams > 3)",
          // One join above another, each on a table of its own.
          "SELECT p.parcel, g.note, h.name FROM parcel AS p JOIN gate AS g ON g.gate = p.gate AND"
              + " g.side = p.side LEFT JOIN hall AS h ON h.hall = g.hall",
          "SELECT h.name, COUNT(*) AS n, SUM(p.grams) AS grams FROM parcel AS p JOIN gate AS g ON"
              + " g.gate = p.gate AND g.side = p.side JOIN hall AS h ON h.hall = g.hall GROUP BY"
              + " h.name",
          // The same table on both sides, and twice above each other.
          "SELECT a.parcel, b.grams FROM parcel AS a JOIN parcel AS b ON b.parcel = a.parcel",
          "SELECT a.parcel, b.grams FROM parcel AS a LEFT JOIN parcel AS b ON b.parcel = a.gate",
          "SELECT a.name, b.name AS next, c.name AS third FROM hall AS a JOIN hall AS b ON b.hall ="
              + " a.hall JOIN hall AS c ON c.hall = a.hall",
          "SELECT s.parcel, a.grams, b.grams AS of_gate FROM scan AS s JOIN parcel AS a ON a.parcel"
              + " = s.parcel LEFT JOIN parcel AS b ON b.parcel = a.gate",
          // A condition besides the key, and computed columns and filters, which are kept.
          "SELECT s.parcel FROM scan AS s JOIN parcel AS p ON p.parcel = s.parcel AND p.grams >"
              + " s.grams",
          "SELECT s.parcel, p.g FROM scan AS s JOIN (SELECT parcel, grams / 10 AS g FROM parcel WHERE"
              + " grams > 200) AS p ON p.parcel = s.parcel",
          // What is computed joined with a table, and a query in a condition.
          "SELECT v.side, v.n, g.note FROM sides AS v JOIN gate AS g ON g.side = v.side AND g.gate ="
              + " v.last",
          "SELECT v.side, h.name FROM sides AS v LEFT JOIN hall AS h ON h.hall = v.last",
          "SELECT h.name, t.n FROM (SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate) AS t JOIN"
              + " hall AS h ON h.hall = t.gate",
          "SELECT hall, name FROM hall WHERE hall IN (SELECT gate FROM parcel)",
          "SELECT parcel FROM scan WHERE NOT EXISTS (SELECT 1 FROM hall WHERE hall.hall ="
              + " scan.gate)",
          "SELECT parcel, (SELECT name FROM hall WHERE hall.hall = scan.gate) AS name FROM scan",
          "SELECT parcel, grams FROM (SELECT s.parcel, p.grams FROM scan AS s JOIN parcel AS p ON"
              + " p.parcel = s.parcel) QUALIFY ROW_NUMBER() OVER (PARTITION BY parcel ORDER BY"
              + " grams DESC) <= 2",
          "SELECT s.parcel, p.parcel AS other, p.side FROM scan AS s JOIN parcel AS p ON p.side = s.side"
              + " AND p.grams > s.grams",
          "SELECT a.parcel, b.parcel AS other FROM parcel AS a JOIN parcel AS b ON a.gate = b.gate AND"
              + " a.side = b.side AND a.parcel < b.parcel",
          "SELECT s.parcel, v.n FROM scan AS s LEFT JOIN sides AS v ON v.last = s.gate",
          "SELECT p.parcel, h.name FROM parcel AS p CROSS JOIN hall AS h",
          "SELECT s.parcel FROM scan AS s JOIN parcel AS p ON p.parcel = s.parcel UNION SELECT hall"
              + " FROM hall JOIN parcel AS q ON q.parcel = hall.hall",
          "VALUES (1, 'x'), (2, 'y')",
          "SELECT t.x, h.name FROM (VALUES (1, 'x'), (2, 'y')) AS t (h, x) JOIN hall AS h ON h.hall"
              + " = t.h");

  private static void change(TestEngine db, Random random) {
    List<String> statements = new ArrayList<>();
    int hall = random.nextInt(6);
    int gate = random.nextInt(5);
    String side = "'" + (random.nextBoolean() ? "left" : "right, as seen from the " + hall) + "'";
    statements.add("DELETE FROM hall WHERE hall = " + random.nextInt(6));
    statements.add("DELETE FROM gate WHERE gate = " + gate + " AND side = " + side);
    statements.add(
        "INSERT INTO gate VALUES (" + gate + ", " + side + ", " + hall + ", 'n" + hall + "')");
    statements.add("UPDATE gate SET note = note || '.' WHERE hall = " + hall);
    statements.add("UPDATE hall SET name = name || '+' WHERE hall = " + hall);
    statements.add(
        "INSERT INTO hall SELECT h, 'hall' FROM (VALUES ("
            + hall
            + ")) AS t (h) WHERE h"
            + " NOT IN (SELECT hall FROM hall)");
    int parcel = random.nextInt(20);
    statements.add("DELETE FROM parcel WHERE parcel = " + parcel);
    statements.add(
        "INSERT INTO parcel VALUES ("
            + parcel
            + ", "
            + gate
            + ", "
            + side
            + ", "
            + random.nextInt(500)
            + ")");
    statements.add(
        "UPDATE parcel SET grams = grams + 1, gate = "
            + gate
            + " WHERE parcel % 3 = "
            + random.nextInt(3));
    // All in one epoch, or each in one of its own.
    db.run(
        random.nextBoolean()
            ? "BEGIN;" + String.join(";", statements) + "; COMMIT"
            : String.join(";", statements));
    Object[][] scans = new Object[random.nextInt(8)][];
    for (int i = 0; i < scans.length; i++) {
      scans[i] =
          new Object[] {
            random.nextInt(9) == 0 ? null : (Object) (long) random.nextInt(20),
            (long) random.nextInt(5),
            random.nextBoolean() ? "left" : "right, as seen from the " + random.nextInt(6),
            (long) random.nextInt(500)
          };
    }
    if (scans.length > 0) {
      db.push("scan", scans);
    }
  }

  private static void check(TestEngine db, List<String> queries, String when) {
    for (int q = 0; q < queries.size(); q++) {
      List<String> view = new ArrayList<>(db.rows("SELECT * FROM v" + q));
      List<String> asked = new ArrayList<>(db.rows(queries.get(q)));
      view.sort(null);
      asked.sort(null);
      assertThat(view).as(when + ": " + queries.get(q)).isEqualTo(asked);
    }
  }

  @Test
  void aViewShowsWhatAQueryAnswers() {
    Random random = new Random(11);
    try (TestEngine db = new TestEngine()) {
      db.run(TABLES);
      int made = 0;
      for (int epoch = 0; epoch < 60; epoch++) {
        if (epoch % 2 == 0 && made < QUERIES.size()) { // over what is there by then
          db.run("CREATE MATERIALIZED VIEW v" + made + " AS " + QUERIES.get(made++));
        }
        change(db, random);
        check(db, QUERIES.subList(0, made), "epoch " + epoch);
        if (epoch % 16 == 10) {
          db.checkpoint();
        }
        if (epoch % 16 == 14) { // what came since the checkpoint comes again
          db.crash();
          check(db, QUERIES.subList(0, made), "after the crash in epoch " + epoch);
        }
      }
      assertThat(made).isEqualTo(QUERIES.size());
    }
  }

  /** A view that is filled while its tables change is filled from one moment, then follows. */
  @Test
  void tablesChangeWhileAViewIsFilled() {
    List<String> queries = QUERIES.subList(0, 12);
    try (TestEngine db = new TestEngine()) {
      db.run(TABLES);
      db.run(
          "INSERT INTO hall SELECT i, 'hall' FROM generate_series(0, 5) AS s (i);"
              + "INSERT INTO gate SELECT i, 'left', i % 6, 'n' FROM generate_series(0, 999) AS s"
              + " (i);"
              + "INSERT INTO parcel SELECT i, i % 1000, 'left', i % 500 FROM generate_series(0,"
              + " 29999) AS s (i)");
      Object[][] scans = new Object[30_000][];
      for (int i = 0; i < scans.length; i++) {
        scans[i] = new Object[] {(long) i % 20_000, (long) i % 1100, "left", (long) i % 700};
      }
      db.push("scan", scans);
      AtomicBoolean stop = new AtomicBoolean();
      CompletableFuture<Integer> changes =
          CompletableFuture.supplyAsync(
              () -> {
                Random random = new Random(3);
                int count = 0;
                for (; !stop.get(); count++) {
                  int some = random.nextInt(97);
                  db.run(
                      "BEGIN; UPDATE parcel SET grams = grams + 1, gate = (gate + 7) % 1000 WHERE"
                          + " parcel % 97 = "
                          + some
                          + "; UPDATE gate SET note = note || '.', hall = (hall + 1) % 6 WHERE gate"
                          + " % 97 = "
                          + some
                          + "; DELETE FROM parcel WHERE parcel % 9973 = "
                          + some
                          + "; COMMIT");
                  db.push("scan", new Object[][] {{(long) some, (long) some, "left", 1L}});
                }
                return count;
              });
      for (int q = 0; q < queries.size(); q++) {
        db.run("CREATE MATERIALIZED VIEW v" + q + " AS " + queries.get(q));
      }
      stop.set(true);
      assertThat(changes.join()).isGreaterThan(5); // while views were filled
      check(db, queries, "at the end");
    }
  }

  @Test
  void nothingOfTheTableIsKeptOnceMore() {
    try (TestEngine db = new TestEngine()) {
      db.run(TABLES);
      db.run(
          "INSERT INTO parcel SELECT i, i, 'left', i FROM generate_series(1, 5000) AS s (i);"
              + "CREATE MATERIALIZED VIEW v0 AS "
              + QUERIES.get(0));
      ViewState state = db.state("v0");
      long before = state.bytes();
      assertThat(state.keys()).isZero();
      db.push("scan", new Object[][] {{17L, 1L, "left", 1L}, {99_999L, 1L, "left", 1L}});
      assertThat(state.keys()).isEqualTo(2); // the scans, and no parcel
      assertThat(state.bytes()).isLessThan(before + 100_000);
      assertThat(db.rows("SELECT * FROM v0")).containsExactly("[17, 17, left]");
      db.run("UPDATE parcel SET grams = 18 WHERE parcel = 17");
      db.run("INSERT INTO parcel VALUES (99999, 1, 'left', 19)");
      assertThat(db.rows("SELECT * FROM v0 ORDER BY 1"))
          .containsExactly("[17, 18, left]", "[99999, 19, left]");
      String plan = String.join("\n", db.rows("EXPLAIN v0"));
      assertThat(plan)
          .contains("the rows of the first input; the other's are looked up where they are");
    }
  }

  /** A column that nobody reads changes: what is joined with the row does not. */
  @Test
  void whatNobodyReadsChangesNothing() throws InterruptedException {
    try (TestEngine db = new TestEngine()) {
      db.run(TABLES);
      db.run("INSERT INTO parcel VALUES (1, 2, 'left', 3)");
      db.push("scan", new Object[][] {{1L, 1L, "left", 1L}});
      Subscription followed = db.engine.follow("FOLLOW " + QUERIES.get(0), Map.of());
      assertThat(followed.poll(60_000).changes()).hasSize(1); // what is there
      db.run("UPDATE parcel SET gate = 9 WHERE parcel = 1"); // not among what is asked for
      db.run("UPDATE parcel SET grams = 4 WHERE parcel = 1");
      List<Subscription.Change> changes = followed.poll(60_000).changes();
      assertThat(changes.stream().map(c -> c.weight() + Arrays.toString(c.row())))
          .containsExactlyInAnyOrder("-1[1, 3, left]", "1[1, 4, left]");
      followed.close();
    }
  }

  @Test
  void aTableThatIsLookedUpInIsNotDropped() {
    try (TestEngine db = new TestEngine()) {
      db.run(TABLES);
      db.run("CREATE MATERIALIZED VIEW v0 AS " + QUERIES.get(0));
      assertThat(db.error("DROP TABLE parcel").getMessage()).contains("v0");
      db.run("DROP MATERIALIZED VIEW v0");
      assertThat(db.run("DROP TABLE parcel")).isInstanceOf(Result.Done.class);
    }
  }
}
