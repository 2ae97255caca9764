package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.sql.Connection;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.parallel.ResourceLock;

/** What can happen to tables at their source of which a change feed says nothing. */
@ResourceLock(SourceTest.TWO)
class SourceTablesTest extends SourceTest {
  /** The state of a table once it says this, or as it is after some seconds. */
  private String state(String table, String expected) throws Exception {
    String body = "";
    for (int i = 0; i < 150 && !body.contains(expected); i++) {
      body = object(table);
      Thread.sleep(100);
    }
    return body;
  }

  private String object(String table) throws IOException, InterruptedException {
    return service.call("GET", "/api/v1/objects/" + table, null).body();
  }

  /** Rows come, move and go in partitions; partitions come; all of it is a change of the table. */
  @Test
  void aPartitionedTableIsFollowed() throws Exception {
    hub.execute(
        "CREATE TABLE leg (id integer, service text, grams integer, PRIMARY KEY (id, service))"
            + " PARTITION BY LIST (service)",
        "CREATE TABLE leg_bulky PARTITION OF leg FOR VALUES IN ('bulky')",
        "CREATE TABLE leg_next PARTITION OF leg FOR VALUES IN ('next_day') PARTITION BY RANGE (id)",
        "CREATE TABLE leg_next_low PARTITION OF leg_next FOR VALUES FROM (0) TO (100)",
        "INSERT INTO leg VALUES (1, 'bulky', 10), (2, 'next_day', 20)");
    assertThat(error("CREATE TABLE leg_bulky FROM hub_ops (table 'public.leg_bulky')"))
        .contains("it is a partition of public.leg")
        .contains("write table 'public.leg'");
    service.sql("CREATE TABLE leg FROM hub_ops (table 'public.leg')");
    expect("SELECT * FROM leg ORDER BY id", "[[1, bulky, 10], [2, next_day, 20]]");
    hub.execute(
        "INSERT INTO leg VALUES (3, 'bulky', 30), (4, 'next_day', 40)",
        "UPDATE leg SET grams = 11 WHERE id = 1",
        "UPDATE leg SET service = 'bulky' WHERE id = 4",
        "DELETE FROM leg WHERE id = 2");
    expect("SELECT * FROM leg ORDER BY id", "[[1, bulky, 11], [3, bulky, 30], [4, bulky, 40]]");
    hub.execute(
        "CREATE TABLE leg_next_high PARTITION OF leg_next FOR VALUES FROM (100) TO (1000)",
        "INSERT INTO leg VALUES (101, 'next_day', 50)");
    expect("SELECT COUNT(*), SUM(grams) FROM leg", "[[4, 131]]");
    service.kill();
    hub.execute(
        "CREATE TABLE leg_same PARTITION OF leg FOR VALUES IN ('same_day')",
        "INSERT INTO leg VALUES (5, 'same_day', 60)");
    service.start();
    expect("SELECT COUNT(*), SUM(grams) FROM leg", "[[5, 191]]");
    hub.execute("TRUNCATE leg", "INSERT INTO leg VALUES (7, 'bulky', 70)");
    expect("SELECT * FROM leg", "[[7, bulky, 70]]");
    service.sql("DROP TABLE leg");
  }

  /** Whole partitions that come or go with their rows stop the table, with what to do. */
  @Test
  void aPartitionThatComesOrGoesWithItsRowsIsSaid() throws Exception {
    hub.execute(
        "CREATE TABLE day (id integer PRIMARY KEY, grams integer) PARTITION BY RANGE (id)",
        "CREATE TABLE day_1 PARTITION OF day FOR VALUES FROM (0) TO (100)",
        "CREATE TABLE day_2 PARTITION OF day FOR VALUES FROM (100) TO (200)",
        "INSERT INTO day VALUES (1, 1), (101, 2)");
    service.sql("CREATE TABLE day FROM hub_ops (table 'public.day')");
    expect("SELECT COUNT(*) FROM day", "[[2]]");
    service.kill();
    hub.execute("DROP TABLE day_2");
    service.start();
    assertThat(state("day", "dropped or detached"))
        .contains("a partition was dropped or detached at the source")
        .contains("REFRESH TABLE day loads it again");
    service.sql("REFRESH TABLE day");
    expect("SELECT * FROM day", "[[1, 1]]");
    hub.execute(
        "CREATE TABLE day_3 (id integer PRIMARY KEY, grams integer)",
        "INSERT INTO day_3 VALUES (201, 3)",
        "ALTER TABLE day ATTACH PARTITION day_3 FOR VALUES FROM (200) TO (300)");
    assertThat(state("day", "was attached")).contains("partition public.day_3 was attached");
    service.sql("REFRESH TABLE day");
    expect("SELECT * FROM day ORDER BY id", "[[1, 1], [201, 3]]");
    hub.execute("TRUNCATE day_3");
    assertThat(state("day", "was truncated")).contains("public.day_3 was truncated or rewritten");
    service.sql("REFRESH TABLE day");
    expect("SELECT * FROM day", "[[1, 1]]");
    service.sql("DROP TABLE day");
  }

  /**
   * A transaction larger than may wait in memory is one epoch all the same; beyond that it is
   * refused.
   */
  @Test
  void aLargeTransactionIsOneEpoch() throws Exception {
    hub.execute(
        "CREATE TABLE large (id integer PRIMARY KEY, pad text, n integer)",
        "CREATE TABLE large_also (id integer PRIMARY KEY)",
        "INSERT INTO large VALUES (1, '', 0)");
    service.sql(
        "CREATE TABLE large FROM hub_ops (table 'public.large');"
            + " CREATE TABLE large_also FROM hub_ops (table 'public.large_also');"
            + " CREATE MATERIALIZED VIEW large_sum AS SELECT COUNT(*) AS c, SUM(n) AS s FROM large");
    expect("SELECT c, s FROM large_sum", "[[1, 0]]");
    Path seen = Files.createTempFile("drip-large", ".csv");
    String query = "SELECT c, s FROM large_sum";
    LiveService.Run followed =
        service.endedWhen(
            () -> {
              if (Files.size(seen) == 0) {
                Files.writeString(seen, "begun");
                transaction();
              }
              return rows(query).equals("[[60000, 120000]]");
            },
            "follow",
            query);
    Files.delete(seen);
    assertThat(followed.out().lines().filter(l -> l.contains("60000"))).hasSize(1);
    assertThat(followed.out()).doesNotContain("30000");
    expect("SELECT COUNT(*) FROM large_also", "[[3]]");
    service.kill();
    service.start();
    expect(query, "[[60000, 120000]]");
    service.sql("DROP TABLE large CASCADE; DROP TABLE large_also");
  }

  private String rows(String query) throws IOException {
    return String.valueOf(service.sql(query));
  }

  /** Some 90 MB: rows are put in, changed, taken out; another table is touched before and after. */
  private void transaction() throws IOException {
    try (Connection c = hub.connect();
        Statement s = c.createStatement()) {
      c.setAutoCommit(false);
      s.execute("INSERT INTO large_also VALUES (1)");
      s.execute("INSERT INTO large SELECT g, repeat('x', 400), 1 FROM generate_series(2, 60000) g");
      s.execute("INSERT INTO large_also VALUES (2)");
      s.execute("UPDATE large SET n = 2, pad = repeat('y', 400)");
      s.execute(
          "INSERT INTO large SELECT g, repeat('z', 400), 7 FROM generate_series(60001, 90000) g");
      s.execute("DELETE FROM large WHERE id > 60000");
      s.execute("INSERT INTO large_also VALUES (3)");
      c.commit();
    } catch (SQLException e) {
      throw new IOException(e);
    }
  }

  /**
   * What the source keeps for us is shown, told when it is much, and let go of by ALTER and DROP.
   */
  @Test
  void whatTheSourceKeepsIsShownAndLetGoOf() throws Exception {
    hub.execute(
        "CREATE TABLE kept (id integer PRIMARY KEY, pad text)", "INSERT INTO kept VALUES (1)");
    service.sql(
        "CREATE CONNECTION hub_two TYPE postgres OPTIONS (url '"
            + hub.operations().jdbcUrl("hub")
            + "', user 'drip', password SECRET hub_ops_password, slot 'kept_one', keep_alarm_mb '8',"
            + " max_transaction_mb '20');"
            + " CREATE TABLE kept FROM hub_two (table 'public.kept')");
    expect("SELECT COUNT(*) FROM kept", "[[1]]");
    expect(
        "SELECT kept_bytes >= 0, reason FROM drip.inputs WHERE name = 'hub_two'", "[[true, null]]");
    // A transaction that is larger than allowed stops the feed; the source keeps on keeping.
    hub.execute("INSERT INTO kept SELECT g, repeat('x', 900) FROM generate_series(2, 60000) g");
    assertThat(state("kept", "larger than"))
        .contains("a transaction at the source is larger than 20 MB");
    assertThat(state("kept", "keep_alarm_mb"))
        .contains("MB of its log for slot \\\"kept_one\\\" (option keep_alarm_mb is 8)");
    service.sql("ALTER CONNECTION hub_two SET (slot 'kept_two', max_transaction_mb '200')");
    assertThat(slots()).doesNotContain("kept_one");
    service.sql("REFRESH TABLE kept");
    expect("SELECT COUNT(*) FROM kept", "[[60000]]");
    hub.execute("INSERT INTO kept VALUES (0)");
    expect("SELECT COUNT(*) FROM kept", "[[60001]]");
    assertThat(slots()).contains("kept_two");
    service.sql("DROP TABLE kept");
    assertThat(slots()).doesNotContain("kept_two");
    service.sql("DROP CONNECTION hub_two");
  }

  private String slots() throws SQLException {
    try (Connection c = hub.connect();
        Statement s = c.createStatement();
        ResultSet r =
            s.executeQuery(
                "SELECT coalesce(string_agg(slot_name, ','), '') FROM pg_replication_slots")) {
      r.next();
      return r.getString(1);
    }
  }

  /** A table of the same name is not the same table. */
  @Test
  void aTableMadeAnewIsSaid() throws Exception {
    hub.execute("CREATE TABLE anew (id integer PRIMARY KEY)", "INSERT INTO anew VALUES (1)");
    service.sql(
        "CREATE TABLE anew FROM hub_ops (table 'public.anew');"
            + " CREATE MATERIALIZED VIEW anew_count AS SELECT COUNT(*) AS n FROM anew");
    expect("SELECT n FROM anew_count", "[[1]]");
    hub.execute(
        "DROP TABLE anew",
        "CREATE TABLE anew (id integer PRIMARY KEY)",
        "INSERT INTO anew VALUES (2), (3)");
    assertThat(state("anew", "made anew"))
        .contains("public.anew was dropped, renamed or made anew at the source")
        .contains("REFRESH TABLE anew loads it again");
    service.sql("REFRESH TABLE anew");
    expect("SELECT n FROM anew_count", "[[2]]");
    hub.execute("INSERT INTO anew VALUES (4)");
    expect("SELECT n FROM anew_count", "[[3]]");
    // Made anew and published again before anybody looked: its number tells.
    hub.execute(
        "DROP TABLE anew",
        "CREATE TABLE anew (id integer PRIMARY KEY)",
        "ALTER PUBLICATION drip_hub_ops ADD TABLE anew",
        "INSERT INTO anew VALUES (5)");
    assertThat(state("anew", "made anew")).contains("made anew at the source");
    service.sql("DROP TABLE anew CASCADE");
  }
}
