package dripledger.engine;

import dripledger.demo.PostgresCluster;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.PreparedStatement;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.List;
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

  /** A new, empty database that orders text as we do. */
  static Connection database(String name) throws SQLException {
    try (Connection admin = connect("postgres");
        Statement s = admin.createStatement()) {
      s.execute("CREATE DATABASE " + name + " TEMPLATE template0 LC_COLLATE 'C' LC_CTYPE 'C'");
    }
    return connect(name);
  }

  /**
   * Pushes events from one of several partitions, and tells PostgreSQL of them.
   *
   * @param insert takes the partition, then the columns of an event
   */
  static void push(
      TestEngine db, String stream, PreparedStatement insert, int part, List<Object[]> events)
      throws SQLException {
    db.pushFrom(stream, part, events.toArray(Object[][]::new));
    for (Object[] event : events) {
      insert.setInt(1, part);
      for (int c = 0; c < event.length; c++) {
        insert.setObject(c + 2, event[c]);
      }
      insert.execute();
    }
  }

  private static Connection connect(String database) throws SQLException {
    return DriverManager.getConnection(cluster.jdbcUrl(database), PostgresCluster.USER, "loopback");
  }
}
