package dripledger.server.records;

import dripledger.connectors.format.DriftStore;
import dripledger.engine.source.Drift;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.util.ArrayList;
import java.util.List;
import javax.sql.DataSource;

/** Drift in PostgreSQL. Thread-safe. */
public final class PostgresDrift implements DriftStore {
  private final DataSource dataSource;

  public PostgresDrift(DataSource dataSource) {
    this.dataSource = dataSource;
  }

  @Override
  public List<Drift> load(long objectId) {
    List<Drift> all = new ArrayList<>();
    try (Connection c = dataSource.getConnection();
        PreparedStatement s =
            c.prepareStatement(
                "SELECT field, what, messages, type, example, origin FROM drift"
                    + " WHERE object_id = ? ORDER BY field")) {
      s.setLong(1, objectId);
      try (ResultSet r = s.executeQuery()) {
        while (r.next()) {
          all.add(
              new Drift(
                  r.getString(1),
                  r.getString(2),
                  r.getLong(3),
                  r.getString(4),
                  r.getString(5),
                  r.getString(6)));
        }
      }
    } catch (SQLException e) {
      throw new RecordsException("drift cannot be read", e);
    }
    return all;
  }

  @Override
  public void save(long objectId, List<Drift> drift) {
    try (Connection c = dataSource.getConnection()) {
      c.setAutoCommit(false);
      try (PreparedStatement gone = c.prepareStatement("DELETE FROM drift WHERE object_id = ?");
          PreparedStatement s =
              c.prepareStatement(
                  "INSERT INTO drift (object_id, field, what, messages, type, example, origin)"
                      + " SELECT ?, ?, ?, ?, ?, ?, ?"
                      + " WHERE EXISTS (SELECT FROM definition WHERE id = ?)")) {
        gone.setLong(1, objectId);
        gone.executeUpdate();
        for (Drift d : drift) {
          s.setLong(1, objectId);
          s.setString(2, d.field().replace('\u0000', ' '));
          s.setString(3, d.what());
          s.setLong(4, d.count());
          s.setString(5, d.type());
          s.setString(6, d.example().replace('\u0000', ' '));
          s.setString(7, d.origin());
          s.setLong(8, objectId);
          s.addBatch();
        }
        s.executeBatch();
        c.commit();
      } catch (SQLException e) {
        c.rollback();
        throw e;
      } finally {
        c.setAutoCommit(true);
      }
    } catch (SQLException e) {
      throw new RecordsException("drift cannot be saved", e);
    }
  }
}
