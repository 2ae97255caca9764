package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.Random;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.parallel.ResourceLock;

/** Views of one service are tables of another. */
@ResourceLock(SourceTest.TWO)
class OtherServiceTest extends SourceTest {
  private static void expectThere(LiveService there, String query, String rows) throws Exception {
    assertThat(soon(there, query, rows, 20)).as(query).isEqualTo(rows);
  }

  @Test
  void aViewIsFollowedWithoutAHoleThroughKillsOfBoth() throws Exception {
    service.sql(
        "CREATE TABLE other_weighed (id BIGINT PRIMARY KEY, gate VARCHAR, grams BIGINT, at TIMESTAMP,"
            + " n DECIMAL(10,3), day DATE, tm TIME, d DOUBLE, ok BOOLEAN, a INTEGER ARRAY);"
            + " INSERT INTO other_weighed VALUES (1, 'G\"1', 100, TIMESTAMP '2026-03-02 06:14:09.123456',"
            + " -0.125, DATE '2026-03-02', TIME '06:14:09', 0.5, true, ARRAY[1, NULL]),"
            + " (2, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL);"
            + " CREATE MATERIALIZED VIEW other_load AS SELECT gate, COUNT(*) AS n, SUM(grams) AS grams"
            + " FROM other_weighed WHERE gate IS NOT NULL GROUP BY gate;"
            + " CREATE MATERIALIZED VIEW other_rows AS SELECT grams FROM other_weighed");
    try (LiveService there = new LiveService("--drip.checkpoint-millis=500")) {
      there.sql("CREATE CONNECTION hub_one TYPE drip OPTIONS (url '" + service.url() + "')");
      assertThat(there.drip("", "look", "hub_one").out())
          .contains("other_load")
          .contains("it has no key, so its rows cannot be told apart");
      assertThat(there.drip("", "peek", "hub_one", "other_weighed").out())
          .contains("\"grams\":100");
      there.sql(
          "CREATE TABLE weighed FROM hub_one (view 'other_weighed');"
              + " CREATE TABLE load FROM hub_one (view 'other_load');"
              + " CREATE MATERIALIZED VIEW sums AS SELECT COUNT(*) AS c, SUM(n) AS n, SUM(grams) AS g"
              + " FROM load");
      assertThat(String.valueOf(there.sql("DESCRIBE load")))
          .contains("[gate, VARCHAR, false, key]", "[grams, DECIMAL");
      String all = "SELECT * FROM %s ORDER BY id";
      expectThere(
          there,
          all.formatted("weighed"),
          String.valueOf(service.sql(all.formatted("other_weighed"))));
      String load = "SELECT * FROM %s ORDER BY gate";
      Random random = new Random(11);
      for (int round = 0; round < 2; round++) {
        for (int i = 0; i < 15; i++) {
          int id = random.nextInt(20);
          service.sql(
              "DELETE FROM other_weighed WHERE id = %d; INSERT INTO other_weighed (id, gate, grams)"
                      .formatted(id)
                  + " VALUES (%d, 'G%d', %d)"
                      .formatted(id, random.nextInt(5), random.nextInt(900)));
        }
        LiveService killed = round % 2 == 0 ? there : service;
        killed.kill();
        killed.start();
        expectThere(
            there,
            load.formatted("load"),
            String.valueOf(service.sql(load.formatted("other_load"))));
        expectThere(
            there,
            "SELECT c, n, g FROM sums",
            String.valueOf(service.sql("SELECT COUNT(*), SUM(n), SUM(grams) FROM other_load")));
      }
      // Rows that come anew and are as they were change nothing.
      String epoch = changedEpoch(there);
      service.kill();
      service.start();
      service.sql("INSERT INTO other_weighed (id) VALUES (77)");
      expectThere(there, "SELECT COUNT(*) FROM weighed WHERE id = 77", "[[1]]");
      assertThat(changedEpoch(there)).isEqualTo(epoch);
      // What is followed goes away, and comes back.
      service.sql("DROP MATERIALIZED VIEW other_load");
      expectThere(
          there,
          "SELECT state, reason LIKE '%no table or materialized view \"other_load\"%' FROM drip.inputs"
              + " WHERE name = 'load'",
          "[[waiting, true]]");
      service.sql(
          "CREATE MATERIALIZED VIEW other_load AS SELECT gate, COUNT(*) AS n, SUM(2 * grams) AS grams"
              + " FROM other_weighed WHERE gate IS NOT NULL GROUP BY gate");
      expectThere(
          there, load.formatted("load"), String.valueOf(service.sql(load.formatted("other_load"))));
      there.sql("DROP MATERIALIZED VIEW sums; DROP TABLE load; DROP TABLE weighed");
    }
    service.sql("DROP TABLE other_weighed CASCADE");
  }

  private static String changedEpoch(LiveService there) throws Exception {
    return String.valueOf(
        Json.read(there.call("GET", "/api/v1/objects/sums", null).body()).get("changed_epoch"));
  }

  @Test
  void whatCannotBeFollowedIsSaid() throws Exception {
    service.sql(
        "CREATE CONNECTION hub_self TYPE drip OPTIONS (url '"
            + service.url()
            + "'); CREATE TABLE other_self (id BIGINT PRIMARY KEY, v VARCHAR)");
    assertThat(error("CREATE CONNECTION x TYPE drip OPTIONS (url 'ftp://127.0.0.1')"))
        .contains("option \"url\" must be http://HOST:PORT");
    assertThat(error("CREATE CONNECTION x TYPE drip OPTIONS (url 'http://127.0.0.1:9')"))
        .contains("the other service cannot be reached");
    assertThat(error("CREATE TABLE x FROM hub_self (view 'other_sel')"))
        .contains("there is no table or materialized view \"other_sel\" there");
    assertThat(error("CREATE STREAM x FROM hub_self (view 'other_self')"))
        .contains("write CREATE TABLE");
    assertThat(error("CREATE TABLE x (v VARCHAR PRIMARY KEY) FROM hub_self (view 'other_self')"))
        .contains("the key of \"other_self\" is (id), not (v)");
    assertThat(
            error(
                "CREATE TABLE x (id BIGINT PRIMARY KEY, w VARCHAR) FROM hub_self (view 'other_self')"))
        .contains("\"other_self\" has no column \"w\"");
    assertThat(error("CREATE SINK x TO hub_self (view 'y') AS SELECT id FROM other_self"))
        .contains("it follows us instead");
    service.sql("DROP CONNECTION hub_self; DROP TABLE other_self");
  }
}
