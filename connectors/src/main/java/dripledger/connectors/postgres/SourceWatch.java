package dripledger.connectors.postgres;

import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.util.List;
import java.util.function.BiConsumer;
import org.postgresql.replication.LogSequenceNumber;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Looks now and then at what the changes themselves do not say: how far behind the source we are,
 * how much it has to keep for us, and tables that are others than they were. Used by the feed's
 * thread; figures may be read from any.
 */
final class SourceWatch {
  private static final Logger LOG = LoggerFactory.getLogger(SourceWatch.class);

  private final PostgresAccess access;
  private volatile long behind = -1;
  private volatile long kept = -1;
  private volatile long left = -1;
  private boolean alarmed;

  SourceWatch(PostgresAccess access) {
    this.access = access;
  }

  /** How much of the source's log is still to be read, in bytes; −1 if not known. */
  long behind() {
    return behind;
  }

  /** How much of its log the source keeps for us, in bytes; −1 if not known. */
  long kept() {
    return kept;
  }

  /** What the user should know of what the source keeps, or null. */
  String alarm() {
    if (kept <= access.keepAlarmBytes()) {
      return null;
    }
    return "the source keeps "
        + (kept >> 20)
        + " MB of its log for slot \""
        + access.slot()
        + "\" (option keep_alarm_mb is "
        + (access.keepAlarmBytes() >> 20)
        + ")"
        + (left < 0 ? "" : " and gives it up after " + (left >> 20) + " MB more")
        + "; it can let go of it once we have read on, or all tables of \""
        + access.name()
        + "\" are dropped";
  }

  /**
   * Looks at the source.
   *
   * @param seen the place up to which its log was read
   * @param tables that are followed
   * @param stop told of a table that cannot be followed any more, and why
   */
  void look(long seen, List<FollowedTable> tables, BiConsumer<FollowedTable, String> stop) {
    try (Connection c = access.connect()) {
      lookAtLog(c, seen);
      for (FollowedTable t : tables) {
        lookAt(c, t, stop);
      }
    } catch (SQLException e) {
      LOG.debug("{} cannot be looked at", access.name(), e);
    }
    String alarm = alarm();
    if (alarm != null && !alarmed) {
      LOG.warn("{}: {}", access.name(), alarm);
    }
    alarmed = alarm != null;
  }

  private void lookAtLog(Connection c, long seen) throws SQLException {
    try (PreparedStatement s =
        c.prepareStatement(
            "SELECT pg_wal_lsn_diff(pg_current_wal_lsn(), ?::pg_lsn)::bigint,"
                + " (SELECT pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn)::bigint"
                + " FROM pg_replication_slots WHERE slot_name = ?),"
                + " (SELECT safe_wal_size FROM pg_replication_slots WHERE slot_name = ?)")) {
      s.setString(1, LogSequenceNumber.valueOf(seen).asString());
      s.setString(2, access.slot());
      s.setString(3, access.slot());
      try (ResultSet r = s.executeQuery()) {
        r.next();
        behind = Math.max(0, r.getLong(1));
        kept = Math.max(0, r.getLong(2));
        left = r.getObject(3) == null ? -1 : Math.max(0, r.getLong(3));
      }
    }
  }

  private void lookAt(Connection c, FollowedTable t, BiConsumer<FollowedTable, String> stop)
      throws SQLException {
    String name = t.schemaName + "." + t.tableName;
    String why =
        Slots.publishes(c, access.slot(), t.schemaName, t.tableName)
            ? t.partitions.unsaid(c, t.schemaName, t.tableName)
            : name + " was dropped, renamed or made anew at the source";
    if (why == null) {
      t.partitions = Partitions.of(c, t.schemaName, t.tableName);
    } else {
      stop.accept(t, why + "; REFRESH TABLE " + t.table.name() + " loads it again");
    }
  }
}
