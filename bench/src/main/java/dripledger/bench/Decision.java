package dripledger.bench;

import dripledger.demo.PostgresCluster;
import dripledger.demo.decision.DecisionSupport;
import dripledger.engine.Engine;
import dripledger.engine.EngineOptions;
import dripledger.engine.TestEngine;
import dripledger.engine.source.Connectors;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.Statement;
import java.time.Clock;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;

/**
 * What each of the 22 decision-support queries costs to keep up to date, against PostgreSQL's
 * REFRESH MATERIALIZED VIEW of the same query after the same batch of changes.
 */
final class Decision {
  private static final int BATCHES = 12;
  private static final int WARM_UP = 4;
  private static final int BATCH = 10; // orders that come, and as many that go

  private final int orders;

  Decision(int orders) {
    this.orders = orders;
  }

  void run() throws Exception {
    System.out.printf(
        "%ndecision support: %,d orders, batches of %d orders in and %d out; each view alone%n",
        orders, BATCH, BATCH);
    DecisionSupport workload = new DecisionSupport(orders, 1);
    PostgresCluster cluster = PostgresCluster.temporary(false);
    try (Connection pg =
            DriverManager.getConnection(
                cluster.jdbcUrl(PostgresCluster.DATABASE), PostgresCluster.USER, "loopback");
        Statement oracle = pg.createStatement();
        Engine engine =
            new Engine(
                EngineOptions.defaults(),
                TestEngine.records(),
                Connectors.NONE,
                Clock.systemUTC())) {
      engine.start();
      oracle.execute(DecisionSupport.tables());
      engine.execute(DecisionSupport.tables());
      apply(engine, oracle, workload.load());
      oracle.execute("CREATE INDEX ON lineitem (l_partkey)");
      oracle.execute("CREATE INDEX ON lineitem (l_suppkey)");
      oracle.execute("CREATE INDEX ON orders (o_custkey)");
      oracle.execute("ANALYZE");
      for (int i = 0; i < 3 * BATCHES; i++) {
        apply(engine, oracle, workload.changes(BATCH)); // warm
      }
      double none = median(engine, oracle, workload, null)[0];
      System.out.printf("  %-6s %8.2f ms an epoch, whatever views there are%n", "none", none);
      double worst = Double.MAX_VALUE;
      for (Map.Entry<String, String> query : DecisionSupport.queries().entrySet()) {
        String name = query.getKey();
        long began = System.nanoTime();
        engine.execute("CREATE MATERIALIZED VIEW " + name + " AS " + query.getValue());
        double filled = (System.nanoTime() - began) / 1e6;
        oracle.execute("CREATE MATERIALIZED VIEW " + name + " AS " + query.getValue());
        double[] millis = median(engine, oracle, workload, name);
        engine.execute("DROP MATERIALIZED VIEW " + name);
        oracle.execute("DROP MATERIALIZED VIEW " + name);
        worst = Math.min(worst, millis[1] / millis[0]);
        System.out.printf(
            "  %-6s %8.2f ms an epoch; REFRESH %8.1f ms: %6.1f times; filled in %.0f ms%n",
            name, millis[0], millis[1], millis[1] / millis[0], filled);
      }
      System.out.printf("  the least: %.1f times%n", worst);
    }
    cluster.close();
  }

  /** Milliseconds of a batch's epoch here and of a refresh there. */
  private static double[] median(
      Engine engine, Statement oracle, DecisionSupport workload, String view) throws Exception {
    List<Double> ours = new ArrayList<>();
    List<Double> theirs = new ArrayList<>();
    for (int i = 0; i < BATCHES; i++) {
      double millis = apply(engine, oracle, workload.changes(BATCH));
      long began = System.nanoTime();
      if (view != null) {
        oracle.execute("REFRESH MATERIALIZED VIEW " + view);
      }
      if (i >= WARM_UP) {
        ours.add(millis);
        theirs.add((System.nanoTime() - began) / 1e6);
      }
    }
    ours.sort(null);
    theirs.sort(null);
    return new double[] {ours.get(ours.size() / 2), theirs.get(theirs.size() / 2)};
  }

  /** Milliseconds of the epoch that brings the views here up to date. */
  private static double apply(Engine engine, Statement oracle, List<String> statements)
      throws Exception {
    String script = "BEGIN; " + String.join("; ", statements) + "; COMMIT";
    engine.execute(script);
    double millis = engine.loop().lastStepNanos() / 1e6;
    for (String statement : statements) {
      oracle.execute(statement);
    }
    return millis;
  }
}
