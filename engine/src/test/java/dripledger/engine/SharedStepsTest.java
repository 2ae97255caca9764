package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.plan.PlanCut;
import dripledger.engine.query.Subscription;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.SplittableRandom;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.atomic.AtomicBoolean;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;

/** Equal sub-plans are one node of the graph, for as long as somebody needs it. */
class SharedStepsTest {
  private final TestEngine db = new TestEngine();

  @BeforeEach
  void scans() {
    db.run("CREATE STREAM scan (gate VARCHAR NOT NULL, parcel BIGINT, grams INTEGER)");
    push("North", 1, 300);
    push("South", 2, 500);
    push("North", 3, 700);
  }

  @AfterEach
  void close() {
    db.close();
  }

  private void push(String gate, long parcel, long grams) {
    db.push("scan", new Object[] {gate, parcel, grams});
  }

  /** The steps in the newest snapshot. */
  private List<Long> steps() {
    return db.engine.snapshot().relations().keySet().stream().filter(id -> id < 0).toList();
  }

  private void noStepIsLeft() throws InterruptedException {
    for (int i = 0; i < 1000 && !steps().isEmpty(); i++) {
      Thread.sleep(10);
    }
    assertThat(steps()).isEmpty();
  }

  @Test
  void equalStepsOfTwoViewsAreOneNode() {
    db.run("CREATE MATERIALIZED VIEW a AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
    assertThat(db.rows("EXPLAIN a").get(0)).doesNotContain("shared");
    db.run("CREATE MATERIALIZED VIEW b AS SELECT gate AS g, COUNT(*) AS k FROM scan GROUP BY gate");
    db.run(
        "CREATE MATERIALIZED VIEW busy AS"
            + " SELECT gate, COUNT(*) * 10 AS tens FROM scan GROUP BY gate HAVING COUNT(*) > 1");
    assertThat(steps()).hasSize(1);
    assertThat(db.rows("EXPLAIN ANALYZE a").get(0)).contains("shared with b, busy");
    assertThat(db.rows("EXPLAIN SELECT gate, COUNT(*) FROM scan GROUP BY gate").get(0))
        .contains("shared with a, b, busy");
    push("South", 4, 100);
    push("East", 5, 100);
    assertThat(db.rows("SELECT * FROM a ORDER BY gate"))
        .containsExactly("[East, 1]", "[North, 2]", "[South, 2]");
    assertThat(db.rows("SELECT g, k FROM b WHERE g = 'East'")).containsExactly("[East, 1]");
    assertThat(db.rows("SELECT * FROM busy ORDER BY gate"))
        .containsExactly("[North, 20]", "[South, 20]");
    assertThat(db.engine.relation("busy").count()).isEqualTo(2);
    assertThat(db.state("a").keys()).isEqualTo(db.state("b").keys()).isEqualTo(3);
    db.run("DROP MATERIALIZED VIEW a; DROP MATERIALIZED VIEW busy");
    push("East", 6, 100);
    assertThat(db.rows("SELECT k FROM b WHERE g = 'East'")).containsExactly("[2]");
    assertThat(steps()).hasSize(1);
    db.run("DROP MATERIALIZED VIEW b");
    assertThat(steps()).isEmpty();
  }

  @Test
  void whatDiffersInMeaningIsNotShared() {
    String[] queries = {
      "SELECT gate, COUNT(*) FROM scan GROUP BY gate",
      "SELECT gate, COUNT(parcel) FROM scan GROUP BY gate",
      "SELECT gate, COUNT(DISTINCT parcel) FROM scan GROUP BY gate",
      "SELECT gate, COUNT(*) FROM scan WHERE gate <> 'a,b' GROUP BY gate",
      "SELECT gate, COUNT(*) FROM scan WHERE gate <> 'a' GROUP BY gate",
      "SELECT gate, SUM(grams) FROM scan GROUP BY gate",
      "SELECT gate, SUM(grams + 1) FROM scan GROUP BY gate",
      "SELECT gate, SUM(grams) FILTER (WHERE grams > 1) FROM scan GROUP BY gate",
      "SELECT DISTINCT gate FROM scan",
    };
    for (int i = 0; i < queries.length; i++) {
      db.run("CREATE MATERIALIZED VIEW v" + i + " AS " + queries[i]);
      for (String line : db.rows("EXPLAIN v" + i)) {
        assertThat(line).as(queries[i]).doesNotContain("shared");
      }
    }
    assertThat(steps()).hasSize(queries.length);
  }

  @Test
  void aCommonTableExpressionThatIsUsedTwiceIsOneNode() {
    db.run(
        "CREATE MATERIALIZED VIEW loads AS WITH at_gate AS"
            + " (SELECT gate, SUM(grams) AS grams FROM scan GROUP BY gate)"
            + " SELECT gate, 'heavy' AS what FROM at_gate WHERE grams > 600"
            + " UNION ALL SELECT gate, 'light' FROM at_gate WHERE grams <= 600");
    assertThat(steps()).hasSize(1);
    assertThat(String.join("\n", db.rows("EXPLAIN loads"))).contains("the same as in line");
    push("South", 4, 200);
    assertThat(db.rows("SELECT * FROM loads ORDER BY gate"))
        .containsExactly("[North, heavy]", "[South, heavy]");
  }

  @Test
  void aViewThatIsNothingButAStepIsReadAsThatStep() {
    db.run("CREATE MATERIALIZED VIEW a AS SELECT gate, SUM(grams) AS g FROM scan GROUP BY gate");
    db.run("CREATE MATERIALIZED VIEW top AS SELECT MAX(g) AS most FROM a");
    db.run(
        "CREATE MATERIALIZED VIEW same AS SELECT MAX(g) AS most FROM"
            + " (SELECT gate, SUM(grams) AS g FROM scan GROUP BY gate)");
    assertThat(steps()).hasSize(2);
    push("South", 4, 900);
    assertThat(db.rows("SELECT * FROM top")).containsExactly("[1400]");
    assertThat(db.rows("SELECT * FROM same")).containsExactly("[1400]");
    assertThat(db.error("DROP MATERIALIZED VIEW a").getMessage()).contains("top reads from it");
  }

  @Test
  void sharedStepsComeBackFromACheckpointAndWithoutOne() {
    db.run("CREATE MATERIALIZED VIEW a AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
    db.run(
        "CREATE MATERIALIZED VIEW b AS SELECT gate, 6 / (COUNT(*) - 1) AS q FROM scan GROUP BY gate"
            + " HAVING gate <> 'West'");
    push("West", 4, 1);
    db.checkpoint();
    push("North", 5, 1);
    db.run("CREATE MATERIALIZED VIEW c AS SELECT gate, COUNT(*) AS m FROM scan GROUP BY gate");
    for (int round = 0; round < 2; round++) {
      assertThat(db.rows("SELECT * FROM a ORDER BY gate"))
          .containsExactly("[North, 3]", "[South, 1]", "[West, 1]");
      assertThat(db.rows("SELECT * FROM b")).containsExactly("[North, 3]");
      assertThat(db.engine.relation("b").count()).isEqualTo(1);
      assertThat(db.state("b").reasons()).containsExactly("division by zero");
      assertThat(db.rows("SELECT * FROM c WHERE gate = 'North'")).containsExactly("[North, 3]");
      assertThat(steps()).hasSize(1);
      db.crash();
    }
    db.run("DROP MATERIALIZED VIEW a");
    db.run("DROP MATERIALIZED VIEW b");
    db.crash();
    push("South", 6, 1);
    assertThat(db.rows("SELECT m FROM c WHERE gate = 'South'")).containsExactly("[2]");
  }

  @Test
  void aFollowerSharesStepsAndGivesThemBack() throws InterruptedException {
    db.run("CREATE MATERIALIZED VIEW a AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
    try (Subscription follower =
        db.engine.follow("FOLLOW SELECT gate, COUNT(*) AS k FROM scan GROUP BY gate", Map.of())) {
      assertThat(follower.poll(10_000).changes()).hasSize(2);
      assertThat(steps()).hasSize(1);
      db.run("DROP MATERIALIZED VIEW a");
      assertThat(steps()).as("the follower needs it").hasSize(1);
      push("East", 9, 1);
      assertThat(follower.poll(10_000).changes()).hasSize(1);
    }
    noStepIsLeft();
  }

  @Test
  void whatCannotBeStoredGivesItsStepsBack() {
    ((MemoryDefinitions) db.records.definitions()).refuse(true);
    String view = "CREATE MATERIALIZED VIEW a AS SELECT gate, COUNT(*) FROM scan GROUP BY gate";
    assertThatThrownBy(() -> db.run(view)).hasMessageContaining("not now");
    ((MemoryDefinitions) db.records.definitions()).refuse(false);
    assertThat(steps()).isEmpty();
    db.run("CREATE MATERIALIZED VIEW a AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
    assertThat(db.rows("SELECT n FROM a WHERE gate = 'North'")).containsExactly("[2]");
  }

  /** Views come and go at random beside a writer; each must be right whenever it is looked at. */
  @Test
  void viewsThatShareComeAndGoBesideAWriter() throws Exception {
    AtomicBoolean writing = new AtomicBoolean(true);
    CompletableFuture<Void> writer =
        CompletableFuture.runAsync(
            () -> {
              SplittableRandom random = new SplittableRandom(3);
              while (writing.get()) {
                push("gate" + random.nextInt(20), random.nextInt(100), random.nextInt(1000));
              }
            });
    List<CompletableFuture<Void>> makers = new ArrayList<>();
    for (int maker = 0; maker < 3; maker++) {
      int number = maker;
      makers.add(CompletableFuture.runAsync(() -> comeAndGo(number)));
    }
    for (CompletableFuture<Void> maker : makers) {
      maker.join();
    }
    writing.set(false);
    writer.join();
    noStepIsLeft();
  }

  private void comeAndGo(int number) {
    String step = " FROM (SELECT gate, COUNT(*) AS n, SUM(grams) AS g FROM scan GROUP BY gate) t";
    String[] tops = {"SELECT *", "SELECT gate, n + 1 AS n, g", "SELECT SUM(n) AS n, SUM(g) AS g"};
    for (int i = 0; i < 15; i++) {
      String view = "w" + number;
      db.run("CREATE MATERIALIZED VIEW " + view + " AS " + tops[(i + number) % 3] + step);
      // Two readings of one snapshot: of the view, and of what it is made from.
      String difference =
          "SELECT COUNT(*) FROM (SELECT SUM(n) AS n, SUM(g) AS g FROM "
              + view
              + " UNION SELECT SUM(n), SUM(g) FROM ("
              + tops[(i + number) % 3]
              + step
              + ")) d";
      assertThat(db.rows(difference)).as("one and the same row").containsExactly("[1]");
      db.run("DROP MATERIALIZED VIEW " + view);
    }
  }

  @Test
  void stepsHaveTheSameNumberInEveryProcess() {
    db.run("CREATE MATERIALIZED VIEW a AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
    PlanCut cut =
        PlanCut.of(
            ((dripledger.engine.catalog.CatalogObject.MaterializedView) db.engine.object("a"))
                .plan(),
            id -> null);
    assertThat(cut.steps()).hasSize(1);
    assertThat(cut.alias().relationId())
        .isEqualTo(cut.steps().get(0).id())
        .isEqualTo(steps().get(0));
    List<Long> before = steps();
    db.crash();
    assertThat(steps()).isEqualTo(before);
  }
}
