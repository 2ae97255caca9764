package dripledger.engine;

import dripledger.demo.PostgresCluster;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.PreparedStatement;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.List;
import java.util.concurrent.atomic.AtomicInteger;
import org.junit.jupiter.api.extension.BeforeAllCallback;
import org.junit.jupiter.api.extension.ExtendWith;
import org.junit.jupiter.api.extension.ExtensionContext;

/** A test that has a PostgreSQL beside it: one for all of them, with databases of their own. */
@ExtendWith(BesidePostgres.Started.class)
abstract class BesidePostgres {
  private static final AtomicInteger DATABASES = new AtomicInteger();
  static PostgresCluster cluster;

  /** Starts it before the first class and stops it after the last. */
  static final class Started implements BeforeAllCallback, AutoCloseable {
    @Override
    public void beforeAll(ExtensionContext context) throws Exception {
      synchronized (Started.class) {
        if (cluster == null) {
          cluster = PostgresCluster.temporary();
          context.getRoot().getStore(ExtensionContext.Namespace.GLOBAL).put("postgres", this);
        }
      }
    }

    @Override
    public void close() {
      cluster.close();
    }
  }

  /** A new, empty database that orders text as we do. */
  static Connection database(String name) throws SQLException {
    String own = name + "_" + DATABASES.incrementAndGet();
    try (Connection admin = connect("postgres");
        Statement s = admin.createStatement()) {
      s.execute("CREATE DATABASE " + own + " TEMPLATE template0 LC_COLLATE 'C' LC_CTYPE 'C'");
    }
    return connect(own);
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
