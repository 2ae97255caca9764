package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import dripledger.engine.source.Connectors;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.atomic.AtomicReference;
import java.util.stream.Collectors;
import java.util.stream.IntStream;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.Test;

/** One expression cannot take the service: it answers, or is refused, without much work. */
class BoundsTest {
  private final TestEngine db = new TestEngine();

  @AfterEach
  void close() {
    db.close();
  }

  @Test
  void hugeExponentsAreRefusedAndTinyOnesAreZero() {
    for (String type : new String[] {"DECIMAL(10, 2)", "DECIMAL(38, 10)"}) {
      for (String huge : new String[] {"1e16000000", "-9e999999999", "1e38"}) {
        EngineException e = db.error("SELECT CAST('" + huge + "' AS " + type + ") AS d");
        assertThat(e.getMessage()).as(huge).containsAnyOf("out of range", "does not fit");
      }
      assertThat(db.rows("SELECT CAST('1e-16000000' AS " + type + ") = 0 AS d"))
          .containsExactly("[true]");
    }
    assertThat(db.error("SELECT CAST('" + "9".repeat(100_000) + "' AS DECIMAL(10, 2)) AS d"))
        .hasMessageContaining("1000 characters");
    assertThat(
            db.rows(
                "SELECT CAST('0.005' AS DECIMAL(3, 2)) AS a, CAST('-0.005' AS DECIMAL(3, 2))"
                    + " AS b, CAST('0.0049' AS DECIMAL(3, 2)) AS c, CAST('9.994' AS DECIMAL(3, 2)) AS d"))
        .containsExactly("[0.01, -0.01, 0.00, 9.99]");
    assertThat(db.error("SELECT CAST('9.995' AS DECIMAL(3, 2)) AS d")).isNotNull();
  }

  @Test
  void patternsAreMatchedWithoutGoingBackForEver() {
    db.run("CREATE TABLE t (k INTEGER PRIMARY KEY, text VARCHAR)");
    db.run("INSERT INTO t VALUES (1, REPEAT('a', 500000)), (2, '" + "a".repeat(100) + "b')");
    assertThat(db.rows("SELECT k FROM t WHERE text LIKE '%a%a%a%a%a%a%a%a%b'"))
        .containsExactly("[2]");
  }

  private static Engine withParcels(long millis, long bytes) {
    EngineOptions bounds =
        new EngineOptions(65_536, 64 << 20, 1000, 10, 1L << 30, 5000, millis, bytes, 30_000, 2, 1);
    Engine engine = new Engine(bounds, TestEngine.records(), Connectors.NONE, TestEngine.CLOCK);
    engine.start();
    engine.execute("CREATE TABLE parcel (parcel INTEGER PRIMARY KEY)");
    engine.execute(
        "INSERT INTO parcel VALUES "
            + IntStream.range(0, 5000)
                .mapToObj(i -> "(" + i + ")")
                .collect(Collectors.joining(",")));
    return engine;
  }

  private static final String TWO = " FROM parcel AS a, parcel AS b ";
  private static final String THREE = " FROM parcel AS a, parcel AS b, parcel AS c ";

  @Test
  void aQueryEndsWithItsTime() {
    try (Engine engine = withParcels(700, Long.MAX_VALUE)) {
      // 125 thousand million pairs
      assertThatThrownBy(
              () ->
                  engine.execute(
                      "SELECT COUNT(*) AS n" + THREE + "WHERE a.parcel + b.parcel < c.parcel"))
          .hasMessage("the query was ended after 700 ms")
          .extracting(e -> ((EngineException) e).hint())
          .asString()
          .contains("drip.query-millis");
      engine.execute("INSERT INTO parcel VALUES (-1)"); // goes on
    }
  }

  @Test
  void oneQueryCannotTakeTheHeap() throws Exception {
    try (Engine engine = withParcels(0, 16 << 20)) {
      assertThatThrownBy(() -> engine.execute("SELECT a.parcel, b.parcel AS other" + TWO))
          .hasMessage("the answer has more than 1000 rows");
      assertThat(
              ((Result.Rows)
                      engine.execute("SELECT a.parcel, b.parcel AS other" + TWO + "LIMIT 3").get(0))
                  .rows())
          .hasSize(3);
      assertThatThrownBy(
              () ->
                  engine.execute(
                      "SELECT a.parcel, b.parcel AS other, COUNT(*) AS n"
                          + TWO
                          + "GROUP BY a.parcel, b.parcel"))
          .hasMessage("the query needed more than 16 MB");
      AtomicReference<Throwable> failed = new AtomicReference<>();
      Thread asking =
          new Thread(
              () -> {
                Thread.currentThread().interrupt();
                assertThatThrownBy(
                        () ->
                            engine.execute(
                                "SELECT COUNT(*) AS n" + TWO + "WHERE a.parcel <> b.parcel"))
                    .hasMessage("the query was cancelled");
              });
      asking.setUncaughtExceptionHandler((t, e) -> failed.set(e));
      asking.start();
      asking.join();
      assertThat(failed.get()).isNull();
      engine.execute("INSERT INTO parcel VALUES (-1)"); // goes on
    }
  }

  @Test
  void aScriptIsCancelledByItsId() throws Exception {
    try (Engine engine = withParcels(0, Long.MAX_VALUE)) {
      assertThat(engine.scripts().cancel("count", engine.access().owner())).isFalse();
      AtomicReference<Throwable> ended = new AtomicReference<>();
      List<Result> results = new ArrayList<>();
      String script =
          "SELECT 1 AS one; SELECT COUNT(*) AS n" + THREE + "WHERE a.parcel <> b.parcel";
      Thread asking =
          new Thread(
              () ->
                  engine.execute(script, Map.of(), "count", engine.access().owner(), results::add));
      asking.setUncaughtExceptionHandler((t, e) -> ended.set(e));
      asking.start();
      while (engine.scripts().all().stream().noneMatch(s -> "count".equals(s.id()))) {
        Thread.onSpinWait();
      }
      assertThat(engine.scripts().all().get(0).text()).isEqualTo(script);
      assertThat(engine.scripts().cancel("count", engine.access().owner())).isTrue();
      asking.join();
      assertThat(ended.get()).hasMessageContaining("was cancelled");
      assertThat(results).hasSizeLessThanOrEqualTo(1);
      assertThat(engine.scripts().all()).isEmpty();
      assertThat(engine.scripts().cancel("count", engine.access().owner())).isFalse();
      engine.execute(
          "INSERT INTO parcel VALUES (-1)",
          Map.of(),
          "count",
          engine.access().owner(),
          results::add); // goes on
    }
  }

  @Test
  void nothingGrowsBeyondWhatARowMayHold() {
    String half = "REPEAT('a', 400000)";
    for (String expression :
        new String[] {
          "REPLACE(REPEAT('a', 524288), 'a', REPEAT('b', 2000))",
          half + " || " + half,
          "CONCAT(" + half + ", 1, " + half + ")",
          "LPAD('a', 600000)"
        }) {
      assertThat(db.error("SELECT CHAR_LENGTH(" + expression + ") AS n"))
          .as(expression)
          .hasMessageContaining("512 KiB");
    }
    assertThat(db.rows("SELECT REPLACE('abab', 'ab', 'xyz') AS a, REPLACE('aa', 'a', '') AS b"))
        .containsExactly("[xyzxyz, ]");
  }

  @Test
  void deepNestingIsRefusedWithASentence() {
    String deep = "(".repeat(20_000) + "1" + ")".repeat(20_000);
    assertThat(db.error("SELECT " + deep + " AS x")).hasMessageContaining("nested too deeply");
    String not = "NOT ".repeat(20_000);
    assertThat(db.error("SELECT " + not + "TRUE AS x")).hasMessageContaining("nested too deeply");
    assertThat(db.rows("SELECT " + "(".repeat(50) + "1" + ")".repeat(50) + " AS x"))
        .containsExactly("[1]");
  }
}
