package dripledger.server.records;

import dripledger.engine.source.Reject;
import dripledger.engine.source.RejectStore;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.time.OffsetDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import java.util.function.Consumer;
import java.util.stream.Collectors;
import javax.sql.DataSource;

/** Rejects in PostgreSQL. Thread-safe. */
public final class Rejects implements RejectStore {
  private static final String SELECT =
      "SELECT id, object_id, at, reason, key_bytes, raw, origin FROM reject";

  private final DataSource dataSource;

  public Rejects(DataSource dataSource) {
    this.dataSource = dataSource;
  }

  /** Adds rejects within a transaction and lets the oldest of each object go. */
  static void insert(Connection c, List<Reject> rejects, int most) throws SQLException {
    if (rejects.isEmpty()) {
      return;
    }
    try (PreparedStatement s =
        c.prepareStatement(
            "INSERT INTO reject (object_id, at, reason, key_bytes, raw, origin)"
                + " VALUES (?, ?, ?, ?, ?, ?)")) {
      for (Reject r : rejects) {
        s.setLong(1, r.objectId());
        s.setObject(2, r.at().atOffset(ZoneOffset.UTC));
        s.setString(3, r.reason().replace('\u0000', ' '));
        s.setBytes(4, r.key());
        s.setBytes(5, r.raw());
        s.setString(6, r.origin());
        s.addBatch();
      }
      s.executeBatch();
    }
    Set<Long> objects = rejects.stream().map(Reject::objectId).collect(Collectors.toSet());
    try (PreparedStatement s =
        c.prepareStatement(
            "DELETE FROM reject WHERE object_id = ? AND id <= ("
                + "SELECT id FROM reject WHERE object_id = ? ORDER BY id DESC OFFSET ? LIMIT 1)")) {
      for (long object : objects) {
        s.setLong(1, object);
        s.setLong(2, object);
        s.setInt(3, most);
        s.executeUpdate();
      }
    }
  }

  /** Removes rejects within a transaction: they have been taken after all. */
  static void remove(Connection c, List<Long> ids) throws SQLException {
    if (ids.isEmpty()) {
      return;
    }
    try (PreparedStatement s = c.prepareStatement("DELETE FROM reject WHERE id = ANY (?)")) {
      s.setArray(1, c.createArrayOf("bigint", ids.toArray()));
      s.executeUpdate();
    }
  }

  @Override
  public void scan(Consumer<Stored> sink) {
    try (Connection c = dataSource.getConnection();
        PreparedStatement s = c.prepareStatement(SELECT + " ORDER BY id");
        ResultSet r = s.executeQuery()) {
      while (r.next()) {
        sink.accept(stored(r));
      }
    } catch (SQLException e) {
      throw new RecordsException("rejects cannot be read", e);
    }
  }

  @Override
  public List<Stored> find(long objectId, List<Long> ids, int limit) {
    List<Stored> found = new ArrayList<>();
    try (Connection c = dataSource.getConnection();
        PreparedStatement s =
            c.prepareStatement(
                SELECT + " WHERE object_id = ? AND (? OR id = ANY (?)) ORDER BY id LIMIT ?")) {
      s.setLong(1, objectId);
      s.setBoolean(2, ids.isEmpty());
      s.setArray(3, c.createArrayOf("bigint", ids.toArray()));
      s.setInt(4, limit);
      try (ResultSet r = s.executeQuery()) {
        while (r.next()) {
          found.add(stored(r));
        }
      }
    } catch (SQLException e) {
      throw new RecordsException("rejects cannot be read", e);
    }
    return found;
  }

  private static Stored stored(ResultSet r) throws SQLException {
    return new Stored(
        r.getLong(1),
        new Reject(
            r.getLong(2),
            r.getObject(3, OffsetDateTime.class)
                .withOffsetSameInstant(ZoneOffset.UTC)
                .toLocalDateTime(),
            r.getString(4),
            r.getBytes(5),
            r.getBytes(6),
            r.getString(7)));
  }
}
