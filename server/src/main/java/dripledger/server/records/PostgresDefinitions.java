package dripledger.server.records;

import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.catalog.SourcePosition;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.time.LocalDateTime;
import java.time.OffsetDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.List;
import javax.sql.DataSource;

/** Definitions and their history in PostgreSQL. Thread-safe. */
public final class PostgresDefinitions implements DefinitionStore {
  private final DataSource dataSource;

  public PostgresDefinitions(DataSource dataSource) {
    this.dataSource = dataSource;
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

  @Override
  public void apply(List<StoredDefinition> added, List<Long> dropped) {
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
                  + " VALUES (?, ?, ?, ?, ?, ?)",
              d.id(),
              d.name(),
              d.kind(),
              d.alters(),
              d.sql(),
              d.begin() == null ? null : d.begin().text());
          update(
              c,
              "INSERT INTO definition_history (id, name, kind, statement, defined_at)"
                  + " VALUES (?, ?, ?, ?, now())",
              d.id(),
              d.name(),
              d.kind(),
              d.sql());
        }
        c.commit();
      } catch (SQLException e) {
        c.rollback();
        throw e;
      } finally {
        c.setAutoCommit(true);
      }
    } catch (SQLException e) {
      throw new RecordsException("the definition cannot be stored", e);
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
