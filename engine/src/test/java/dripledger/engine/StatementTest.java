package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import dripledger.engine.query.Subscription;
import dripledger.engine.source.Connectors;
import java.time.LocalDateTime;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.Test;

class StatementTest {
  private final TestEngine db = new TestEngine();

  private static final String SCAN =
      """
      CREATE STREAM scan (
        parcel BIGINT NOT NULL, gate VARCHAR, at TIMESTAMP, grams INTEGER,
        scanner ROW(id VARCHAR, battery DOUBLE),
        EVENT TIME at LATENESS INTERVAL '30' SECOND);
      """;
  private static final String GATE =
      "CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, capacity_per_minute INTEGER);";

  @AfterEach
  void close() {
    db.close();
  }

  private static Object[] scan(long parcel, String gate, String at, Integer grams) {
    return new Object[] {
      parcel,
      gate,
      LocalDateTime.parse(at),
      grams == null ? null : (long) grams,
      Arrays.asList("S-31", 0.5)
    };
  }

  @Test
  void anEventPushedChangesAView() {
    db.run(SCAN);
    db.run(
        """
        CREATE MATERIALIZED VIEW gate_load AS
        SELECT gate, date_trunc('minute', at) AS window_minute, COUNT(*) AS scans,
               ROUND(AVG(grams), 1) AS mean_grams
        FROM scan GROUP BY gate, date_trunc('minute', at)
        """);
    db.push("scan", scan(1, "G07", "2026-03-02T06:14:09", 1000));
    db.push(
        "scan",
        scan(2, "G07", "2026-03-02T06:14:19", 2001),
        scan(3, "G08", "2026-03-02T06:15:00", null));
    assertThat(db.rows("SELECT * FROM gate_load ORDER BY gate"))
        .containsExactly("[G07, 2026-03-02T06:14, 2, 1500.5]", "[G08, 2026-03-02T06:15, 1, null]");
  }

  @Test
  void aViewOverExistingDataIsFilledFromTheLedger() {
    db.run(SCAN);
    db.push("scan", scan(1, "G07", "2026-03-02T06:14:09", 1000));
    db.run("CREATE MATERIALIZED VIEW n AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
    db.push("scan", scan(2, "G07", "2026-03-02T06:14:10", 1000));
    assertThat(db.rows("SELECT * FROM n")).containsExactly("[G07, 2]");
  }

  @Test
  void nestedFieldsAreReadWithDots() {
    db.run(SCAN);
    db.push("scan", scan(1, "G07", "2026-03-02T06:14:09", 1000));
    assertThat(db.rows("SELECT s.scanner.id, s.scanner.battery * 2 FROM scan AS s"))
        .containsExactly("[S-31, 1.0]");
    assertThat(db.rows("SELECT scanner.id FROM scan WHERE scanner.battery < 0.6"))
        .containsExactly("[S-31]");
  }

  @Test
  void tablesChangeByStatementAndViewsFollow() {
    db.run(GATE);
    db.run(
        """
        CREATE MATERIALIZED VIEW hall AS
        SELECT hall, COUNT(*) AS gates, SUM(capacity_per_minute) AS capacity,
               MIN(gate) AS first_gate, MAX(capacity_per_minute) AS widest
        FROM gate GROUP BY hall
        """);
    db.run(
        "INSERT INTO gate VALUES ('G01', 'North', 40), ('G02', 'North', 60), ('G03', 'South', 30)");
    assertThat(db.rows("SELECT * FROM hall ORDER BY hall"))
        .containsExactly("[North, 2, 100, G01, 60]", "[South, 1, 30, G03, 30]");
    db.run(
        "UPDATE gate SET hall = 'South', capacity_per_minute = capacity_per_minute + 5 WHERE gate = 'G02'");
    assertThat(db.rows("SELECT * FROM hall ORDER BY hall"))
        .containsExactly("[North, 1, 40, G01, 40]", "[South, 2, 95, G02, 65]");
    db.run("DELETE FROM gate WHERE hall = 'North'");
    assertThat(db.rows("SELECT * FROM hall")).containsExactly("[South, 2, 95, G02, 65]");
  }

  @Test
  void aTransactionIsOneEpochOrNothing() {
    db.run(GATE);
    db.run(
        """
        BEGIN;
        INSERT INTO gate VALUES ('G01', 'North', 40);
        UPDATE gate SET capacity_per_minute = 50;
        COMMIT;
        """);
    assertThat(db.rows("SELECT * FROM gate")).containsExactly("[G01, North, 50]");
    EngineException e =
        db.error("BEGIN; DELETE FROM gate; INSERT INTO gate VALUES (NULL, 'x', 1); COMMIT");
    assertThat(e.code()).isEqualTo(EngineException.Code.CONSTRAINT);
    assertThat(db.rows("SELECT COUNT(*) FROM gate")).containsExactly("[1]");
    assertThat(db.error("BEGIN; DELETE FROM gate").getMessage()).contains("BEGIN without COMMIT");
    assertThat(db.rows("SELECT COUNT(*) FROM gate")).containsExactly("[1]");
  }

  @Test
  void aPrimaryKeyIsUnique() {
    db.run(GATE);
    db.run("INSERT INTO gate VALUES ('G01', 'North', 40)");
    EngineException e = db.error("INSERT INTO gate VALUES ('G01', 'South', 1)");
    assertThat(e.getMessage()).isEqualTo("gate already has a row with gate = G01");
    assertThat(db.error("INSERT INTO gate VALUES ('G2', 'a', 1), ('G2', 'b', 1)").code())
        .isEqualTo(EngineException.Code.CONSTRAINT);
  }

  @Test
  void recoveryReplaysTheLedger() {
    db.run(SCAN + GATE);
    db.run("CREATE VIEW heavy AS SELECT * FROM scan WHERE grams > 500");
    db.run("CREATE MATERIALIZED VIEW n AS SELECT gate, COUNT(*) AS n FROM heavy GROUP BY gate");
    db.run("CREATE MATERIALIZED VIEW total AS SELECT SUM(n) AS n FROM n");
    db.push(
        "scan",
        scan(1, "G07", "2026-03-02T06:14:09", 1000),
        scan(1, "G08", "2026-03-02T06:14:09", 10));
    db.run("INSERT INTO gate VALUES ('G01', 'North', 40)");
    db.run("UPDATE gate SET hall = 'South'");
    long epoch = db.engine.snapshot().epoch();
    db.close();
    try (TestEngine again = new TestEngine(db.records, Connectors.NONE)) {
      assertThat(again.rows("SELECT * FROM n")).containsExactly("[G07, 1]");
      assertThat(again.rows("SELECT * FROM total")).containsExactly("[1]");
      assertThat(again.rows("SELECT * FROM gate")).containsExactly("[G01, South, 40]");
      assertThat(again.engine.snapshot().epoch()).isGreaterThan(epoch);
      again.push("scan", scan(1, "G07", "2026-03-02T06:14:09", 1000));
      assertThat(again.rows("SELECT * FROM total")).containsExactly("[2]");
    }
  }

  @Test
  void aGlobalAggregateHasARowOfNothing() {
    db.run(SCAN);
    db.run(
        "CREATE MATERIALIZED VIEW t AS SELECT COUNT(*) AS n, SUM(grams) AS g, MAX(gate) AS m FROM scan");
    assertThat(db.rows("SELECT * FROM t")).containsExactly("[0, null, null]");
    db.push("scan", scan(1, "G07", "2026-03-02T06:14:09", 1000));
    assertThat(db.rows("SELECT * FROM t")).containsExactly("[1, 1000, G07]");
  }

  @Test
  void longValuesThatAreFilteredOutAreNotKept() {
    db.run("CREATE TABLE parcel (id BIGINT PRIMARY KEY, note VARCHAR, grams BIGINT)");
    db.run(
        """
        CREATE MATERIALIZED VIEW noted AS SELECT COUNT(DISTINCT note) FILTER (WHERE grams > 0) AS n,
        MAX(note) FILTER (WHERE grams > 0) AS last FROM parcel
        """);
    db.run("INSERT INTO parcel VALUES (1, 'first', 1)");
    // What notes changes for readers takes a segment once and keeps it: the rows come more than
    // once.
    long added = Long.MAX_VALUE;
    for (int round = 1; round <= 5 && added >= 20_000; round++) {
      long before = db.state("noted").bytes();
      StringBuilder rows =
          new StringBuilder("INSERT INTO parcel VALUES (" + round * 1000 + ", 'x', 0)");
      for (int i = 1; i < 500; i++) {
        rows.append(", (" + (round * 1000 + i) + ", '" + "long ".repeat(40) + round + i + "', 0)");
      }
      db.run(rows.toString());
      for (int i = 500; i < 900; i++) {
        db.run("INSERT INTO parcel VALUES (" + (round * 1000 + i) + ", 'x', 0)");
      }
      added = db.state("noted").bytes() - before;
    }
    assertThat(added).as("bytes").isLessThan(20_000);
    assertThat(db.rows("SELECT * FROM noted")).containsExactly("[1, first]");
  }

  /** The stream's new node takes part like the one before: what it brings counts once. */
  @Test
  void aStreamThatWasAlteredGoesOnFeedingItsViews() {
    db.run("CREATE STREAM shift (parcel BIGINT)");
    db.run("CREATE MATERIALIZED VIEW seen AS SELECT parcel FROM shift");
    db.run(
        "CREATE MATERIALIZED VIEW per_parcel AS SELECT parcel, COUNT(*) AS n FROM shift GROUP BY parcel");
    db.push("shift", new Object[] {1L});
    db.run("ALTER STREAM shift ADD COLUMN gate VARCHAR");
    db.push("shift", new Object[] {2L, "G01"});
    db.run("CREATE TABLE other (id BIGINT PRIMARY KEY)");
    db.run("INSERT INTO other VALUES (1)"); // an epoch of its own
    db.push("shift", new Object[] {3L, "G02"});
    assertThat(db.rows("SELECT * FROM seen ORDER BY parcel")).containsExactly("[1]", "[2]", "[3]");
    assertThat(db.rows("SELECT * FROM per_parcel ORDER BY parcel"))
        .containsExactly("[1, 1]", "[2, 1]", "[3, 1]");
  }

  @Test
  void dropNamesWhatDependsOnTheThing() {
    db.run(SCAN);
    db.run("CREATE VIEW heavy AS SELECT gate, grams FROM scan WHERE grams > 500");
    db.run("CREATE MATERIALIZED VIEW n AS SELECT gate, COUNT(*) AS n FROM heavy GROUP BY gate");
    EngineException e = db.error("DROP STREAM scan");
    assertThat(e.getMessage())
        .isEqualTo("scan cannot be dropped: view heavy, materialized view n read from it");
    assertThat(e.hint()).contains("CASCADE");
    assertThat(((Result.Done) db.run("DROP STREAM scan CASCADE")).message())
        .isEqualTo("dropped stream scan, view heavy, materialized view n");
    assertThat(db.rows("SHOW VIEWS")).isEmpty();
    assertThat(db.error("DROP VIEW n").getMessage()).isEqualTo("no view \"n\"");
    assertThat(((Result.Done) db.run("DROP VIEW IF EXISTS n")).message())
        .isEqualTo("there is no \"n\"");
  }

  @Test
  void errorsNameThePlaceAndTheWayOut() {
    db.run(SCAN);
    EngineException e = db.error("SELECT gate,\n       gatee\nFROM scan");
    assertThat(List.of(e.line(), e.column())).containsExactly(2, 8);
    assertThat(e.getMessage()).isEqualTo("no column \"gatee\" here");
    assertThat(e.hint()).isEqualTo("did you mean \"gate\"?");
    e = db.error("SELECT * FROM scn");
    assertThat(e.getMessage()).isEqualTo("no stream, table or view \"scn\"");
    assertThat(e.hint()).isEqualTo("did you mean \"scan\"?");
    assertThat(List.of(e.line(), e.column())).containsExactly(1, 15);
    e = db.error("selct * from scan");
    assertThat(e.hint()).as(e.getMessage() + e.line() + ":" + e.column()).contains("SELECT");
    assertThat(db.error("SHOW TABLE").hint()).contains("what follows it");
    e = db.error("SELECT gate grams at FROM scan");
    assertThat(e.hint()).contains("comma");
    e = db.error("SELECT gate FROM scan WHERE grams = ");
    assertThat(e.getMessage()).isEqualTo("the statement ends too early");
    e = db.error("SELECT uper(gate) FROM scan");
    assertThat(e.hint()).isEqualTo("did you mean upper?");
    assertThat(db.error("").getMessage()).isEqualTo("there is no statement");
  }

  @Test
  void whatIsNotSupportedSaysSoAtItsPlace() {
    db.run(SCAN + GATE);
    EngineException e = db.error("SELECT gate FROM scan\n TABLESAMPLE SYSTEM (10)");
    assertThat(e.code()).isEqualTo(EngineException.Code.NOT_SUPPORTED);
    assertThat(e.getMessage()).isEqualTo("not supported yet: TABLESAMPLE");
    for (String query :
        List.of(
            "SELECT LAG(gate, 0) IGNORE NULLS OVER (ORDER BY at) FROM scan",
            "SELECT COUNT(DISTINCT gate) OVER (ORDER BY at) FROM scan",
            "SELECT ARG_MAX(grams, gate) OVER (ORDER BY at) FROM scan",
            "CREATE MATERIALIZED VIEW v AS SELECT gate FROM scan ORDER BY gate",
            "CREATE MATERIALIZED VIEW v AS SELECT CURRENT_TIMESTAMP AS t FROM scan")) {
      EngineException each = db.error(query);
      assertThat(each.code())
          .as(query + ": " + each.getMessage())
          .isEqualTo(EngineException.Code.NOT_SUPPORTED);
      assertThat(each.line()).as(query).isGreaterThan(0);
    }
  }

  @Test
  void parametersAreValuesAndNeverText() {
    db.run(SCAN);
    db.push("scan", scan(1, "G07", "2026-03-02T06:14:09", 1000));
    Result.Rows rows =
        (Result.Rows)
            db.run(
                "SELECT gate FROM scan WHERE gate = :g OR parcel = :p",
                Map.of("g", "' OR 1=1 --", "p", 1));
    assertThat(rows.rows()).hasSize(1);
    assertThat(db.error("SELECT :x").getMessage()).isEqualTo("no value was given for :x");
  }

  /** Also where rows go into groups without being made. */
  @Test
  void aRowThatFailsOnItsWayIntoAGroupIsRejectedUntilItGoes() {
    db.run("CREATE TABLE crate (id BIGINT PRIMARY KEY, grams BIGINT, parts BIGINT);");
    db.run(
        """
        CREATE MATERIALIZED VIEW per_part AS
        SELECT grams / parts AS part, COUNT(*) AS crates, SUM(id) AS ids FROM crate
        WHERE id > 0 GROUP BY grams / parts
        """);
    db.run(
        "INSERT INTO crate VALUES (1, 100, 5), (2, 60, 3), (3, 10, 0), (4, NULL, 1), (-1, 1, 1)");
    assertThat(db.rows("SELECT * FROM per_part ORDER BY part"))
        .containsExactly("[20, 2, 3]", "[null, 1, 4]");
    String failing = "SELECT COUNT(*) FROM drip.rejects WHERE object = 'per_part'";
    assertThat(db.rows(failing)).containsExactly("[1]");
    db.run("UPDATE crate SET parts = 2 WHERE id = 3");
    assertThat(db.rows(failing)).containsExactly("[0]");
    assertThat(db.rows("SELECT * FROM per_part ORDER BY part"))
        .containsExactly("[5, 1, 3]", "[20, 2, 3]", "[null, 1, 4]");
  }

  @Test
  void aRowThatFailsIsRejectedAndTheViewGoesOn() {
    db.run("CREATE TABLE t (k INTEGER PRIMARY KEY, d INTEGER)");
    db.run("CREATE MATERIALIZED VIEW q AS SELECT k, 100 / d AS q FROM t");
    db.run("INSERT INTO t VALUES (1, 5), (2, 0), (3, 4)");
    assertThat(db.rows("SELECT * FROM q ORDER BY k")).containsExactly("[1, 20]", "[3, 25]");
    assertThat(db.rows("SHOW VIEWS").get(0)).contains(", 1, ");
    db.run("UPDATE t SET d = 10 WHERE k = 2");
    assertThat(db.rows("SELECT * FROM q ORDER BY k"))
        .containsExactly("[1, 20]", "[2, 10]", "[3, 25]");
    assertThat(db.state("q").rejects()).isZero();
    assertThat(db.error("SELECT 1 / (k - 1) FROM t").getMessage()).contains("division by zero");
  }

  @Test
  void followGivesTheAnswerAndThenEveryChange() throws InterruptedException {
    db.run(GATE);
    db.run("INSERT INTO gate VALUES ('G01', 'North', 40)");
    try (Subscription s =
        db.engine.follow(
            "SELECT hall, SUM(capacity_per_minute) AS c FROM gate GROUP BY hall", Map.of())) {
      Subscription.Batch first = s.poll(1000);
      assertThat(first.snapshot()).isTrue();
      assertThat(first.changes()).hasSize(1);
      db.run("INSERT INTO gate VALUES ('G02', 'North', 2)");
      Subscription.Batch next = s.poll(1000);
      assertThat(next.changes())
          .extracting(c -> Arrays.toString(c.row()) + " " + c.weight())
          .containsExactly("[North, 40] -1", "[North, 42] 1");
    }
  }

  @Test
  void theLatestValueIsFoundByArgMax() {
    db.run(SCAN);
    db.run(
        "CREATE MATERIALIZED VIEW parcel_now AS SELECT parcel, MAX_BY(gate, at) AS gate, MAX(at) AS"
            + " at, COUNT(*) AS scans FROM scan GROUP BY parcel");
    db.push(
        "scan", scan(1, "G07", "2026-03-02T06:14:09", 1), scan(1, "G09", "2026-03-02T06:20:00", 1));
    db.push("scan", scan(1, "G08", "2026-03-02T06:15:00", 1));
    assertThat(db.rows("SELECT * FROM parcel_now"))
        .containsExactly("[1, G09, 2026-03-02T06:20, 3]");
    assertThat(db.rows("EXPLAIN parcel_now").get(0)).contains("aggregate");
    assertThat(db.rows("DESCRIBE parcel_now").get(0)).isEqualTo("[parcel, BIGINT, false, key]");
  }

  @Test
  void expressionsAreShownAsTheyAreMeant() {
    db.run("CREATE TABLE e (a INTEGER PRIMARY KEY, b INTEGER, s VARCHAR, t BOOLEAN)");
    String[] expressions = {
      "1000 / (a - b / 2 * 2)",
      "a - (b - 1)",
      "a - b - 1",
      "-(a + b)",
      "(a + b) * (a - b)",
      "a * b + 1",
      "(s || 'x') LIKE 'y%'",
      "(a = 1 OR b = 2) AND t",
      "(a = 1 AND b = 2) OR t",
      "NOT (t OR b = 1)",
    };
    String[] shown = {
      "1000 / (a - b / 2 * 2)",
      "a - (b - 1)",
      "a - b - 1",
      "-(a + b)",
      "(a + b) * (a - b)",
      "a * b + 1",
      "s || 'x' LIKE 'y%'",
      "(a = 1 OR b = 2) AND t",
      "(a = 1 AND b = 2) OR t",
      "b <> 1 AND NOT t",
    };
    for (int i = 0; i < expressions.length; i++) {
      assertThat(db.rows("EXPLAIN SELECT " + expressions[i] + " AS x FROM e").get(0))
          .startsWith("[compute " + shown[i] + " as x,");
    }
  }

  private List<String> columns(String query) {
    return ((Result.Rows) db.run(query)).columns().stream().map(c -> c.name()).toList();
  }

  @Test
  void columnsWithoutANameAreCalledAsPostgresCallsThem() {
    db.run(GATE);
    assertThat(
            columns(
                """
                SELECT COUNT(*), SUM(capacity_per_minute), COUNT(hall), MAX_BY(gate, hall),
                       MAX(gate) || 'x', CAST(COUNT(*) AS INTEGER), CAST(1 AS INTEGER), COALESCE(MIN(hall), ''),
                       CASE WHEN COUNT(*) > 1 THEN 1 ELSE 2 END, CASE WHEN TRUE THEN 1 ELSE COUNT(*) END,
                       NULL, TRUE, DATE '2026-03-02', TRIM(MIN(gate)), CURRENT_TIMESTAMP, EXTRACT(YEAR FROM now())
                FROM gate
                """))
        .containsExactly(
            "count",
            "sum",
            "count",
            "max_by",
            "?column?",
            "count",
            "int4",
            "coalesce",
            "case",
            "count",
            "?column?",
            "bool",
            "date",
            "btrim",
            "current_timestamp",
            "extract");
    assertThat(columns("VALUES (1, 'a')")).containsExactly("column1", "column2");
    assertThat(columns("SELECT count + 1 AS n FROM (SELECT COUNT(*) FROM gate) AS g"))
        .containsExactly("n");
    assertThat(columns("SELECT SUM(capacity_per_minute) FROM gate ORDER BY sum"))
        .containsExactly("sum");
    // What GROUP BY names stays the column, whatever an unnamed item would be called.
    db.run("INSERT INTO gate VALUES ('G01', 'North', 41), ('G02', 'North', 42)");
    assertThat(
            db.rows(
                "SELECT CAST(capacity_per_minute AS VARCHAR(1)), COUNT(*) FROM gate"
                    + " GROUP BY capacity_per_minute"))
        .containsExactly("[4, 1]", "[4, 1]");
  }

  @Test
  void aViewTakesOverTheNamesOfUnnamedColumns() {
    db.run(GATE);
    db.run("CREATE MATERIALIZED VIEW n AS SELECT hall, COUNT(*) FROM gate GROUP BY hall");
    assertThat(columns("SELECT * FROM n")).containsExactly("hall", "count");
    assertThat(db.error("CREATE VIEW v AS SELECT gate, 1 + 1 FROM gate").getMessage())
        .contains("column 2 has no name");
    assertThat(db.error("CREATE VIEW v AS SELECT COUNT(*), COUNT(hall) FROM gate").getMessage())
        .contains("column \"count\" appears twice");
  }

  @Test
  void anUnknownColumnIsAnsweredWithThoseThereAre() {
    db.run(SCAN);
    db.run(GATE);
    assertThat(db.error("SELECT nope FROM gate").hint())
        .isEqualTo("gate has gate, hall, capacity_per_minute");
    assertThat(db.error("CREATE VIEW v AS SELECT nope FROM gate").hint())
        .isEqualTo("gate has gate, hall, capacity_per_minute");
    assertThat(db.error("SELECT grms FROM scan").hint()).isEqualTo("did you mean \"grams\"?");
    assertThat(db.error("SELECT gate").hint()).contains("FROM names a stream");
  }

  @Test
  void theDefinitionOfAnythingIsShown() {
    db.run(SCAN);
    db.run("CREATE MATERIALIZED VIEW n AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
    assertThat(db.rows("SHOW CREATE n"))
        .containsExactly(
            "[CREATE MATERIALIZED VIEW n AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate;]");
    db.run("ALTER STREAM scan ADD COLUMN belt VARCHAR PATH '$.belt.id'");
    String statement =
        String.valueOf(((Result.Rows) db.run("SHOW CREATE STREAM scan")).rows().get(0)[0]);
    assertThat(statement)
        .isEqualTo(
            """
            CREATE STREAM scan (
              parcel BIGINT NOT NULL,
              gate VARCHAR,
              at TIMESTAMP,
              grams INTEGER,
              scanner ROW(id VARCHAR, battery DOUBLE),
              belt VARCHAR PATH '$.belt.id',
              EVENT TIME at LATENESS INTERVAL '30' SECOND
            );""");
    db.run("DROP STREAM scan CASCADE");
    db.run(statement); // it says all there is
    assertThat(db.rows("SHOW CREATE scan")).containsExactly("[" + statement + "]");
    assertThat(((Result.Rows) db.run("DESCRIBE scan")).note())
        .isEqualTo("stream; SHOW CREATE scan is its definition");
    assertThat(db.error("SHOW CREATE nope").getMessage()).contains("no stream, table or view");
  }

  /** What is answered by key must be what is answered by reading everything. */
}
