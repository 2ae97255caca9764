package dripledger.engine;

import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import dripledger.engine.row.Column;
import java.sql.Connection;
import java.sql.ResultSet;
import java.sql.ResultSetMetaData;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import org.assertj.core.api.SoftAssertions;

/**
 * Queries over a small hub, each asked once and kept as a view, while its rows change: what is
 * answered, and how columns are called, is what PostgreSQL says.
 */
final class QueryCases {
  private static final String TABLES =
      """
      CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate VARCHAR, service VARCHAR, grams INTEGER,
        cost DECIMAL(8, 2), seen TIMESTAMP, due DATE, fragile BOOLEAN, ratio DOUBLE PRECISION);
      CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, capacity INTEGER);
      CREATE TABLE surcharge (id INTEGER PRIMARY KEY, service VARCHAR, area VARCHAR, cents BIGINT,
        since DATE);
      CREATE TABLE handoff (id INTEGER PRIMARY KEY, parcel INTEGER, van VARCHAR, at TIMESTAMP);
      CREATE TABLE nothing (id INTEGER PRIMARY KEY, name VARCHAR)
      """;

  private static final List<String> ROWS =
      List.of(
          """
          INSERT INTO gate VALUES ('G01', 'North', 60), ('G02', 'North', 40), ('G03', 'South', 60),
            ('G04', 'South', NULL), ('G05', NULL, 10), ('G06', 'West', 0);
          INSERT INTO surcharge VALUES (1, 'next_day', 'NORTH', 120, DATE '2026-01-01'),
            (2, 'next_day', 'SOUTH', 90, DATE '2026-02-01'), (3, 'economy', 'NORTH', 0, NULL),
            (4, 'economy', NULL, 15, DATE '2026-02-01'), (5, NULL, 'SOUTH', NULL, DATE '2026-03-01'),
            (6, 'same_day', 'NORTH', 400, DATE '2025-12-31');
          INSERT INTO parcel VALUES
            (1, 'G01', 'next_day', 500, 4.50, TIMESTAMP '2026-03-02 06:00:00', DATE '2026-03-03', TRUE, 0.5),
            (2, 'G01', 'economy', 1200, 3.10, TIMESTAMP '2026-03-02 06:01:30', DATE '2026-03-06', FALSE, 1.25),
            (3, 'G02', 'next_day', NULL, NULL, TIMESTAMP '2026-03-02 06:02:00', NULL, NULL, NULL),
            (4, 'G02', NULL, 700, 9.99, NULL, DATE '2026-03-03', FALSE, -2),
            (5, NULL, 'same_day', 700, 12.00, TIMESTAMP '2026-03-02 06:04:10', DATE '2026-03-02', TRUE, 0),
            (6, 'G03', 'economy', 0, 0, TIMESTAMP '2026-03-01 23:59:59', DATE '2026-03-31', FALSE, 1e9),
            (7, 'G09', 'next_day', 2500, 7.25, TIMESTAMP '2026-03-02 06:00:00', DATE '2026-03-03', NULL, 0.1),
            (8, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL);
          INSERT INTO handoff VALUES (1, 1, 'V1', TIMESTAMP '2026-03-02 07:00:00'),
            (2, 2, 'V1', TIMESTAMP '2026-03-02 07:05:00'), (3, 2, 'V2', TIMESTAMP '2026-03-02 09:00:00'),
            (4, 7, 'V3', NULL), (5, NULL, 'V1', TIMESTAMP '2026-03-02 07:10:00'),
            (6, 99, NULL, TIMESTAMP '2026-03-02 08:00:00')
          """,
          """
          UPDATE parcel SET grams = 800, service = 'economy' WHERE parcel IN (1, 4);
          INSERT INTO parcel VALUES (9, 'G04', 'same_day', 10, 1.01, TIMESTAMP '2026-03-03 00:00:00',
            DATE '2026-03-02', TRUE, 3), (10, 'G01', 'next_day', 500, 4.50, TIMESTAMP '2026-03-02 06:00:00',
            DATE '2026-03-03', TRUE, 0.5);
          DELETE FROM gate WHERE gate = 'G02';
          INSERT INTO handoff VALUES (7, 3, 'V2', TIMESTAMP '2026-03-02 10:00:00')
          """,
          """
          UPDATE gate SET hall = 'South', capacity = capacity + 5 WHERE hall = 'North' OR hall IS NULL;
          INSERT INTO gate VALUES ('G02', 'West', 7), ('G09', NULL, NULL);
          DELETE FROM parcel WHERE parcel IN (2, 6, 8);
          UPDATE parcel SET gate = NULL, cost = NULL WHERE parcel = 10;
          UPDATE surcharge SET cents = 90, service = 'economy' WHERE id IN (1, 5);
          INSERT INTO nothing VALUES (1, 'one'), (2, NULL)
          """,
          """
          DELETE FROM handoff; DELETE FROM surcharge WHERE id > 2;
          UPDATE parcel SET gate = 'G02', grams = COALESCE(grams, 0) + 1; DELETE FROM nothing
          """);

  private QueryCases() {}

  /**
   * Runs queries, one a line or several that end in a semicolon. One that begins with {@code once:}
   * is not kept, one with {@code refused:} has to be refused by both.
   */
  static void run(String name, String queries) throws SQLException {
    SoftAssertions all = new SoftAssertions();
    try (TestEngine db = new TestEngine();
        Connection connection = BesidePostgres.database(name);
        Statement oracle = connection.createStatement()) {
      begin(db, oracle);
      Map<String, String> views = new LinkedHashMap<>();
      for (String each : queries.split(";\\s*\n")) {
        String query = each.strip();
        if (query.startsWith("refused:")) {
          refused(db, oracle, query.substring(8).strip(), all);
        } else {
          String sql = query.startsWith("once:") ? query.substring(5).strip() : query;
          asked(db, oracle, sql, all);
          if (sql.equals(query)) {
            make(db, "v" + views.size(), sql, all);
            views.put("v" + views.size(), sql);
          }
        }
      }
      for (int change = 0; change < ROWS.size(); change++) {
        if (change > 0) {
          change(db, oracle, ROWS.get(change));
        }
        if (change == 2) {
          db.checkpoint();
          db.crash();
        }
        compare(db, oracle, views, "after change " + change, all);
      }
    }
    all.assertAll();
  }

  /**
   * Runs statements that change rows, one a line or several that end in a semicolon: after each the
   * tables are PostgreSQL's. One that begins with {@code refused:} both refuse, and change nothing.
   */
  static void change(String name, String statements) throws SQLException {
    SoftAssertions all = new SoftAssertions();
    try (TestEngine db = new TestEngine();
        Connection connection = BesidePostgres.database(name);
        Statement oracle = connection.createStatement()) {
      begin(db, oracle);
      Map<String, String> views =
          Map.of(
              "by_gate",
              "SELECT gate, COUNT(*) AS n, SUM(grams) AS grams FROM parcel GROUP BY gate");
      make(db, "by_gate", views.get("by_gate"), all);
      for (String each : statements.split(";\\s*\n")) {
        String statement = each.strip();
        boolean refused = statement.startsWith("refused:");
        String sql = refused ? statement.substring(8).strip() : statement;
        String theirs = failure(() -> oracle.execute(sql));
        String ours = failure(() -> db.run(sql));
        all.assertThat(theirs != null).as("PostgreSQL: " + sql + ": " + theirs).isEqualTo(refused);
        all.assertThat(ours != null).as(sql + ": " + ours).isEqualTo(refused);
        for (String table : List.of("parcel", "gate", "surcharge", "handoff", "nothing")) {
          String rows = "SELECT * FROM " + table;
          all.assertThat(Answers.ours(db, rows))
              .as("%s after %s", table, sql)
              .isEqualTo(Answers.theirs(oracle, rows));
        }
        compare(db, oracle, views, "after " + sql, all);
      }
    }
    all.assertAll();
  }

  private static void begin(TestEngine db, Statement oracle) throws SQLException {
    db.run(TABLES);
    oracle.execute(TABLES);
    change(db, oracle, ROWS.get(0));
  }

  private interface Change {
    void run() throws SQLException;
  }

  /** What a change fails with, or null. */
  private static String failure(Change change) {
    try {
      change.run();
      return null;
    } catch (SQLException | EngineException e) {
      return e.getMessage();
    }
  }

  private static void change(TestEngine db, Statement oracle, String script) throws SQLException {
    db.run("BEGIN; " + script + "; COMMIT");
    oracle.execute(script);
  }

  private static void make(TestEngine db, String name, String sql, SoftAssertions all) {
    try {
      db.run("CREATE MATERIALIZED VIEW " + name + " AS " + sql);
    } catch (RuntimeException e) {
      all.fail("cannot be kept: " + sql + ": " + e.getMessage());
    }
  }

  private static void asked(TestEngine db, Statement oracle, String sql, SoftAssertions all)
      throws SQLException {
    List<String> theirs = Answers.theirs(oracle, sql);
    List<String> names = new ArrayList<>();
    try (ResultSet rows = oracle.executeQuery(sql)) {
      ResultSetMetaData columns = rows.getMetaData();
      for (int i = 1; i <= columns.getColumnCount(); i++) {
        names.add(columns.getColumnLabel(i));
      }
    }
    try {
      all.assertThat(Answers.ours(db, sql)).as(sql).isEqualTo(theirs);
      Result.Rows rows = (Result.Rows) db.run(sql);
      all.assertThat(rows.columns().stream().map(Column::name)).as(sql).isEqualTo(names);
    } catch (RuntimeException e) {
      all.fail(sql + ": " + e.getMessage());
    }
  }

  private static void compare(
      TestEngine db, Statement oracle, Map<String, String> views, String when, SoftAssertions all)
      throws SQLException {
    for (Map.Entry<String, String> view : views.entrySet()) {
      List<String> theirs = Answers.theirs(oracle, view.getValue());
      try {
        all.assertThat(Answers.ours(db, "SELECT * FROM " + view.getKey()))
            .as(when + ": " + view.getValue())
            .isEqualTo(theirs);
      } catch (RuntimeException e) {
        all.fail(when + ": " + view.getValue() + ": " + e.getMessage());
      }
    }
  }

  private static void refused(TestEngine db, Statement oracle, String sql, SoftAssertions all) {
    try {
      all.fail("PostgreSQL answers " + sql + " with " + Answers.theirs(oracle, sql));
    } catch (SQLException e) {
      // as it should be
    }
    try {
      all.fail(sql + " is answered with " + Answers.ours(db, sql));
    } catch (EngineException e) {
      all.assertThat(e.getMessage()).as(sql).isNotBlank().doesNotContain("null", "Exception");
    }
  }
}
