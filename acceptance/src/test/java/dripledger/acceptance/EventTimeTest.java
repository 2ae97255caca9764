package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import org.junit.jupiter.api.Test;

/** Windows of event time over a topic of several partitions, through the client and with kills. */
class EventTimeTest extends SourceTest {
  private static void scan(int partition, String gate, String clock) {
    send("timed", partition, "\"gate\":\"" + gate + "\"", clock);
  }

  private static void send(String topic, int partition, String fields, String clock) {
    hub.sendAt(
        topic,
        partition,
        System.currentTimeMillis(), // what is older than a week the broker forgets
        "{%s,\"at\":\"2026-03-02T%sZ\"}".formatted(fields, clock));
  }

  @Test
  void windowsSettleByTheSlowestPartitionAndStaySettledWhenKilled() throws Exception {
    hub.topic("timed", 2);
    service.sql(
        "CREATE STREAM timed (gate VARCHAR, at TIMESTAMP NOT NULL,"
            + " EVENT TIME at LATENESS INTERVAL '10' SECOND) FROM hub_log (topic 'timed') FORMAT json");
    String counts =
        " AS SELECT window_start, window_end, gate, COUNT(*) AS n FROM TABLE(TUMBLE(TABLE timed,"
            + " DESCRIPTOR(at), INTERVAL '1' MINUTE)) GROUP BY window_start, window_end, gate";
    service.sql(
        "CREATE MATERIALIZED VIEW timed_now"
            + counts
            + "; CREATE MATERIALIZED VIEW timed_final OPTIONS (rows 'settled')"
            + counts);
    scan(0, "G1", "06:00:05");
    scan(0, "G1", "06:00:50");
    scan(0, "G1", "06:02:30"); // far ahead of the other
    scan(1, "G2", "06:00:10");
    String now = "SELECT gate, n FROM timed_now ORDER BY window_end, gate";
    String settled = "SELECT gate, n FROM timed_final ORDER BY window_end, gate";
    expect(now, "[[G1, 2], [G2, 1], [G1, 1]]");
    expect("SELECT COUNT(*) FROM timed_final", "[[0]]");

    service.kill();
    service.start();
    scan(1, "G2", "06:00:20"); // behind everything, and in time where it comes from
    scan(0, "G1", "06:00:59"); // late where it comes from
    expect(now, "[[G1, 2], [G2, 2], [G1, 1]]");
    scan(1, "G2", "06:01:30");
    expect(settled, "[[G1, 2], [G2, 2]]");
    service.kill();
    service.start();
    expect(settled, "[[G1, 2], [G2, 2]]");
    scan(1, "G2", "06:02:20");
    expect(settled, "[[G1, 2], [G2, 2], [G2, 1]]");

    expect(
        "SELECT step, rows FROM drip.late WHERE view = 'timed_final'",
        "[[windows of 1 minute by at, without late rows, 1]]");
    assertThat(service.drip("", "sql", "SHOW VIEWS").out())
        .containsPattern("timed_final +materialized view +3 .* 2026-03-02 06:02:10 +1 ");
    assertThat(service.drip("", "sql", "EXPLAIN timed_final").out())
        .contains("groups until the watermark has reached window_start and 1 minute more");
    service.sql("DROP MATERIALIZED VIEW timed_final; DROP MATERIALIZED VIEW timed_now");
  }

  @Test
  void whoIsMissedIsKnownWhenNobodyCanComeAnyMoreAndSpellsGrowTogether() throws Exception {
    hub.topic("left", 1);
    hub.topic("loaded", 2);
    service.sql(
        "CREATE STREAM left_hall (parcel BIGINT, at TIMESTAMP NOT NULL, EVENT TIME at LATENESS"
            + " INTERVAL '10' SECOND) FROM hub_log (topic 'left') FORMAT json;"
            + " CREATE STREAM loaded (parcel BIGINT, van VARCHAR, at TIMESTAMP NOT NULL, EVENT TIME at"
            + " LATENESS INTERVAL '10' SECOND) FROM hub_log (topic 'loaded') FORMAT json;"
            + " CREATE MATERIALIZED VIEW missed OPTIONS (rows 'settled') AS SELECT parcel, at FROM"
            + " left_hall AS s WHERE NOT EXISTS (SELECT 1 FROM loaded AS h WHERE h.parcel = s.parcel AND"
            + " h.at BETWEEN s.at AND s.at + INTERVAL '5' MINUTE);"
            + " CREATE MATERIALIZED VIEW spells AS SELECT van, window_start, COUNT(*) AS parcels FROM"
            + " TABLE(SESSION(TABLE loaded PARTITION BY van, DESCRIPTOR(at), INTERVAL '1' MINUTE))"
            + " GROUP BY van, window_start, window_end");
    send("left", 0, "\"parcel\":1", "06:00:00");
    send("left", 0, "\"parcel\":2", "06:00:05");
    send("loaded", 0, "\"parcel\":9,\"van\":\"V1\"", "06:00:00");
    send("loaded", 0, "\"parcel\":8,\"van\":\"V1\"", "06:01:30");
    String spells = "SELECT van, parcels FROM spells ORDER BY window_start";
    expect(spells, "[[V1, 1], [V1, 1]]");
    service.kill();
    service.start();
    send("loaded", 1, "\"parcel\":1,\"van\":\"V1\"", "06:00:45"); // between the two
    expect(spells, "[[V1, 3]]");
    send("left", 0, "\"parcel\":3", "06:05:15"); // its watermark: 06:05:05
    send("loaded", 0, "\"parcel\":7,\"van\":\"V2\"", "06:06:00");
    expect("SELECT COUNT(*) FROM spells", "[[2]]");
    expect("SELECT COUNT(*) FROM missed", "[[0]]"); // the other partition may still bring parcel 2
    send("loaded", 1, "\"parcel\":6,\"van\":\"V2\"", "06:06:10");
    send("left", 0, "\"parcel\":4", "06:05:16");
    expect("SELECT parcel FROM missed", "[[2]]");
    service.kill();
    service.start();
    expect("SELECT parcel FROM missed", "[[2]]");
    assertThat(service.drip("", "sql", "EXPLAIN missed").out())
        .contains("put out when the watermark has passed at and 5 minutes more")
        .contains("rows of the first that meet none")
        .contains("first until the watermark has passed at and 5 minutes more");
    service.sql("DROP MATERIALIZED VIEW missed; DROP MATERIALIZED VIEW spells");
  }

  @Test
  void rowsLeaveWhenTheirTimeIsOverThoughNothingComes() throws Exception {
    service.sql(
        "CREATE TABLE promise (parcel BIGINT PRIMARY KEY, until TIMESTAMP);"
            + " CREATE MATERIALIZED VIEW open_promise AS SELECT parcel FROM promise WHERE until >"
            + " CURRENT_TIMESTAMP");
    service.sql(
        "INSERT INTO promise VALUES (1, CURRENT_TIMESTAMP + INTERVAL '4' SECOND),"
            + " (2, CURRENT_TIMESTAMP + INTERVAL '1' HOUR)");
    expect("SELECT parcel FROM open_promise ORDER BY parcel", "[[1], [2]]");
    expect("SELECT parcel FROM open_promise ORDER BY parcel", "[[2]]");
    service.kill();
    service.start();
    expect("SELECT parcel FROM open_promise", "[[2]]");
    service.sql("UPDATE promise SET until = CURRENT_TIMESTAMP - INTERVAL '1' SECOND");
    expect("SELECT COUNT(*) FROM open_promise", "[[0]]");
    service.sql("DROP MATERIALIZED VIEW open_promise; DROP TABLE promise");
  }
}
