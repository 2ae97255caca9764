package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.parallel.ResourceLock;

/** Views that are refreshed when they are due or asked, through the client and with kills. */
@ResourceLock(SourceTest.ONE)
class UpkeepTest extends SourceTest {
  private void scan(String gate, String clock) {
    hub.sendAt(
        "upkept",
        0,
        System.currentTimeMillis(),
        "{\"gate\":\"%s\",\"at\":\"2026-03-02T%sZ\"}".formatted(gate, clock));
  }

  private void refresh(String says) throws Exception {
    assertThat(service.drip("", "sql", "REFRESH MATERIALIZED VIEW asked_gates").out())
        .contains(says);
  }

  @Test
  void aViewShowsItsLastRefreshAndWhatCameSinceWaitsThroughKills() throws Exception {
    hub.topic("upkept", 1);
    service.sql(
        "CREATE STREAM upkept (gate VARCHAR, at TIMESTAMP NOT NULL, EVENT TIME at LATENESS INTERVAL"
            + " '10' SECOND) FROM hub_log (topic 'upkept') FORMAT json");
    String counts = " AS SELECT gate, COUNT(*) AS n FROM upkept GROUP BY gate";
    service.sql(
        "CREATE MATERIALIZED VIEW asked_gates OPTIONS (upkeep 'on demand', fresh_within '1 hour')"
            + counts
            + "; CREATE MATERIALIZED VIEW timed_gates OPTIONS (upkeep 'every 1 second')"
            + counts
            + "; CREATE MATERIALIZED VIEW quick_gates"
            + counts);
    scan("G1", "06:00:05");
    scan("G2", "06:00:06");
    expect("SELECT * FROM quick_gates ORDER BY gate", "[[G1, 1], [G2, 1]]");
    expect("SELECT * FROM timed_gates ORDER BY gate", "[[G1, 1], [G2, 1]]");
    expect("SELECT COUNT(*) FROM asked_gates", "[[0]]");
    service.kill();
    service.start();
    scan("G1", "06:00:07");
    expect("SELECT * FROM quick_gates ORDER BY gate", "[[G1, 2], [G2, 1]]");
    expect("SELECT COUNT(*) FROM asked_gates", "[[0]]");
    refresh("refreshed asked_gates: 3 rows read, 2 put in, 0 taken out, 0 unchanged, 0 late");
    service.kill();
    service.start();
    expect("SELECT * FROM asked_gates ORDER BY gate", "[[G1, 2], [G2, 1]]");
    scan("G1", "06:00:08");
    expect("SELECT * FROM timed_gates ORDER BY gate", "[[G1, 3], [G2, 1]]");
    assertThat(service.drip("", "sql", "DESCRIBE asked_gates").out())
        .contains("upkeep on demand, last at ")
        .contains(", 1 rows wait (")
        .contains("; fresh within 1 hour");
    refresh("1 rows read, 1 put in, 1 taken out, 1 unchanged");
    expect(
        "SELECT cause, read, put_in FROM drip.upkeep WHERE view = 'asked_gates' ORDER BY began",
        "[[asked, 3, 2], [asked, 1, 1]]");
    expect(
        "SELECT SUM(shown) > 1, SUM(shown) = SUM(in_time), MIN(arrival_ms) >= 0 FROM drip.freshness"
            + " WHERE view = 'quick_gates'",
        "[[true, true, true]]");
    service.sql(
        "DROP MATERIALIZED VIEW asked_gates; DROP MATERIALIZED VIEW timed_gates;"
            + " DROP MATERIALIZED VIEW quick_gates");
  }
}
