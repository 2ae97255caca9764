package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.concurrent.CompletableFuture;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.Test;

class CheckpointTest {
  private final TestEngine db = new TestEngine();

  @AfterEach
  void close() {
    db.close();
  }

  private void fill() {
    db.run(
        "CREATE TABLE parcel (k INTEGER PRIMARY KEY, area VARCHAR, grams INTEGER);"
            + "CREATE MATERIALIZED VIEW by_area AS SELECT area, COUNT(*) AS n, MAX(grams) AS most"
            + " FROM parcel GROUP BY area;"
            + "CREATE MATERIALIZED VIEW heavy AS SELECT k, grams FROM parcel WHERE grams > 10;"
            + "INSERT INTO parcel VALUES (1, 'N', 5), (2, 'N', 50), (3, 'S', 20)");
  }

  private void expectFilled() {
    assertThat(db.rows("SELECT * FROM by_area ORDER BY area"))
        .containsExactly("[N, 2, 50]", "[S, 1, 20]");
    assertThat(db.rows("SELECT * FROM heavy ORDER BY k")).containsExactly("[2, 50]", "[3, 20]");
  }

  @Test
  void whatChangedIsSavedAndComesBack() {
    fill();
    db.checkpoint();
    long whole = db.checkpoints.bytesWritten;
    db.run("UPDATE parcel SET grams = 6 WHERE k = 1");
    db.checkpoint();
    assertThat(db.checkpoints.bytesWritten - whole).as("only what changed").isLessThan(6000);
    db.crash();
    expectFilled();
    db.run("DELETE FROM parcel WHERE k = 2");
    assertThat(db.rows("SELECT * FROM by_area ORDER BY area"))
        .containsExactly("[N, 1, 6]", "[S, 1, 20]");
  }

  @Test
  void whatIsNotInACheckpointComesFromTheLedger() {
    fill();
    db.crash();
    expectFilled();
  }

  /** A step is known by its plan: one that was given up and made again is another all the same. */
  @Test
  void aStepThatWasMadeAgainIsSavedWhole() throws InterruptedException {
    fill();
    db.checkpoint();
    db.checkpoints.refuse(true);
    CompletableFuture<Void> late = db.engine.checkpointer().request();
    while (db.engine.checkpointer().failure() == null) { // noted, and being written
      Thread.sleep(5);
    }
    db.run("DROP MATERIALIZED VIEW by_area; UPDATE parcel SET grams = 30 WHERE k = 2");
    db.run(
        "CREATE MATERIALIZED VIEW by_area AS SELECT area, COUNT(*) AS n, MAX(grams) AS most"
            + " FROM parcel GROUP BY area");
    db.checkpoints.refuse(false);
    late.join();
    db.checkpoint();
    db.crash();
    assertThat(db.rows("SELECT * FROM by_area ORDER BY area"))
        .containsExactly("[N, 2, 30]", "[S, 1, 20]");
  }

  @Test
  void stateOfAnotherFormIsMadeAgainAndNeverMisread() {
    fill();
    db.checkpoint();
    db.checkpoints.spoil();
    db.crash();
    expectFilled();
    db.run("DELETE FROM parcel");
    assertThat(db.rows("SELECT * FROM by_area")).isEmpty();
  }

  @Test
  void stateThatIsDamagedIsMadeAgain() {
    fill();
    db.checkpoint();
    db.checkpoints.damage();
    db.crash();
    expectFilled();
    db.run("DELETE FROM parcel WHERE k = 3");
    assertThat(db.rows("SELECT * FROM by_area")).containsExactly("[N, 2, 50]");
  }

  @Test
  void aViewMadeAfterTheCheckpointIsFilledAtTheStart() {
    fill();
    db.checkpoint();
    db.checkpoints.refuse(true);
    db.run("CREATE MATERIALIZED VIEW late AS SELECT SUM(most) AS s FROM by_area");
    db.run("INSERT INTO parcel VALUES (4, 'S', 100)");
    db.crash();
    assertThat(db.rows("SELECT * FROM late")).containsExactly("[150]");
    db.run("UPDATE parcel SET grams = 1 WHERE k = 4");
    assertThat(db.rows("SELECT * FROM late")).containsExactly("[70]");
  }

  @Test
  void rowsAViewFailsOnAreShownUntilTheyGo() {
    db.run(
        "CREATE TABLE parcel (k INTEGER PRIMARY KEY, area VARCHAR, grams INTEGER);"
            + "CREATE MATERIALIZED VIEW per_gram AS SELECT k, 1000 / grams AS g FROM parcel WHERE k > 0;"
            + "CREATE MATERIALIZED VIEW sums AS SELECT area, SUM(grams) AS g FROM parcel GROUP BY area;"
            + "INSERT INTO parcel VALUES (1, 'N', 0), (2, 'N', 50), (3, 'S', 0)");
    String failing = "SELECT object, reason, origin, raw FROM drip.rejects ORDER BY raw";
    String origin = "filter k > 0; compute k, 1000 / grams as g";
    assertThat(db.rows(failing))
        .containsExactly(
            "[per_gram, division by zero, " + origin + ", k=1, area=N, grams=0]",
            "[per_gram, division by zero, " + origin + ", k=3, area=S, grams=0]");
    db.checkpoint();
    db.crash();
    assertThat(db.rows(failing)).hasSize(2);
    db.run("UPDATE parcel SET grams = 5 WHERE k = 3");
    assertThat(db.rows(failing)).hasSize(1);
    db.run("DELETE FROM parcel WHERE k = 1");
    assertThat(db.rows(failing)).isEmpty();
    assertThat(db.rows("SELECT * FROM per_gram ORDER BY k")).containsExactly("[2, 20]", "[3, 200]");
  }
}
