package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.change.TableTransactions;
import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import dripledger.engine.query.RowCursor;
import dripledger.engine.query.RowSink;
import dripledger.engine.row.Column;
import dripledger.engine.statement.Session;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.locks.LockSupport;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/** What a client sees of one epoch, row by row, and which of its changes it can take back. */
class SessionTest {
  private static final int ROWS = 5000;

  private TestEngine db;

  @BeforeEach
  void start() {
    db = new TestEngine();
    db.run(
        "CREATE TABLE rack (k INTEGER PRIMARY KEY, hall VARCHAR, n BIGINT); INSERT INTO rack SELECT"
            + " CAST(n AS INTEGER), CASE WHEN n % 3 = 0 THEN 'North' ELSE 'South' END, n * 7 FROM"
            + " generate_series(1, 5000) AS s (n); CREATE MATERIALIZED VIEW halls AS SELECT hall, COUNT(*) AS"
            + " racks, SUM(n) AS n FROM rack GROUP BY hall");
  }

  @AfterEach
  void stop() {
    db.close();
  }

  private Session session(String id) {
    return db.engine.session(id, db.engine.access().owner());
  }

  private static String text(Object[] row) {
    return Arrays.toString(row);
  }

  /** The rows that a statement gives one by one. */
  private static List<String> rows(Session session, String sql) {
    List<String> rows = new ArrayList<>();
    Result result =
        session.execute(
            sql,
            Map.of(),
            new RowSink() {
              @Override
              public void columns(List<Column> columns) {
                assertThat(rows).as("told once, and first").isEmpty();
              }

              @Override
              public void row(Object[] row) {
                rows.add(text(row));
              }
            });
    assertThat(result).isInstanceOf(Result.Rows.class);
    return rows;
  }

  private static List<String> rest(Session session, RowCursor cursor) {
    List<String> rows = new ArrayList<>();
    for (Object[] row = session.next(cursor); row != null; row = session.next(cursor)) {
      rows.add(text(row));
    }
    assertThat(cursor.next()).isNull();
    return rows;
  }

  @ParameterizedTest
  @ValueSource(
      strings = {
        "SELECT * FROM rack",
        "SELECT n, k FROM rack WHERE hall = 'North'",
        "SELECT k FROM rack LIMIT 700 OFFSET 123",
        "SELECT k, hall FROM rack ORDER BY k",
        "SELECT k, hall FROM rack ORDER BY k DESC LIMIT 10 OFFSET 3",
        "SELECT k, n FROM rack ORDER BY hall, n DESC",
        "SELECT k, n FROM rack ORDER BY hall DESC, n LIMIT 300 OFFSET 3000",
        "SELECT hall, COUNT(*), MAX(n) FROM rack GROUP BY hall",
        "SELECT * FROM halls",
        "SELECT hall FROM rack UNION ALL SELECT hall FROM rack",
        "SELECT k FROM rack WHERE k < 0",
        "SELECT k FROM rack LIMIT 0",
        "VALUES (1, 'a'), (2, NULL)",
        "SHOW TABLES",
        "EXPLAIN SELECT * FROM halls"
      })
  void rowByRowAndPieceByPieceAreTheWhole(String sql) {
    List<String> whole =
        ((Result.Rows) db.run(sql)).rows().stream().map(SessionTest::text).toList();
    try (Session session = session("one")) {
      for (int times = 0; times < 3; times++) { // it is planned at first, then kept
        List<String> found = rows(session, sql);
        if (sql.contains("ORDER BY") || sql.contains("LIMIT") || times > 0) {
          assertThat(found).isEqualTo(whole);
        } else {
          assertThat(found).containsExactlyInAnyOrderElementsOf(whole);
        }
        try (RowCursor cursor = session.cursor(sql, Map.of())) {
          boolean query = !sql.startsWith("SHOW") && !sql.startsWith("EXPLAIN");
          assertThat(cursor != null).isEqualTo(query);
          if (query) {
            assertThat(rest(session, cursor)).isEqualTo(found);
          }
        }
      }
    }
  }

  /** A cursor reads one epoch to its end, whatever is changed, and whatever ends meanwhile. */
  @Test
  void aCursorReadsOneEpochToItsEnd() {
    try (Session session = session("one")) {
      session.begin(true, false);
      RowCursor first = session.cursor("SELECT k FROM rack", Map.of());
      RowCursor second = session.cursor("SELECT n FROM rack ORDER BY k", Map.of());
      assertThat(session.next(first)).isNotNull();
      for (int i = 0; i < 20; i++) {
        db.run("UPDATE rack SET n = n + 1");
      }
      db.run("DELETE FROM rack WHERE k % 2 = 0");
      RowCursor third = session.cursor("SELECT k FROM rack", Map.of());
      session.rollback(); // ends what all of them have pinned, but not theirs
      db.run("DELETE FROM rack");
      assertThat(rest(session, first)).hasSize(ROWS - 1);
      assertThat(rest(session, second)).hasSize(ROWS).startsWith("[7]", "[14]").endsWith("[35000]");
      assertThat(rest(session, third)).hasSize(ROWS);
      List.of(first, second, third).forEach(RowCursor::close);
      assertThat(session.cursor("SELECT k FROM rack", Map.of()).next()).isNull();
    }
  }

  @Test
  void aCursorEndsWhenItIsCancelledClosedOrFails() throws Exception {
    String endless = "SELECT COUNT(*) FROM rack a, rack b, rack c WHERE a.n + b.n + c.n = 1";
    try (Session session = session("one")) {
      RowCursor cancelled = session.cursor(endless, Map.of());
      Thread canceller =
          new Thread(
              () -> {
                while (!canCancel(session)) {
                  LockSupport.parkNanos(1_000_000);
                }
              });
      canceller.start();
      assertThatThrownBy(() -> session.next(cancelled))
          .isInstanceOfSatisfying(
              EngineException.class,
              e -> assertThat(e.code()).isEqualTo(EngineException.Code.CANCELLED));
      canceller.join();
      cancelled.close();

      RowCursor left = session.cursor("SELECT k FROM rack", Map.of());
      assertThat(session.next(left)).isNotNull();
      left.close();
      left.close();
      awaitNobody();

      RowCursor failing = session.cursor("SELECT 10 / (k - 4000) FROM rack", Map.of());
      assertThatThrownBy(() -> rest(session, failing))
          .hasMessageContaining("could not be computed");
      failing.close();

      session.statementMillis(200); // of reading, not of waiting
      RowCursor slow = session.cursor("SELECT k FROM rack", Map.of());
      long began = System.nanoTime();
      while (System.nanoTime() - began < TimeUnit.MILLISECONDS.toNanos(300)) {
        rows(session, "SELECT * FROM halls");
      }
      assertThat(rest(session, slow)).hasSize(ROWS);
      slow.close();
      RowCursor late = session.cursor(endless, Map.of());
      assertThatThrownBy(() -> session.next(late)).hasMessageContaining("ended after 200 ms");
      late.close();
      awaitNobody();
    }
  }

  /** Until the cursor is what is waited for there is nothing to cancel. */
  private static boolean canCancel(Session session) {
    session.cancel();
    return Thread.getAllStackTraces().keySet().stream()
        .noneMatch(t -> t.getName().endsWith("/rows") && t.isAlive());
  }

  private void awaitNobody() throws InterruptedException {
    for (int i = 0; i < 200 && !activity().isEmpty(); i++) {
      Thread.sleep(10);
    }
    assertThat(activity()).isEmpty();
  }

  private List<Object[]> activity() {
    return ((Result.Rows)
            db.run("SELECT number FROM drip.activity WHERE statement NOT LIKE '%activity%'"))
        .rows();
  }

  @Test
  void cursorsHaveABoundAndWhatTheTransactionChangedIsSeenWithoutThem() {
    try (Session session = session("one")) {
      List<RowCursor> open = new ArrayList<>();
      RowCursor next = session.cursor("SELECT k FROM rack", Map.of());
      while (next != null) {
        open.add(next);
        next = session.cursor("SELECT k FROM rack", Map.of());
      }
      assertThat(open).hasSize(100);
      open.remove(0).close();
      open.add(session.cursor("SELECT k FROM rack", Map.of()));
      assertThat(open).doesNotContainNull();
      open.forEach(RowCursor::close);

      session.begin(false, false);
      rowsChanged(session, "DELETE FROM rack WHERE k > 10", ROWS - 10);
      assertThat(session.cursor("SELECT k FROM rack", Map.of())).isNull();
      assertThat(rows(session, "SELECT k FROM rack")).hasSize(10);
      session.rollback();
      assertThat(rows(session, "SELECT k FROM rack")).hasSize(ROWS);
    }
  }

  private static void rowsChanged(Session session, String sql, long rows) {
    assertThat(((Result.Done) session.execute(sql, Map.of(), null)).rows()).isEqualTo(rows);
  }

  /** Going back to before the first change lets others change tables. */
  @Test
  void whoTakesAllItsChangesBackHoldsNobodyUp() {
    try (Session one = session("one");
        Session other = session("other")) {
      one.begin(false, false);
      TableTransactions.Mark start = one.mark();
      rowsChanged(one, "DELETE FROM rack WHERE k = 1", 1);
      TableTransactions.Mark middle = one.mark();
      rowsChanged(one, "UPDATE rack SET n = 0", ROWS - 1);
      assertThatThrownBy(() -> one.execute("INSERT INTO rack (k) VALUES (2)", Map.of(), null))
          .hasMessageContaining("already has a row");
      assertThat(rows(one, "SELECT SUM(n) FROM rack")).containsExactly("[0]");
      one.backTo(middle);
      assertThat(rows(one, "SELECT COUNT(*), MAX(n) FROM rack")).containsExactly("[4999, 35000]");
      one.backTo(start);
      rowsChanged(other, "DELETE FROM rack WHERE k = 2", 1);
      rowsChanged(one, "DELETE FROM rack WHERE k IN (2, 3)", 1);
      one.commit();
      assertThat(rows(other, "SELECT COUNT(*) FROM rack")).containsExactly("[4998]");
    }
  }

  @Test
  void whoOnlyReadsChangesNothing() {
    try (Session session = session("one")) {
      session.readsByDefault(true);
      assertThat(session.onlyReads()).isTrue();
      for (String change :
          List.of("DELETE FROM rack", "CREATE VIEW v AS SELECT 1 AS one", "DROP TABLE rack")) {
        assertThatThrownBy(() -> session.execute(change, Map.of(), null))
            .hasMessageContaining("only reads");
      }
      session.begin(false, false); // says otherwise
      rowsChanged(session, "DELETE FROM rack WHERE k = 1", 1);
      session.commit();
      session.begin(true, false);
      assertThatThrownBy(session::refuseIfOnlyReads)
          .hasMessageContaining("only reads")
          .satisfies(e -> assertThat(((EngineException) e).sqlState()).isEqualTo("25006"));
      session.rollback();
      assertThat(rows(session, "SELECT COUNT(*) FROM rack")).containsExactly("[4999]");
    }
  }
}
