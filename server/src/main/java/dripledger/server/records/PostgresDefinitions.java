package dripledger.server.records;

import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.catalog.SourcePosition;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.SQLNonTransientConnectionException;
import java.sql.SQLRecoverableException;
import java.sql.SQLTransientException;
import java.time.LocalDateTime;
import java.time.OffsetDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.List;
import javax.sql.DataSource;

/** Definitions and their history in PostgreSQL. Thread-safe. */
public final class PostgresDefinitions implements DefinitionStore {
  private static final int TRIES = 20;
  private static final long RETRY_MILLIS = 250;

  private final DataSource dataSource;
  private final Fence fence;

  /**
   * @param fence stands before every commit
   */
  public PostgresDefinitions(DataSource dataSource, Fence fence) {
    this.dataSource = dataSource;
    this.fence = fence;
  }

  @Override
  public List<StoredDefinition> load() {
    List<StoredDefinition> all = new ArrayList<>();
    try (Connection c = dataSource.getConnection();
        PreparedStatement s =
            c.prepareStatement(
                "SELECT id, name, kind, alters, statement, begin_position FROM definition"
                    + " ORDER BY id");
        ResultSet r = s.executeQuery()) {
      while (r.next()) {
        String begin = r.getString(6);
        all.add(
            new StoredDefinition(
                r.getLong(1),
                r.getString(2),
                r.getString(3),
                r.getLong(4),
                r.getString(5),
                begin == null ? null : new SourcePosition(begin)));
      }
    } catch (SQLException e) {
      throw new RecordsException("definitions cannot be read", e);
    }
    return all;
  }

  @Override
  public List<Past> history() {
    List<Past> all = new ArrayList<>();
    try (Connection c = dataSource.getConnection();
        PreparedStatement s =
            c.prepareStatement(
                "SELECT name, kind, statement, defined_at, dropped_at FROM definition_history"
                    + " ORDER BY defined_at, id");
        ResultSet r = s.executeQuery()) {
      while (r.next()) {
        all.add(new Past(r.getString(1), r.getString(2), r.getString(3), utc(r, 4), utc(r, 5)));
      }
    } catch (SQLException e) {
      throw new RecordsException("the history cannot be read", e);
    }
    return all;
  }

  private static LocalDateTime utc(ResultSet r, int column) throws SQLException {
    OffsetDateTime at = r.getObject(column, OffsetDateTime.class);
    return at == null ? null : at.withOffsetSameInstant(ZoneOffset.UTC).toLocalDateTime();
  }

  @Override
  public long nextId() {
    return number("SELECT nextval('definition_number')");
  }

  private long number(String query) {
    try (Connection c = dataSource.getConnection();
        PreparedStatement s = c.prepareStatement(query);
        ResultSet r = s.executeQuery()) {
      r.next();
      return r.getLong(1);
    } catch (SQLException e) {
      throw new RecordsException("the database does not answer", e);
    }
  }

  /**
   * {@inheritDoc}
   *
   * <p>Numbers are never given twice, so doing it again after a lost answer changes nothing.
   */
  @Override
  public void apply(List<StoredDefinition> added, List<Long> dropped) {
    for (int tries = 1; ; tries++) {
      try {
        applyOnce(added, dropped);
        return;
      } catch (SQLTransientException
          | SQLRecoverableException
          | SQLNonTransientConnectionException e) {
        retryOrFail(e, tries);
      } catch (SQLException e) {
        // 08: the connection; 57P: the server is shutting down or starting.
        String state = String.valueOf(e.getSQLState());
        retryOrFail(e, state.startsWith("08") || state.startsWith("57P") ? tries : TRIES);
      }
    }
  }

  private static void retryOrFail(SQLException e, int tries) {
    if (tries >= TRIES) {
      throw new RecordsException("the definition cannot be stored", e);
    }
    try {
      Thread.sleep(RETRY_MILLIS);
    } catch (InterruptedException interrupt) {
      Thread.currentThread().interrupt();
      throw new RecordsException("the definition cannot be stored", e);
    }
  }

  private void applyOnce(List<StoredDefinition> added, List<Long> dropped) throws SQLException {
    try (Connection c = dataSource.getConnection()) {
      c.setAutoCommit(false);
      try {
        for (long id : dropped) {
          update(c, "UPDATE definition_history SET dropped_at = now() WHERE id = ?", id);
          update(c, "DELETE FROM definition WHERE id = ? OR alters = ?", id, id);
          update(c, "DELETE FROM ledger_segment WHERE relation_id = ?", id);
          update(c, "UPDATE ledger_end SET position = 0 WHERE relation_id = ?", id);
          update(c, "DELETE FROM ledger_input WHERE input_id = ?", id);
          update(c, "DELETE FROM reject WHERE object_id = ?", id);
          update(c, "DELETE FROM drift WHERE object_id = ?", id);
        }
        for (StoredDefinition d : added) {
          update(
              c,
              "INSERT INTO definition (id, name, kind, alters, statement, begin_position)"
                  + " VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (id) DO NOTHING",
              d.id(),
              d.name(),
              d.kind(),
              d.alters(),
              d.sql(),
              d.begin() == null ? null : d.begin().text());
          update(
              c,
              "INSERT INTO definition_history (id, name, kind, statement, defined_at)"
                  + " SELECT ?, ?, ?, ?, now()"
                  + " WHERE NOT EXISTS (SELECT FROM definition_history WHERE id = ?)",
              d.id(),
              d.name(),
              d.kind(),
              d.sql(),
              d.id());
        }
        fence.confirm(c);
        c.commit();
      } catch (SQLException | Ownership.LostException e) {
        c.rollback();
        throw e;
      } finally {
        c.setAutoCommit(true);
      }
    }
  }

  private static void update(Connection c, String sql, Object... values) throws SQLException {
    try (PreparedStatement s = c.prepareStatement(sql)) {
      for (int i = 0; i < values.length; i++) {
        s.setObject(i + 1, values[i]);
      }
      s.executeUpdate();
    }
  }

  @Override
  public long reserveEpochs(long count) {
    try (Connection c = dataSource.getConnection();
        PreparedStatement s =
            c.prepareStatement(
                "UPDATE epoch_reservation SET next_epoch = next_epoch + ? RETURNING next_epoch")) {
      s.setLong(1, count);
      try (ResultSet r = s.executeQuery()) {
        r.next();
        return r.getLong(1) - count;
      }
    } catch (SQLException e) {
      throw new RecordsException("epochs cannot be reserved", e);
    }
  }

  @Override
  public void returnEpochs(long next) {
    try (Connection c = dataSource.getConnection()) {
      update(c, "UPDATE epoch_reservation SET next_epoch = ?", next);
    } catch (SQLException e) {
      throw new RecordsException("epochs cannot be given back", e);
    }
  }
}
