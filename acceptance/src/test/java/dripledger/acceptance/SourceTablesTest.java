package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.IOException;
import org.junit.jupiter.api.Test;

/** What can happen to tables at their source of which a change feed says nothing. */
class SourceTablesTest extends SourceTest {
  /** The state of a table once it says this, or as it is after some seconds. */
  private static String state(String table, String expected) throws Exception {
    String body = "";
    for (int i = 0; i < 150 && !body.contains(expected); i++) {
      body = object(table);
      Thread.sleep(100);
    }
    return body;
  }

  private static String object(String table) throws IOException, InterruptedException {
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
