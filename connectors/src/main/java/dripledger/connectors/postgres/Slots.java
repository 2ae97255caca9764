package dripledger.connectors.postgres;

import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import org.postgresql.PGConnection;
import org.postgresql.replication.LogSequenceNumber;

/** Replication slots at the source, and the publications of the same names. Stateless. */
final class Slots {
  private Slots() {}

  /**
   * A slot.
   *
   * @param confirmed changes before this place are gone for us
   * @param lost whether the database has removed what it should have kept
   */
  record Slot(long confirmed, boolean active, boolean lost) {}

  /** The slot of this name, or null. */
  static Slot find(Connection c, String name) throws SQLException {
    try (PreparedStatement s =
        c.prepareStatement(
            "SELECT confirmed_flush_lsn::text, active, wal_status = 'lost'"
                + " FROM pg_replication_slots WHERE slot_name = ?")) {
      s.setString(1, name);
      try (ResultSet r = s.executeQuery()) {
        return r.next()
            ? new Slot(
                r.getString(1) == null ? 0 : LogSequenceNumber.valueOf(r.getString(1)).asLong(),
                r.getBoolean(2),
                r.getBoolean(3))
            : null;
      }
    }
  }

  /**
   * Sees whether a slot still has what comes after a place.
   *
   * @throws ChangesLost if not
   */
  static void refuseLost(Connection c, String name, long position) throws SQLException {
    Slot slot = find(c, name);
    if (slot == null || slot.lost()) {
      throw new ChangesLost(
          "slot \""
              + name
              + "\" is "
              + (slot == null
                  ? "not there any more"
                  : "lost: the database has removed what it kept")
              + "; REFRESH TABLE loads a table again and begins anew");
    }
    if (slot.confirmed() > position) {
      throw new ChangesLost(
          "slot \""
              + name
              + "\" has been read on by somebody else, changes are lost; REFRESH TABLE loads a"
              + " table again");
    }
  }

  /**
   * Makes sure that there is a publication, and that it tells changes of partitions as those of
   * their table: under their own names nobody would know them.
   */
  static void publish(Connection c, String name) throws SQLException {
    String root =
        PostgresAccess.value(c, "SELECT pubviaroot FROM pg_publication WHERE pubname = ?", name);
    if (root == null) {
      PostgresAccess.execute(
          c, "CREATE PUBLICATION %I WITH (publish_via_partition_root = true)", name);
    } else if (!root.equals("t")) {
      PostgresAccess.execute(
          c, "ALTER PUBLICATION %I SET (publish_via_partition_root = true)", name);
    }
  }

  /** Whether a publication tells of a table. */
  static boolean publishes(Connection c, String name, String schema, String table)
      throws SQLException {
    return PostgresAccess.value(
            c,
            "SELECT 1 FROM pg_publication_tables"
                + " WHERE pubname = ? AND schemaname = ? AND tablename = ?",
            name,
            schema,
            table)
        != null;
  }

  /** Makes a slot; answers where its changes begin. */
  static long create(PostgresAccess access) throws SQLException {
    try (Connection replication = access.replication()) {
      return replication
          .unwrap(PGConnection.class)
          .getReplicationAPI()
          .createReplicationSlot()
          .logical()
          .withSlotName(access.slot())
          .withOutputPlugin("pgoutput")
          .make()
          .getConsistentPoint()
          .asLong();
    }
  }

  /** Drops a slot, and ends who reads from it, if it is there. */
  static void drop(Connection c, String name) throws SQLException {
    PostgresAccess.value(
        c,
        "SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots"
            + " WHERE slot_name = ? AND active_pid IS NOT NULL",
        name);
    for (int i = 0; i < 50; i++) {
      Slot slot = find(c, name);
      if (slot == null) {
        return;
      }
      if (!slot.active()) {
        PostgresAccess.value(c, "SELECT pg_drop_replication_slot(?)::text", name);
        return;
      }
      try {
        Thread.sleep(100);
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        return;
      }
    }
  }
}
