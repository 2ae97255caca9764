package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import org.junit.jupiter.api.Test;

/** Windows of event time over a topic of several partitions, through the client and with kills. */
class EventTimeTest extends SourceTest {
  private static void scan(int partition, String gate, String clock) {
    hub.sendAt(
        "timed",
        partition,
        System.currentTimeMillis(), // what is older than a week the broker forgets
        "{\"gate\":\"%s\",\"at\":\"2026-03-02T%sZ\"}".formatted(gate, clock));
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
}
