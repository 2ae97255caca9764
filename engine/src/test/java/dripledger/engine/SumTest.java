package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.Test;

/** Sums are exact, or their row is rejected. */
class SumTest {
  private final TestEngine db = new TestEngine();

  @AfterEach
  void close() {
    db.close();
  }

  @Test
  void sumsOfLongDecimalsAreExactOrRejected() {
    String big = "90000000000000000000000000000000000000"; // 9e37
    db.run(
        "CREATE TABLE sums (k INTEGER PRIMARY KEY, d DECIMAL(38, 0));"
            + "CREATE MATERIALIZED VIEW s AS SELECT SUM(d) AS s, COUNT(*) AS n FROM sums");
    for (int k = 0; k < 4; k++) {
      db.run("INSERT INTO sums VALUES (" + k + ", " + big + ")");
    }
    assertThat(db.rows("SELECT * FROM s")).as("more than 38 digits").isEmpty();
    assertThat(db.rows("SELECT object FROM drip.rejects")).containsExactly("[s]");
    db.run("UPDATE sums SET d = -d WHERE k < 2");
    assertThat(db.rows("SELECT s FROM s")).containsExactly("[0]");
    db.run("DELETE FROM sums WHERE k IN (0, 3)");
    assertThat(db.rows("SELECT s FROM s")).containsExactly("[0]");
    db.run("DELETE FROM sums WHERE k = 1");
    assertThat(db.rows("SELECT s FROM s")).containsExactly("[" + big + "]");
    assertThat(db.rows("SELECT object FROM drip.rejects")).isEmpty();
  }
}
