package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.Random;
import org.junit.jupiter.api.Test;

/** What is changed together by a standard driver, and what is taken back. */
class WireTransactionsTest extends WireService {
  @Test
  void transactionsAreMadeWholeOrNotAtAll() throws Exception {
    try (Connection c = service.connect();
        Connection other = service.connect();
        Statement s = c.createStatement()) {
      s.execute("CREATE TABLE van (van VARCHAR PRIMARY KEY, loads INTEGER)");
      c.setAutoCommit(false);
      assertThat(s.executeUpdate("INSERT INTO van VALUES ('V1', 1), ('V2', 2)")).isEqualTo(2);
      assertThat(s.executeUpdate("UPDATE van SET loads = loads + 1")).isEqualTo(2);
      assertThat(ask(c, "SELECT SUM(loads) FROM van")).isEqualTo("5\n");
      assertThat(ask(other, "SELECT COUNT(*) FROM van")).isEqualTo("0\n");
      c.commit();
      assertThat(ask(other, "SELECT SUM(loads) FROM van")).isEqualTo("5\n");
      s.executeUpdate("DELETE FROM van");
      c.rollback();
      assertThat(ask(c, "SELECT COUNT(*) FROM van")).isEqualTo("2\n");
      assertThatThrownBy(() -> ask(c, "SELECT nothing FROM van"))
          .hasMessageContaining("no column \"nothing\"");
      assertThatThrownBy(() -> ask(c, "SELECT 1"))
          .satisfies(e -> assertThat(((SQLException) e).getSQLState()).isEqualTo("25P02"));
      c.rollback();
      java.sql.Savepoint before = c.setSavepoint();
      assertThatThrownBy(() -> ask(c, "SELECT nothing FROM van")).isInstanceOf(SQLException.class);
      c.rollback(before);
      assertThat(ask(c, "SELECT COUNT(*) FROM van")).isEqualTo("2\n");
      c.rollback();

      // one epoch for all that a transaction reads
      c.setTransactionIsolation(Connection.TRANSACTION_REPEATABLE_READ);
      assertThat(ask(c, "SELECT COUNT(*) FROM van")).isEqualTo("2\n");
      service.sql("INSERT INTO van VALUES ('V3', 3)");
      assertThat(ask(c, "SELECT COUNT(*) FROM van")).isEqualTo("2\n");
      assertThatThrownBy(() -> s.executeUpdate("DELETE FROM van"))
          .hasMessageContaining("only reads");
      c.rollback();
      assertThat(ask(c, "SELECT COUNT(*) FROM van")).isEqualTo("3\n");
      c.commit();
      c.setAutoCommit(true);
      s.execute("DROP TABLE van");
    }
  }

  /** The statements of one message are one change, if they change tables only. */
  @Test
  void oneMessageIsOneChange() throws Exception {
    try (Connection c = service.connect("preferQueryMode=simple");
        Connection other = service.connect();
        Statement s = c.createStatement()) {
      s.execute(
          "CREATE TABLE tub (n INTEGER PRIMARY KEY); CREATE TABLE lid (n INTEGER PRIMARY KEY)");
      assertThatThrownBy(
              () -> s.execute("INSERT INTO tub VALUES (1); INSERT INTO tub VALUES (2), (1)"))
          .hasMessageContaining("already has a row");
      assertThat(ask(c, "SELECT COUNT(*) FROM tub")).isEqualTo("0\n");
      s.execute("INSERT INTO tub VALUES (1); UPDATE tub SET n = n + 1; SELECT n FROM tub");
      assertThat(ask(other, "SELECT n FROM tub")).isEqualTo("2\n");
      // What was made before a definition fails stays made.
      assertThatThrownBy(
              () -> s.execute("INSERT INTO tub VALUES (3); DROP TABLE lid; DROP TABLE lid"))
          .isInstanceOf(SQLException.class);
      assertThat(ask(other, "SELECT COUNT(*) FROM tub")).isEqualTo("2\n");
      // In a transaction of its own nothing is made before its end.
      s.execute("BEGIN");
      s.execute("DELETE FROM tub; INSERT INTO tub VALUES (9)");
      assertThat(ask(other, "SELECT COUNT(*) FROM tub")).isEqualTo("2\n");
      s.execute("ROLLBACK");
      assertThat(ask(c, "SELECT COUNT(*) FROM tub")).isEqualTo("2\n");
      s.execute("DROP TABLE tub");
    }
  }

  /** Savepoints, errors and ends in any order, against PostgreSQL. */
  @Test
  void aPartOfATransactionIsTakenBackAsPostgresDoes() throws Exception {
    for (String mode : new String[] {"simple", "extended"}) {
      try (Connection ours = service.connect("preferQueryMode=" + mode);
          Connection theirs = service.records()) {
        both(ours, theirs, "CREATE %s TABLE rack (k INTEGER PRIMARY KEY, v INTEGER)");
        Random random = new Random(7);
        StringBuilder past = new StringBuilder();
        for (int i = 0; i < 1500; i++) {
          String sql = step(random);
          String told = outcome(ours, sql);
          past.append(sql).append(" -- ").append(told).append('\n');
          assertThat(told).as(past.toString()).isEqualTo(outcome(theirs, sql));
          if (past.length() > 4000) {
            past.delete(0, 2000);
          }
        }
        outcome(ours, "ROLLBACK");
        assertThat(past).contains("23505").contains("25P02").contains("3B001");
        outcome(ours, "DROP TABLE rack");
      }
    }
  }

  private static void both(Connection ours, Connection theirs, String definition)
      throws SQLException {
    try (Statement s = ours.createStatement();
        Statement t = theirs.createStatement()) {
      s.execute(definition.formatted(""));
      t.execute(definition.formatted("TEMPORARY"));
    }
  }

  private static String step(Random random) {
    int k = random.nextInt(12);
    String savepoint = String.valueOf((char) ('a' + random.nextInt(3)));
    return switch (random.nextInt(22)) {
      case 0, 1 -> "BEGIN";
      case 2 -> "COMMIT";
      case 3 -> "ROLLBACK";
      case 4, 5, 6 -> "SAVEPOINT " + savepoint;
      case 7, 8, 9 -> "ROLLBACK TO SAVEPOINT " + savepoint;
      case 10 -> "RELEASE SAVEPOINT " + savepoint;
      case 11, 12 -> "INSERT INTO rack VALUES (" + k + ", 1)";
      case 13, 14 -> "INSERT INTO rack VALUES (" + k + ", 1), (" + random.nextInt(12) + ", 2)";
      case 15, 16 -> "UPDATE rack SET v = v + 1 WHERE k % 3 = " + k % 3;
      case 17 -> "UPDATE rack SET k = " + random.nextInt(12) + " WHERE k = " + k;
      case 18 -> "DELETE FROM rack WHERE k = " + k;
      default -> "SELECT k, v FROM rack ORDER BY k";
    };
  }

  private static String outcome(Connection connection, String sql) {
    try (Statement statement = connection.createStatement()) {
      if (!statement.execute(sql)) {
        return "" + statement.getUpdateCount();
      }
      try (ResultSet rows = statement.getResultSet()) {
        return rows(rows).replace('\n', ' ');
      }
    } catch (SQLException e) {
      return e.getSQLState();
    }
  }

  /** What is sent before one Sync is made or forgotten as a whole, as PostgreSQL does. */
  @Test
  void aBatchIsOneChange() throws Exception {
    try (Connection ours = service.connect();
        Connection theirs = service.records()) {
      both(ours, theirs, "CREATE %s TABLE bin (k INTEGER PRIMARY KEY, v INTEGER)");
      Random random = new Random(3);
      int failed = 0;
      for (int round = 0; round < 40; round++) {
        int[] keys = random.ints(1 + random.nextInt(6), 0, 60).toArray();
        String told = batch(ours, keys);
        assertThat(told).isEqualTo(batch(theirs, keys));
        failed += told.startsWith("23505") ? 1 : 0;
        String all = "SELECT k, v FROM bin ORDER BY k";
        assertThat(ask(ours, all)).isEqualTo(ask(theirs, all));
      }
      assertThat(failed).isBetween(5, 35);
      ours.setAutoCommit(false); // in a transaction it is a part of it
      batch(ours, new int[] {100, 101});
      ours.rollback();
      ours.setAutoCommit(true);
      assertThat(ask(ours, "SELECT COUNT(*) FROM bin WHERE k >= 100")).isEqualTo("0\n");
      ours.createStatement().execute("DROP TABLE bin");
    }
  }

  private static String batch(Connection connection, int[] keys) throws SQLException {
    try (PreparedStatement insert = connection.prepareStatement("INSERT INTO bin VALUES (?, 0)")) {
      for (int key : keys) {
        insert.setInt(1, key);
        insert.addBatch();
      }
      return java.util.Arrays.toString(insert.executeBatch());
    } catch (SQLException e) {
      return e.getSQLState();
    }
  }

  /** A connection that is to read only changes nothing, in a transaction or not. */
  @Test
  void aConnectionThatOnlyReadsChangesNothing() throws Exception {
    service.sql("CREATE TABLE crate (n INTEGER PRIMARY KEY); INSERT INTO crate VALUES (1)");
    try (Connection c = service.connect("options=-c default_transaction_read_only=on");
        Statement s = c.createStatement()) {
      for (String change :
          new String[] {
            "INSERT INTO crate VALUES (99)",
            "DELETE FROM crate",
            "INSERT INTO crate VALUES (98); SELECT 1",
            "CREATE VIEW halls AS SELECT hall FROM gate",
            "COPY scan FROM STDIN",
          }) {
        assertThat(outcome(c, change)).as(change).isEqualTo("25006");
        outcome(c, "BEGIN");
        assertThat(outcome(c, change)).as(change).isEqualTo("25006");
        outcome(c, "ROLLBACK");
      }
      assertThat(ask(c, "SELECT COUNT(*) FROM crate")).isEqualTo("1\n");
      s.execute("SET SESSION CHARACTERISTICS AS TRANSACTION READ WRITE");
      assertThat(outcome(c, "INSERT INTO crate VALUES (99)")).isEqualTo("1");
      s.execute("DELETE FROM crate WHERE n = 99");
      assertThat(outcome(c, "COPY (DELETE FROM crate) TO STDOUT")).isEqualTo("42601");
      assertThat(ask(c, "SELECT COUNT(*) FROM crate")).isEqualTo("1\n");
    }
  }
}
