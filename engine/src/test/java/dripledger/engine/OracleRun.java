package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.PostgresCluster;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.List;
import java.util.Map;
import java.util.Random;

/**
 * Queries over changing relations, against PostgreSQL: after every epoch of seeded random changes,
 * with checkpoints and crashes in between, every view equals what PostgreSQL answers, and now and
 * then so does the query asked once. Half of the views are there from the start, half are filled
 * later from what is there.
 */
final class OracleRun {
  private final PostgresCluster cluster;
  private final String tables;
  private final String streams;
  private final List<Query> queries;
  private final Changes changes;
  private int epochs = 40;

  /** A query in our words and in PostgreSQL's. */
  record Query(String name, String ours, String theirs) {
    static Query of(String name, String sql) {
      return new Query(name, sql, sql);
    }

    /** Queries by name that are the same in both. */
    static List<Query> all(Map<String, String> queries) {
      return queries.entrySet().stream().map(q -> of(q.getKey(), q.getValue())).toList();
    }
  }

  /** Makes the statements of one epoch. */
  interface Changes {
    List<String> statements(Random random);
  }

  /**
   * @param streams columns of streams, which are tables there: {@code name (columns); …}
   */
  OracleRun(
      PostgresCluster cluster,
      String tables,
      String streams,
      List<Query> queries,
      Changes changes) {
    this.cluster = cluster;
    this.tables = tables;
    this.streams = streams;
    this.queries = queries;
    this.changes = changes;
  }

  OracleRun epochs(int number) {
    epochs = number;
    return this;
  }

  void run(String name, long seed) throws SQLException {
    Random random = new Random(seed);
    String database = name + "_" + Long.toString(System.nanoTime(), 36); // others may be like it
    try (Connection admin = connect("postgres");
        Statement s = admin.createStatement()) {
      s.execute("CREATE DATABASE " + database + " TEMPLATE template0 LC_COLLATE 'C' LC_CTYPE 'C'");
    }
    try (TestEngine db = new TestEngine();
        Connection pg = connect(database);
        Statement oracle = pg.createStatement()) {
      RefreshedTwins twins = new RefreshedTwins(db, seed);
      db.run(tables);
      oracle.execute(tables);
      for (String stream : streams.split(";")) {
        db.run("CREATE STREAM " + stream);
        oracle.execute("CREATE TABLE " + stream);
      }
      for (int epoch = 0; epoch < epochs; epoch++) {
        for (int i = 0; i < queries.size(); i++) {
          if (epoch == i % 2 * epochs / 3) {
            Query query = queries.get(i);
            db.run("CREATE MATERIALIZED VIEW v_" + query.name + " AS " + query.ours);
            twins.make(i, query.name, "", query.ours);
          }
        }
        List<String> statements = changes.statements(random);
        db.run("BEGIN; " + String.join("; ", statements) + "; COMMIT");
        for (String statement : statements) {
          oracle.execute(statement);
        }
        if (random.nextInt(4) == 0) {
          db.checkpoint();
        }
        if (random.nextInt(8) == 0) {
          db.crash();
        }
        for (int i = 0; i < queries.size(); i += epoch < epochs / 3 ? 2 : 1) {
          Query query = queries.get(i);
          List<String> expected = Answers.theirs(oracle, query.theirs);
          assertThat(Answers.ours(db, "SELECT * FROM v_" + query.name))
              .as("seed %d, epoch %d, view %s: %s", seed, epoch, query.name, query.ours)
              .isEqualTo(expected);
          twins.compare(query.name, expected);
          if (epoch % 10 == 9) {
            assertThat(Answers.ours(db, query.ours))
                .as("seed %d, epoch %d, asked once: %s", seed, epoch, query.ours)
                .isEqualTo(expected);
          }
        }
      }
    }
  }

  private Connection connect(String database) throws SQLException {
    return DriverManager.getConnection(cluster.jdbcUrl(database), PostgresCluster.USER, "loopback");
  }
}
