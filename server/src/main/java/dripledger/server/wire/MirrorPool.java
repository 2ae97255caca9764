package dripledger.server.wire;

import com.zaxxer.hikari.HikariConfig;
import com.zaxxer.hikari.HikariDataSource;
import java.sql.Connection;
import java.sql.SQLException;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/** A mirror of the catalog, or of what a role sees of it, with connections to it. */
final class MirrorPool implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(MirrorPool.class);
  private static final int PATIENCE_MILLIS = 10_000;

  private final CatalogMirror mirror;
  private final HikariDataSource pool;

  /**
   * @param password of the role that looks at it
   * @param most connections
   */
  MirrorPool(CatalogMirror mirror, String password, int most) {
    this.mirror = mirror;
    HikariConfig config = new HikariConfig();
    config.setJdbcUrl(mirror.url());
    config.setUsername(mirror.role());
    config.setPassword(password);
    config.setMaximumPoolSize(most);
    config.setMinimumIdle(0);
    config.setConnectionTimeout(PATIENCE_MILLIS);
    config.setPoolName("catalog");
    config.setReadOnly(true);
    config.addDataSourceProperty("binaryTransfer", "false");
    config.addDataSourceProperty("connectTimeout", "10");
    config.addDataSourceProperty("socketTimeout", "30");
    pool = new HikariDataSource(config);
  }

  CatalogMirror mirror() {
    return mirror;
  }

  /** A connection that sees what there is now. */
  Connection connection() throws SQLException {
    mirror.follow();
    return pool.getConnection();
  }

  @Override
  public void close() {
    pool.close();
    try {
      mirror.close();
    } catch (SQLException e) {
      LOG.debug("closing", e);
    }
  }
}
