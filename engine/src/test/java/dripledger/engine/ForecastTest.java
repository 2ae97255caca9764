package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import org.junit.jupiter.api.Test;

/** What a view would keep, before it is made. */
class ForecastTest {
  @Test
  void explainsAViewThatIsNotMade() {
    try (TestEngine db = new TestEngine()) {
      db.run("CREATE STREAM scan (gate VARCHAR, at TIMESTAMP, EVENT TIME at)");
      assertThat(
              db.rows(
                      "EXPLAIN CREATE MATERIALIZED VIEW v OPTIONS (rows 'settled') AS SELECT gate, window_end,"
                          + " COUNT(*) AS n FROM TABLE(TUMBLE(TABLE scan, DESCRIPTOR(at), INTERVAL '1' MINUTE))"
                          + " GROUP BY gate, window_end")
                  .toString())
          .contains("put out when they end")
          .contains("groups until the watermark has reached window_end");
      assertThat(db.rows("SHOW VIEWS")).isEmpty();
      assertThat(db.error("EXPLAIN CREATE TABLE t (id INTEGER PRIMARY KEY)"))
          .hasMessageContaining("EXPLAIN of this statement");
    }
  }
}
