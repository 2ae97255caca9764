package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.PostgresCluster;
import dripledger.demo.decision.DecisionSupport;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/**
 * The 22 queries of the public TPC-H workload as views, while orders and their lines come and go
 * and other rows are revised: after every epoch each equals what PostgreSQL answers.
 */
class DecisionSupportTest extends BesidePostgres {
  private static final int EPOCHS = 12;

  /** Quotients have six digits after the point here, more there. */
  private static final Map<String, String> QUOTIENTS =
      Map.of(
          "q8", "SELECT o_year, ROUND(mkt_share, 6) FROM (%s) AS q",
          "q14", "SELECT ROUND(promo_revenue, 6) FROM (%s) AS q",
          "q17", "SELECT ROUND(avg_yearly, 6) FROM (%s) AS q");

  @ParameterizedTest
  @ValueSource(longs = {1, 2})
  void everyQueryEqualsPostgresAtEveryEpoch(long seed) throws Exception {
    DecisionSupport workload = new DecisionSupport(500, seed);
    Map<String, String> queries = DecisionSupport.queries();
    Map<String, Integer> rows = new LinkedHashMap<>();
    try (Connection pg =
            DriverManager.getConnection(
                cluster.jdbcUrl(PostgresCluster.DATABASE), PostgresCluster.USER, "loopback");
        Statement oracle = pg.createStatement();
        TestEngine db = new TestEngine()) {
      oracle.execute("DROP SCHEMA IF EXISTS decision CASCADE; CREATE SCHEMA decision");
      oracle.execute("SET search_path TO decision");
      oracle.execute(DecisionSupport.tables());
      db.run(DecisionSupport.tables());
      // half of the views see the first load come, half are filled from it
      views(db, queries, 0);
      apply(db, oracle, workload.load());
      views(db, queries, 1);
      for (int epoch = 0; epoch < EPOCHS; epoch++) {
        List<String> changes = new ArrayList<>(workload.revisions());
        changes.addAll(workload.changes(1 + epoch % 5));
        apply(db, oracle, changes);
        if (epoch == EPOCHS / 2) {
          db.checkpoint();
          db.crash();
        }
        for (Map.Entry<String, String> query : queries.entrySet()) {
          String theirs = QUOTIENTS.getOrDefault(query.getKey(), "%s");
          List<String> expected = Answers.theirs(oracle, theirs.replace("%s", query.getValue()));
          rows.merge(query.getKey(), expected.size(), Integer::sum);
          assertThat(Answers.ours(db, "SELECT * FROM " + query.getKey()))
              .as("seed %d, epoch %d, %s", seed, epoch, query)
              .isEqualTo(expected);
          if (epoch % 6 == 5) {
            assertThat(Answers.ours(db, query.getValue()))
                .as("seed %d, epoch %d, asked once: %s", seed, epoch, query)
                .isEqualTo(expected);
          }
        }
      }
    }
    assertThat(rows).as("queries that never answer prove nothing").doesNotContainValue(0);
  }

  private static void views(TestEngine db, Map<String, String> queries, int which) {
    int i = 0;
    for (Map.Entry<String, String> query : queries.entrySet()) {
      if (i++ % 2 == which) {
        db.run("CREATE MATERIALIZED VIEW " + query.getKey() + " AS " + query.getValue());
      }
    }
  }

  private static void apply(TestEngine db, Statement oracle, List<String> statements)
      throws Exception {
    db.run("BEGIN; " + String.join("; ", statements) + "; COMMIT");
    for (String statement : statements) {
      oracle.execute(statement);
    }
  }
}
