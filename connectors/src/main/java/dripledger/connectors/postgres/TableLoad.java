package dripledger.connectors.postgres;

import dripledger.connectors.format.FormatException;
import dripledger.connectors.format.RowBuilder;
import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.List;
import java.util.UUID;
import java.util.function.Consumer;
import java.util.function.LongConsumer;
import org.postgresql.PGConnection;
import org.postgresql.replication.ReplicationSlotInfo;

/**
 * Reads all rows of a table as of one place in the source's log: a temporary slot says the place
 * and exports the snapshot that goes with it, and a second connection reads in that snapshot,
 * through a cursor. Stateless.
 */
final class TableLoad {
  private static final int FETCH_ROWS = 5000;
  private static final int PAGE_ROWS = 5000;

  private TableLoad() {}

  /**
   * Loads.
   *
   * @param place is told, before the rows, before which place changes are in them
   */
  static void run(
      PostgresAccess access, FollowedTable table, LongConsumer place, Consumer<Page> sink)
      throws SQLException {
    try (Connection c = access.connect()) {
      publish(c, access.slot(), table);
    }
    try (Connection replication = access.replication()) {
      ReplicationSlotInfo slot =
          replication
              .unwrap(PGConnection.class)
              .getReplicationAPI()
              .createReplicationSlot()
              .logical()
              .withSlotName("drip_load_" + UUID.randomUUID().toString().replace('-', '_'))
              .withTemporaryOption()
              .withOutputPlugin("pgoutput")
              .make();
      place.accept(slot.getConsistentPoint().asLong());
      try (Connection c = access.connect()) {
        c.setAutoCommit(false);
        c.setTransactionIsolation(Connection.TRANSACTION_REPEATABLE_READ);
        try (Statement s = c.createStatement()) {
          // A snapshot's name is the server's own; it takes no parameter here.
          s.execute(snapshotStatement(slot.getSnapshotName()));
        }
        table.partitions = Partitions.of(c, table.schemaName, table.tableName);
        read(c, table, sink);
        c.rollback();
      }
    }
  }

  private static String snapshotStatement(String name) {
    if (!name.matches("[0-9A-F-]+")) {
      throw new IllegalStateException("a snapshot name of an unknown form: " + name);
    }
    return "SET TRANSACTION SNAPSHOT '" + name + "'";
  }

  private static void publish(Connection c, String publication, FollowedTable t)
      throws SQLException {
    Slots.publish(c, publication);
    if (!Slots.publishes(c, publication, t.schemaName, t.tableName)) {
      PostgresAccess.execute(
          c, "ALTER PUBLICATION %I ADD TABLE %I.%I", publication, t.schemaName, t.tableName);
    }
  }

  private static void read(Connection c, FollowedTable t, Consumer<Page> sink) throws SQLException {
    Schema schema = t.table.schema();
    List<Integer> columns = new ArrayList<>();
    StringBuilder names = new StringBuilder();
    List<String> values = new ArrayList<>();
    for (int i = 0; i < schema.size(); i++) {
      if (!t.table.origins().meta().containsKey(i)) {
        columns.add(i);
        names.append(names.length() == 0 ? "%I" : ", %I");
        values.add(schema.column(i).name());
      }
    }
    values.add(t.schemaName);
    values.add(t.tableName);
    String query;
    try (PreparedStatement s = c.prepareStatement("SELECT format(?, VARIADIC ?)")) {
      s.setString(1, "SELECT " + names + " FROM %I.%I");
      s.setArray(2, c.createArrayOf("text", values.toArray()));
      try (ResultSet r = s.executeQuery()) {
        r.next();
        query = r.getString(1);
      }
    }
    try (Statement s = c.createStatement()) {
      s.setFetchSize(FETCH_ROWS);
      try (ResultSet r = s.executeQuery(query)) {
        rows(r, t, columns, sink);
      }
    }
  }

  private static void rows(ResultSet r, FollowedTable t, List<Integer> columns, Consumer<Page> sink)
      throws SQLException {
    Schema schema = t.table.schema();
    Page page = new Page(new RowLayout(schema));
    RowBuilder row = new RowBuilder(schema);
    while (r.next()) {
      row.clear();
      int before = page.size();
      try {
        for (int i = 0; i < columns.size(); i++) {
          String text = r.getString(i + 1);
          if (text != null) {
            Column column = schema.column(columns.get(i));
            PostgresTypes.set(row, columns.get(i), column, text);
          }
        }
        t.table
            .origins()
            .meta()
            .forEach((column, meta) -> row.setLong(column, System.currentTimeMillis() * 1000));
        row.write(page.begin(), false);
        page.commit(1);
      } catch (FormatException | RowWriter.RowTooLargeException e) {
        page.truncate(before);
        StringBuilder raw = new StringBuilder();
        for (int i = 0; i < columns.size(); i++) {
          raw.append(i == 0 ? "" : "\t").append(r.getString(i + 1));
        }
        synchronized (t) {
          t.reject(e.getMessage(), raw.toString(), "its load");
        }
      }
      if (page.size() >= PAGE_ROWS) {
        sink.accept(page);
        page.clear();
      }
    }
    if (!page.isEmpty()) {
      sink.accept(page);
    }
  }
}
