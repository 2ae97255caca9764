package dripledger.engine;

import dripledger.demo.PostgresCluster;
import dripledger.engine.error.EngineException;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.LocalDate;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.Test;

/**
 * Queries made by chance over tables changed by chance, for a while: after every epoch the view,
 * the query asked once and PostgreSQL answer the same. What does not is made smaller as long as it
 * fails and shown as a script. {@code -Ddrip.soak.seconds=3600} makes it long, {@code
 * -Ddrip.seed=N} chooses the run; without, each day has another.
 */
class RandomQueryTest extends BesidePostgres {
  private static final int SECONDS = Integer.getInteger("drip.soak.seconds", 30);
  private static final long SEED =
      Long.getLong("drip.seed", LocalDate.now(ZoneOffset.UTC).toEpochDay());
  private static final int QUERIES = 8;
  private static final int EPOCHS = 8;

  private int cases;
  private int comparisons;

  /** A query that answered what it should not, after some epochs of statements. */
  private record Failure(String query, List<List<String>> epochs, String what) {}

  @Test
  void viewsEqualPostgres() throws Exception {
    System.out.println("random queries: seed " + SEED + ", " + SECONDS + " s");
    long end = System.nanoTime() + SECONDS * 1_000_000_000L;
    Random random = new Random(SEED);
    try (Connection connection = connect();
        Statement oracle = connection.createStatement()) {
      oracle.execute("SET statement_timeout = '20s'");
      while (System.nanoTime() < end) {
        RandomQueries made = new RandomQueries(new Random(random.nextLong()));
        List<String> queries = new ArrayList<>();
        for (int i = 0; i < QUERIES; i++) {
          queries.add(made.next());
        }
        List<List<String>> epochs = new ArrayList<>();
        for (int i = 0; i < EPOCHS; i++) {
          epochs.add(made.changes());
        }
        Failure failure = run(queries, epochs, oracle, true);
        if (failure != null) {
          throw new AssertionError("seed " + SEED + "\n" + script(smaller(failure, oracle)));
        }
      }
    }
    System.out.println("random queries: " + cases + " queries, " + comparisons + " answers equal");
  }

  private static Connection connect() throws SQLException {
    return DriverManager.getConnection(
        cluster.jdbcUrl(PostgresCluster.DATABASE), PostgresCluster.USER, "loopback");
  }

  /** Runs some queries over the same changes; answers the first that fails, or null. */
  private Failure run(
      List<String> queries, List<List<String>> epochs, Statement oracle, boolean counting)
      throws SQLException {
    try (TestEngine db = new TestEngine()) {
      for (int t = 0; t < RandomQueries.TABLES; t++) {
        String create = "CREATE TABLE r" + t + " (" + RandomQueries.COLUMNS + ")";
        oracle.execute("DROP TABLE IF EXISTS r" + t);
        oracle.execute(create);
        db.run(create);
      }
      List<Integer> live = new ArrayList<>();
      for (int epoch = 0; epoch < epochs.size(); epoch++) {
        if (!epochs.get(epoch).isEmpty()) {
          db.run("BEGIN; " + String.join("; ", epochs.get(epoch)) + "; COMMIT");
          for (String statement : epochs.get(epoch)) {
            oracle.execute(statement);
          }
        }
        for (int i = 0; i < queries.size(); i++) {
          if (epoch == (i % 2 == 0 ? 0 : epochs.size() / 2)) {
            try {
              db.run("CREATE MATERIALIZED VIEW v" + i + " AS " + queries.get(i));
              live.add(i);
              cases += counting ? 1 : 0;
            } catch (RuntimeException | AssertionError e) {
              return new Failure(queries.get(i), epochs.subList(0, epoch + 1), trace(e));
            }
          }
        }
        if (epoch == epochs.size() * 3 / 4) {
          db.checkpoint();
          db.crash();
        }
        for (int i : live) {
          String what = compare(db, "v" + i, queries.get(i), oracle, epoch % 4 == 3);
          if (what != null) {
            return new Failure(queries.get(i), epochs.subList(0, epoch + 1), what);
          }
          comparisons += counting ? 1 : 0;
        }
      }
      return null;
    }
  }

  private static String trace(Throwable thrown) {
    Throwable e = thrown.getCause() == null ? thrown : thrown.getCause();
    StringBuilder out = new StringBuilder(thrown + ", " + e);
    for (int i = 0; i < Math.min(12, e.getStackTrace().length); i++) {
      out.append("\n  ").append(e.getStackTrace()[i]);
    }
    return out.toString();
  }

  /** What is wrong with the answers, or null. */
  private static String compare(
      TestEngine db, String view, String query, Statement oracle, boolean once)
      throws SQLException {
    List<String> expected;
    try {
      expected = Answers.theirs(oracle, query);
    } catch (SQLException e) {
      throw new SQLException("not PostgreSQL: " + query, e);
    }
    try {
      List<String> kept = Answers.ours(db, "SELECT * FROM " + view);
      if (!kept.equals(expected)) {
        return "kept up to date: " + kept + "\nexpected: " + expected;
      }
      List<String> asked = once ? Answers.ours(db, query) : expected;
      return asked.equals(expected) ? null : "asked once: " + asked + "\nexpected: " + expected;
    } catch (RuntimeException | AssertionError e) {
      return trace(e) + "\nexpected: " + expected;
    }
  }

  /** Leaves out whole epochs, then statements, as long as it fails. */
  private Failure smaller(Failure failure, Statement oracle) throws SQLException {
    Failure smallest = run(List.of(failure.query), failure.epochs, oracle, false);
    if (smallest == null) {
      return failure; // only together with others, or when filled later
    }
    for (int epoch = smallest.epochs.size() - 1; epoch >= 0; epoch--) {
      List<List<String>> epochs = smallest.epochs;
      if (epoch >= epochs.size()) {
        continue;
      }
      for (int i = epochs.get(epoch).size() - 1; i >= 0; i--) {
        List<List<String>> fewer = new ArrayList<>();
        epochs.forEach(e -> fewer.add(new ArrayList<>(e)));
        fewer.get(epoch).remove(i);
        Failure still;
        try {
          still = run(List.of(failure.query), fewer, oracle, false);
        } catch (EngineException | SQLException e) {
          continue; // what is left cannot be done
        }
        if (still != null && still.epochs.size() > epoch) {
          smallest = still;
          epochs = still.epochs;
        }
      }
    }
    return smallest;
  }

  private static String script(Failure failure) {
    StringBuilder out = new StringBuilder();
    for (int t = 0; t < RandomQueries.TABLES; t++) {
      out.append("CREATE TABLE r" + t + " (" + RandomQueries.COLUMNS + ");\n");
    }
    out.append("CREATE MATERIALIZED VIEW v AS ").append(failure.query).append(";\n");
    for (List<String> epoch : failure.epochs) {
      if (!epoch.isEmpty()) {
        out.append("BEGIN;\n");
        epoch.forEach(s -> out.append("  ").append(s).append(";\n"));
        out.append("COMMIT;\n");
      }
    }
    return out.append("SELECT * FROM v;\n").append(failure.what).toString();
  }
}
