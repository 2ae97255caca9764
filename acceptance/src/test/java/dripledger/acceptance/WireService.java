package dripledger.acceptance;

import java.io.IOException;
import java.sql.Connection;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import org.junit.jupiter.api.extension.BeforeAllCallback;
import org.junit.jupiter.api.extension.ExtendWith;
import org.junit.jupiter.api.extension.ExtensionContext;

/** What tests of standard SQL clients share: one service, with a few relations that have rows. */
@ExtendWith(WireService.Opened.class)
abstract class WireService {
  protected static LiveService service;

  /** Starts the service before the first class and ends it after the last. */
  static final class Opened implements BeforeAllCallback, AutoCloseable {
    @Override
    public void beforeAll(ExtensionContext context) throws Exception {
      synchronized (Opened.class) {
        if (service == null) {
          service = new LiveService();
          service.sql(RELATIONS);
          context.getRoot().getStore(ExtensionContext.Namespace.GLOBAL).put("wire", this);
        }
      }
    }

    @Override
    public void close() throws IOException {
      service.close();
    }
  }

  private static final String RELATIONS =
      """
        CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, capacity_per_minute INTEGER);
        INSERT INTO gate SELECT 'G' || LPAD(CAST(n AS VARCHAR), 2, '0'),
            CASE WHEN n % 2 = 0 THEN 'North' ELSE 'South' END, CAST(40 + n AS INTEGER)
          FROM generate_series(1, 20) AS s (n);
        CREATE STREAM scan (parcel BIGINT NOT NULL, gate VARCHAR, at TIMESTAMP, grams INTEGER);
        CREATE MATERIALIZED VIEW gate_load AS
          SELECT gate, date_trunc('minute', at) AS minute, COUNT(*) AS scans, SUM(grams) AS grams
          FROM scan GROUP BY gate, date_trunc('minute', at);
        CREATE MATERIALIZED VIEW parcel_now AS
          SELECT parcel, COUNT(*) AS scans, MAX(at) AS at FROM scan GROUP BY parcel;
        CREATE TABLE kinds (id INTEGER PRIMARY KEY, yes BOOLEAN, small SMALLINT, big BIGINT,
          approx REAL, wide DOUBLE, exact DECIMAL(20, 4), word VARCHAR(20), raw VARBINARY, day DATE,
          hour TIME, at TIMESTAMP, tags VARCHAR ARRAY, numbers BIGINT ARRAY,
          scanner ROW(id VARCHAR, battery DOUBLE));
        """;

  static String rows(ResultSet rows) throws SQLException {
    StringBuilder text = new StringBuilder();
    int columns = rows.getMetaData().getColumnCount();
    while (rows.next()) {
      for (int i = 1; i <= columns; i++) {
        text.append(i == 1 ? "" : "|").append(rows.getString(i));
      }
      text.append('\n');
    }
    return text.toString();
  }

  static String ask(Connection connection, String sql) throws SQLException {
    try (Statement statement = connection.createStatement();
        ResultSet rows = statement.executeQuery(sql)) {
      return rows(rows);
    }
  }
}
