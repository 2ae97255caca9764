package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.time.LocalDateTime;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;

/** Joins with a table as it was at a row's own time. */
final class AsOfTest {
  private static final String CHARGES =
      "SELECT s.parcel, c.cents FROM scan AS s %s surcharge FOR SYSTEM_TIME AS OF s.at AS c"
          + " ON c.service = s.service";
  private final TestEngine db = new TestEngine();

  @BeforeEach
  void tables() {
    db.run(
        "CREATE STREAM scan (parcel INTEGER, service VARCHAR, grams INTEGER, at TIMESTAMP, EVENT TIME at"
            + " LATENESS INTERVAL '1' MINUTE);"
            + " CREATE TABLE surcharge (service VARCHAR PRIMARY KEY, cents INTEGER, from_grams INTEGER);"
            + " INSERT INTO surcharge VALUES ('bulky', 5, 0)");
  }

  @AfterEach
  void close() {
    db.close();
  }

  private void scan(int parcel, String service, int second) {
    LocalDateTime at = LocalDateTime.parse("2026-03-02T06:00:00").plusSeconds(second);
    db.push("scan", new Object[] {parcel, service, 100 * parcel, at});
  }

  private void at(int second, String statement) {
    db.clock(TestEngine.CLOCK.instant().plusSeconds(second));
    db.run(statement);
  }

  @Test
  void aRowMeetsWhatTheTableWasAtItsTime() {
    db.run("CREATE MATERIALIZED VIEW inner_v AS " + CHARGES.formatted("JOIN"));
    db.run("CREATE MATERIALIZED VIEW left_v AS " + CHARGES.formatted("LEFT JOIN"));
    at(10, "UPDATE surcharge SET cents = 7");
    scan(1, "bulky", 9);
    scan(2, "bulky", 10);
    scan(3, "express", 9);
    String left = "SELECT * FROM left_v ORDER BY parcel";
    assertThat(db.rows(left)).containsExactly("[1, 5]", "[2, 7]", "[3, null]");
    scan(4, "bulky", 25);
    at(20, "DELETE FROM surcharge");
    at(30, "INSERT INTO surcharge VALUES ('bulky', 9, 0)");
    scan(5, "bulky", 31);
    assertThat(db.rows(left))
        .containsExactly("[1, 5]", "[2, 7]", "[3, null]", "[4, null]", "[5, 9]");
    assertThat(db.rows("SELECT * FROM inner_v ORDER BY parcel"))
        .containsExactly("[1, 5]", "[2, 7]", "[5, 9]");
    db.checkpoint();
    at(32, "BEGIN; UPDATE surcharge SET cents = 1; UPDATE surcharge SET cents = 2; COMMIT");
    db.crash();
    scan(6, "bulky", 32);
    scan(7, "bulky", 31);
    assertThat(db.rows("SELECT * FROM inner_v ORDER BY parcel"))
        .containsExactly("[1, 5]", "[2, 7]", "[5, 9]", "[6, 2]", "[7, 9]");
  }

  @Test
  void otherConditionsAreOfTheRowThatWas() {
    db.run(
        "CREATE MATERIALIZED VIEW v AS "
            + CHARGES.formatted("LEFT JOIN")
            + " AND s.grams >= c.from_grams AND c.cents < 9");
    at(10, "UPDATE surcharge SET from_grams = 200");
    scan(1, "bulky", 5);
    scan(1, "bulky", 15);
    scan(2, "bulky", 16);
    assertThat(db.rows("SELECT * FROM v ORDER BY parcel, cents NULLS FIRST"))
        .containsExactly("[1, null]", "[1, 5]", "[2, 5]");
  }

  @Test
  void onceTheWatermarkHasPassedARowIsSettledAndOldVersionsAreGone() {
    db.run(
        "CREATE MATERIALIZED VIEW v OPTIONS (rows 'settled') AS SELECT s.at, s.parcel, c.cents FROM scan"
            + " AS s LEFT JOIN surcharge FOR SYSTEM_TIME AS OF s.at AS c ON c.service = s.service");
    scan(1, "bulky", 5);
    at(6, "UPDATE surcharge SET cents = 6");
    for (int i = 0; i < 100; i++) {
      at(7 + i, "UPDATE surcharge SET cents = " + (100 + i));
    }
    scan(2, "bulky", 8);
    assertThat(db.rows("SELECT * FROM v")).isEmpty();
    scan(3, "bulky", 200);
    assertThat(db.rows("SELECT parcel, cents FROM v ORDER BY parcel"))
        .containsExactly("[1, 5]", "[2, 101]");
    scan(4, "bulky", 50); // too late
    scan(5, "bulky", 400);
    assertThat(db.rows("SELECT parcel, cents FROM v ORDER BY parcel"))
        .containsExactly("[1, 5]", "[2, 101]", "[3, 199]");
    assertThat(db.state("v").keys()).as("the last version, and the last scan").isLessThan(8);
  }

  @Test
  void itIsForTheWholeKeyOfATableInWhatIsKept() {
    assertThat(db.error(CHARGES.formatted("JOIN")))
        .hasMessageContaining("in a query that is asked once")
        .extracting("hint")
        .asString()
        .contains("materialized view");
    assertThat(
            db.error(
                "CREATE MATERIALIZED VIEW v AS SELECT s.parcel FROM scan AS s JOIN surcharge FOR"
                    + " SYSTEM_TIME AS OF s.at AS c ON c.cents = s.grams"))
        .hasMessageContaining("the whole key of the table");
    assertThat(
            db.error(
                "CREATE MATERIALIZED VIEW v AS SELECT c.cents FROM surcharge FOR SYSTEM_TIME AS OF"
                    + " TIMESTAMP '2026-03-02 06:00:00' AS c"))
        .hasMessageContaining("FOR SYSTEM_TIME AS OF");
    assertThat(
            db.error(
                "CREATE MATERIALIZED VIEW v AS SELECT a.parcel FROM scan AS a JOIN scan FOR SYSTEM_TIME"
                    + " AS OF a.at AS b ON a.parcel = b.parcel"))
        .hasMessageContaining("scan");
  }
}
