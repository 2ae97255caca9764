package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.query.Subscription;
import dripledger.engine.source.Connectors;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.api.Test;

/** Epochs that several threads step together show what one alone shows, change by change. */
class TogetherTest {
  /** Steps that views share, views on views, and views that read two of them. */
  private static final String VIEWS =
      """
      CREATE TABLE gate (gate INTEGER PRIMARY KEY, hall VARCHAR);
      CREATE STREAM scan (parcel INTEGER NOT NULL, gate INTEGER NOT NULL, grams INTEGER);
      CREATE MATERIALIZED VIEW by_gate AS SELECT gate, COUNT(*) AS n, SUM(grams) AS g FROM scan
        GROUP BY gate;
      CREATE MATERIALIZED VIEW heavy AS SELECT gate, MAX(grams) AS m FROM scan GROUP BY gate;
      CREATE MATERIALIZED VIEW busy AS SELECT gate, n FROM by_gate WHERE n > 5;
      CREATE MATERIALIZED VIEW pairs AS SELECT b.gate, b.n, h.m FROM by_gate AS b JOIN heavy AS h
        ON b.gate = h.gate;
      CREATE MATERIALIZED VIEW halls AS SELECT g.hall, SUM(b.n) AS n FROM by_gate AS b JOIN gate AS g
        ON g.gate = b.gate GROUP BY g.hall;
      CREATE MATERIALIZED VIEW placed AS SELECT s.parcel, s.gate, g.hall FROM scan AS s LEFT JOIN gate
        AS g ON g.gate = s.gate;
      CREATE MATERIALIZED VIEW last_of AS SELECT parcel, gate, grams FROM scan
        QUALIFY ROW_NUMBER() OVER (PARTITION BY gate ORDER BY parcel DESC, grams) <= 2;
      CREATE MATERIALIZED VIEW every_gate AS SELECT gate FROM by_gate UNION SELECT gate FROM heavy
        UNION SELECT gate FROM gate;
      CREATE MATERIALIZED VIEW counts AS SELECT COUNT(*) AS n, COUNT(DISTINCT gate) AS d FROM placed;
      """;

  /** The views, each with what orders all of its rows. */
  private static final List<String> ALL =
      List.of(
          "by_gate ORDER BY gate",
          "heavy ORDER BY gate",
          "busy ORDER BY gate",
          "pairs ORDER BY gate",
          "halls ORDER BY hall",
          "placed ORDER BY parcel, gate, hall",
          "last_of ORDER BY gate, parcel, grams",
          "every_gate ORDER BY gate",
          "counts");

  /** What a run has shown: the rows of each view at each epoch, then the changes of some. */
  private static List<String> run(int workers) throws InterruptedException {
    List<String> seen = new ArrayList<>();
    Random random = new Random(7);
    try (TestEngine db = new TestEngine(TestEngine.records(), Connectors.NONE, workers)) {
      db.run(VIEWS);
      for (int half = 0; half < 2; half++) {
        Subscription pairs = db.engine.follow("FOLLOW SELECT * FROM pairs", Map.of());
        Subscription halls = db.engine.follow("FOLLOW SELECT * FROM halls", Map.of());
        for (int epoch = 0; epoch < 20; epoch++) {
          change(db, random);
          ALL.forEach(view -> seen.add(view + ": " + db.rows("SELECT * FROM " + view)));
        }
        long mark = 100L + half;
        db.run("INSERT INTO gate VALUES (" + mark + ", 'mark " + half + "')");
        db.push("scan", new Object[] {1L, mark, 1L});
        seen.add(changes(pairs, mark));
        seen.add(changes(halls, "mark " + half));
        db.checkpoint();
        change(db, random); // is not in it
        db.crash();
      }
    }
    return seen;
  }

  private static void change(TestEngine db, Random random) {
    int gate = random.nextInt(12);
    if (gate < 3) {
      db.run("DELETE FROM gate WHERE gate = " + gate);
    }
    db.run("UPDATE gate SET hall = 'hall " + random.nextInt(3) + "' WHERE gate = " + gate);
    db.run(
        "INSERT INTO gate SELECT g, 'new' FROM (VALUES ("
            + gate
            + ")) AS t (g) WHERE g NOT IN"
            + " (SELECT gate FROM gate)");
    Object[][] rows = new Object[1 + random.nextInt(30)][];
    for (int i = 0; i < rows.length; i++) {
      rows[i] =
          new Object[] {
            (long) random.nextInt(500), (long) random.nextInt(12), (long) random.nextInt(900)
          };
    }
    db.push("scan", rows);
  }

  /** All that changes until a row comes whose first column is a value, epoch by epoch. */
  private static String changes(Subscription followed, Object last) throws InterruptedException {
    StringBuilder text = new StringBuilder();
    boolean found = false;
    while (!found) {
      Subscription.Batch batch = followed.poll(60_000);
      assertThat(batch).isNotNull();
      for (Subscription.Change change : batch.changes()) {
        text.append(change.weight()).append(Arrays.toString(change.row())).append(' ');
        found |= change.row()[0].equals(last);
      }
      text.append("| ");
    }
    followed.close();
    return text.toString();
  }

  @Test
  void whatIsShownIsTheSameHoweverManyWork() throws InterruptedException {
    List<String> alone = run(1);
    assertThat(run(2)).isEqualTo(alone);
    assertThat(run(4)).isEqualTo(alone);
  }
}
