package dripledger.engine;

import dripledger.demo.PostgresCluster;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;

/** A test that has a PostgreSQL of its own beside it. */
abstract class BesidePostgres {
  static PostgresCluster cluster;

  @BeforeAll
  static void startPostgres() throws Exception {
    cluster = PostgresCluster.temporary();
  }

  @AfterAll
  static void stopPostgres() {
    cluster.close();
  }
}
