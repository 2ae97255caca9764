package dripledger.server.records;

import dripledger.engine.upkeep.UpkeepHistory;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.time.Instant;
import java.time.LocalDateTime;
import java.time.OffsetDateTime;
import java.time.ZoneOffset;
import java.util.List;
import java.util.function.Consumer;
import javax.sql.DataSource;

/** The history of upkeep in PostgreSQL. Thread-safe. */
public final class PostgresUpkeep implements UpkeepHistory {
  private final DataSource dataSource;

  public PostgresUpkeep(DataSource dataSource) {
    this.dataSource = dataSource;
  }

  @Override
  public void add(List<Run> runs, List<Minute> minutes) {
    try (Connection c = dataSource.getConnection()) {
      boolean auto = c.getAutoCommit();
      c.setAutoCommit(false);
      try {
        addRuns(c, runs);
        addMinutes(c, minutes);
        c.commit();
      } catch (SQLException e) {
        c.rollback();
        throw e;
      } finally {
        c.setAutoCommit(auto);
      }
    } catch (SQLException e) {
      throw new RecordsException("the history of upkeep cannot be written", e);
    }
  }

  private static void addRuns(Connection c, List<Run> runs) throws SQLException {
    try (PreparedStatement s =
        c.prepareStatement(
            "INSERT INTO upkeep_run (view_id, began, cause, epoch, read, added, removed, unchanged,"
                + " late, rejected, micros, failure) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")) {
      for (Run r : runs) {
        s.setLong(1, r.viewId());
        s.setObject(2, r.began().atOffset(ZoneOffset.UTC));
        s.setString(3, r.cause());
        s.setLong(4, r.epoch());
        s.setLong(5, r.read());
        s.setLong(6, r.added());
        s.setLong(7, r.removed());
        s.setLong(8, r.unchanged());
        s.setLong(9, r.late());
        s.setLong(10, r.rejected());
        s.setLong(11, r.micros());
        s.setString(12, r.failure());
        s.addBatch();
      }
      s.executeBatch();
    }
  }

  /** A minute that was begun by a process before this one is one with ours. */
  private static void addMinutes(Connection c, List<Minute> minutes) throws SQLException {
    try (PreparedStatement s =
        c.prepareStatement(
            "INSERT INTO freshness AS f (view_id, minute, shown, in_time, arrival_micros,"
                + " worst_arrival_micros, events, event_micros, worst_event_micros)"
                + " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (minute, view_id) DO UPDATE SET"
                + " shown = f.shown + excluded.shown, in_time = f.in_time + excluded.in_time,"
                + " arrival_micros = f.arrival_micros + excluded.arrival_micros,"
                + " worst_arrival_micros ="
                + " greatest(f.worst_arrival_micros, excluded.worst_arrival_micros),"
                + " events = f.events + excluded.events,"
                + " event_micros = f.event_micros + excluded.event_micros,"
                + " worst_event_micros ="
                + " greatest(f.worst_event_micros, excluded.worst_event_micros)")) {
      for (Minute m : minutes) {
        s.setLong(1, m.viewId());
        s.setObject(2, m.at().atOffset(ZoneOffset.UTC));
        s.setLong(3, m.shown());
        s.setLong(4, m.inTime());
        s.setLong(5, m.arrivalMicros());
        s.setLong(6, m.worstArrivalMicros());
        s.setLong(7, m.events());
        s.setLong(8, m.eventMicros());
        s.setLong(9, m.worstEventMicros());
        s.addBatch();
      }
      s.executeBatch();
    }
  }

  @Override
  public void runs(Consumer<Run> sink) {
    String sql =
        "SELECT view_id, began, cause, epoch, read, added, removed, unchanged, late, rejected,"
            + " micros, failure FROM upkeep_run ORDER BY id";
    read(
        sql,
        r ->
            sink.accept(
                new Run(
                    r.getLong(1),
                    time(r, 2),
                    r.getString(3),
                    r.getLong(4),
                    r.getLong(5),
                    r.getLong(6),
                    r.getLong(7),
                    r.getLong(8),
                    r.getLong(9),
                    r.getLong(10),
                    r.getLong(11),
                    r.getString(12))));
  }

  @Override
  public void minutes(Consumer<Minute> sink) {
    String sql =
        "SELECT view_id, minute, shown, in_time, arrival_micros, worst_arrival_micros, events,"
            + " event_micros, worst_event_micros FROM freshness ORDER BY minute, view_id";
    read(
        sql,
        r ->
            sink.accept(
                new Minute(
                    r.getLong(1),
                    time(r, 2),
                    r.getLong(3),
                    r.getLong(4),
                    r.getLong(5),
                    r.getLong(6),
                    r.getLong(7),
                    r.getLong(8),
                    r.getLong(9))));
  }

  @FunctionalInterface
  private interface RowSink {
    void row(ResultSet r) throws SQLException;
  }

  private void read(String sql, RowSink sink) {
    try (Connection c = dataSource.getConnection();
        PreparedStatement s = c.prepareStatement(sql);
        ResultSet r = s.executeQuery()) {
      while (r.next()) {
        sink.row(r);
      }
    } catch (SQLException e) {
      throw new RecordsException("the history of upkeep cannot be read", e);
    }
  }

  private static LocalDateTime time(ResultSet r, int column) throws SQLException {
    return r.getObject(column, OffsetDateTime.class)
        .withOffsetSameInstant(ZoneOffset.UTC)
        .toLocalDateTime();
  }

  /** Lets go of what is older. */
  public void forget(Instant before) {
    OffsetDateTime time = before.atOffset(ZoneOffset.UTC);
    for (String sql :
        List.of(
            "DELETE FROM upkeep_run WHERE began < ?", "DELETE FROM freshness WHERE minute < ?")) {
      try (Connection c = dataSource.getConnection();
          PreparedStatement s = c.prepareStatement(sql)) {
        s.setObject(1, time);
        s.executeUpdate();
      } catch (SQLException e) {
        throw new RecordsException("the history of upkeep cannot be shortened", e);
      }
    }
  }
}
