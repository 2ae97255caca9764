package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import org.junit.jupiter.api.Test;

/** Groups whose answer there is not, and what comes back when there is one again. */
class AggregateTest {
  @Test
  void aTextThatIsTooLongIsRejectedUntilItIsShorter() {
    try (TestEngine db = new TestEngine()) {
      db.run(
          "CREATE TABLE note (id INTEGER PRIMARY KEY, hall VARCHAR, body VARCHAR);"
              + "CREATE MATERIALIZED VIEW v AS SELECT hall, STRING_AGG(body, ',' ORDER BY id) AS t,"
              + " COUNT(*) AS n FROM note GROUP BY hall;"
              + "INSERT INTO note VALUES (1, 'a', REPEAT('x', 300000)), (2, 'b', 'y'), (3, 'b', NULL)");
      assertThat(db.rows("SELECT hall, CHAR_LENGTH(t), n FROM v ORDER BY hall"))
          .containsExactly("[a, 300000, 1]", "[b, 1, 2]");
      db.run("INSERT INTO note VALUES (4, 'a', REPEAT('z', 300000))");
      assertThat(db.rows("SELECT hall, n FROM v")).containsExactly("[b, 2]");
      assertThat(db.state("v").rejectedRows()).hasSize(1);
      db.checkpoint();
      db.crash();
      assertThat(db.rows("SELECT hall, n FROM v")).containsExactly("[b, 2]");
      db.run("DELETE FROM note WHERE id = 1");
      assertThat(db.rows("SELECT hall, CHAR_LENGTH(t), n FROM v ORDER BY hall"))
          .containsExactly("[a, 300000, 1]", "[b, 1, 2]");
    }
  }

  @Test
  void aKeyOfAnObjectAndAFractionAreChecked() {
    try (TestEngine db = new TestEngine()) {
      db.run(
          "CREATE TABLE note (id INTEGER PRIMARY KEY, hall VARCHAR, grams INTEGER);"
              + "INSERT INTO note VALUES (1, NULL, 5), (2, 'a\"b', NULL)");
      assertThat(db.error("SELECT JSON_OBJECT_AGG(hall, grams) FROM note").getMessage())
          .contains("a key of a JSON object is NULL");
      assertThat(db.rows("SELECT JSON_OBJECT_AGG(hall, grams) AS o FROM note WHERE id = 2"))
          .containsExactly("[{\"a\\\"b\": null}]");
      assertThat(db.error("SELECT PERCENTILE_DISC(1.5) WITHIN GROUP (ORDER BY id) FROM note"))
          .hasMessageContaining("between 0 and 1");
    }
  }
}
