package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.mockito.ArgumentMatchers.any;
import static org.mockito.ArgumentMatchers.anyString;
import static org.mockito.Mockito.mock;
import static org.mockito.Mockito.when;

import dripledger.engine.circuit.Refresher;
import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.Target;
import java.nio.file.Path;
import java.time.Duration;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.function.BooleanSupplier;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/** Deliveries to targets that take, fail, and lose answers, with crashes in between. */
class DeliveryTest {
  private final Map<String, Memory> targets = new HashMap<>(); // by identity
  private final Random random = new Random(3);
  private volatile boolean trouble;
  private volatile boolean away;
  private final Connectors connectors = connectors();
  private TestEngine db = new TestEngine(connectors);

  /** What a target has, and the number that stands with it. */
  private static final class Memory {
    final List<Outgoing> batches = new ArrayList<>();
    long next = -1;
  }

  private Connectors connectors() {
    Connectors mock = mock(Connectors.class);
    when(mock.target(any(), any(), anyString())).thenAnswer(call -> open(call.getArgument(2)));
    when(mock.preview(any(), any(), any()))
        .thenAnswer(
            call ->
                call.<List<Outgoing.Change>>getArgument(2).stream()
                    .map(change -> Arrays.toString(change.after()))
                    .toList());
    return mock;
  }

  private synchronized Target open(String identity) {
    Memory memory = targets.computeIfAbsent(identity, i -> new Memory());
    return new Target() {
      @Override
      public long next() {
        refuseIfAway();
        synchronized (DeliveryTest.this) {
          return memory.next;
        }
      }

      @Override
      public Carried carry(List<Outgoing> batches) {
        refuseIfAway();
        synchronized (DeliveryTest.this) {
          if (trouble && random.nextInt(4) == 0) {
            throw new EngineException(EngineException.Code.FAILED, "it did not take it");
          }
          for (Outgoing batch : batches) {
            assertThat(batch.number()).isGreaterThanOrEqualTo(Math.max(0, memory.next));
            memory.next = batch.number() + 1;
            memory.batches.add(batch);
          }
          if (trouble && random.nextInt(4) == 0) {
            throw new EngineException(EngineException.Code.FAILED, "its answer was lost");
          }
        }
        long rows = batches.stream().mapToLong(b -> b.changes().size()).sum();
        return new Carried(rows, 0, 0, 0);
      }

      @Override
      public void close() {}
    };
  }

  private void refuseIfAway() {
    if (away) {
      throw new EngineException(EngineException.Code.FAILED, "nobody is there");
    }
  }

  @AfterEach
  void close() {
    db.close();
  }

  private static void await(BooleanSupplier condition) {
    long until = System.nanoTime() + Duration.ofSeconds(60).toNanos();
    while (!condition.getAsBoolean()) {
      assertThat(System.nanoTime()).as("in time").isLessThan(until);
      Thread.onSpinWait();
    }
  }

  private synchronized List<String> changes() {
    List<String> changes = new ArrayList<>();
    for (Memory memory : targets.values()) {
      for (Outgoing batch : memory.batches) {
        for (Outgoing.Change c : batch.changes()) {
          changes.add(
              (c.before() == null ? "" : Arrays.toString(c.before()))
                  + (c.expired() ? "!" : ">")
                  + (c.after() == null ? "" : Arrays.toString(c.after())));
        }
      }
    }
    return changes;
  }

  /** What is known of each key, which is the first column. */
  private synchronized List<String> known() {
    Map<Object, String> rows = new HashMap<>();
    for (Memory memory : targets.values()) {
      for (Outgoing batch : memory.batches) {
        for (Outgoing.Change c : batch.changes()) {
          if (c.after() == null) {
            assertThat(rows.remove(c.before()[0])).isNotNull();
          } else {
            rows.put(c.after()[0], Arrays.toString(c.after()));
          }
        }
      }
    }
    return rows.values().stream().sorted().toList();
  }

  private void make(String table, String sink) {
    db.run("CREATE CONNECTION out TYPE file OPTIONS (path '/'); " + table + "; " + sink);
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void whatIsKnownOfEachKeyIsTheAnswerThroughCrashesAndLostAnswers(long seed) {
    Random changing = new Random(seed);
    trouble = true;
    make(
        "CREATE TABLE parcel (id INTEGER PRIMARY KEY, hall VARCHAR, kg INTEGER)",
        "CREATE SINK halls TO out KEY (hall) AS SELECT hall, COUNT(*) AS n, SUM(kg) AS kg FROM parcel GROUP BY"
            + " hall");
    for (int i = 0; i < 120; i++) {
      int id = changing.nextInt(30);
      db.run("DELETE FROM parcel WHERE id = " + id);
      if (changing.nextInt(4) > 0) {
        db.run(
            "INSERT INTO parcel VALUES (%d, 'H%d', %d)"
                .formatted(id, changing.nextInt(4), changing.nextInt(100)));
      }
      if (changing.nextInt(10) == 0) {
        db.checkpoint();
      }
      if (changing.nextInt(15) == 0) {
        db.crash();
      }
    }
    List<String> expected =
        db.rows("SELECT hall, COUNT(*) AS n, SUM(kg) AS kg FROM parcel GROUP BY hall").stream()
            .sorted()
            .toList();
    await(() -> known().equals(expected));
    assertThat(targets).hasSize(1);
  }

  @Test
  void whatIsAppendedArrivesOnceThroughCrashesAndLostAnswers() {
    trouble = true;
    make(
        "CREATE STREAM scan (parcel BIGINT, gate VARCHAR)",
        "CREATE SINK picked TO out AS SELECT parcel FROM scan WHERE gate = 'G1'");
    for (long i = 0; i < 200; i++) {
      db.push("scan", new Object[] {i, "G" + i % 2});
      if (random.nextInt(12) == 0) {
        db.checkpoint();
      }
      if (random.nextInt(25) == 0) {
        db.crash();
      }
    }
    List<String> expected = new ArrayList<>();
    for (int i = 1; i < 200; i += 2) {
      expected.add(">[" + i + "]");
    }
    await(() -> changes().size() >= expected.size());
    assertThat(changes()).containsExactlyInAnyOrderElementsOf(expected);
  }

  @Test
  void anEpochsChangesOfAKeyAreOne() {
    make(
        "CREATE TABLE parcel (id INTEGER PRIMARY KEY, kg INTEGER); INSERT INTO parcel VALUES (1, 5)",
        "CREATE SINK all_of_it TO out OPTIONS (rows 'changes', start 'with snapshot') AS SELECT id, kg FROM parcel");
    await(() -> changes().equals(List.of(">[1, 5]")));
    db.run(
        "BEGIN; UPDATE parcel SET kg = 6 WHERE id = 1; UPDATE parcel SET kg = 7 WHERE id = 1;"
            + " INSERT INTO parcel VALUES (2, 1); DELETE FROM parcel WHERE id = 2; COMMIT");
    db.run("DELETE FROM parcel WHERE id = 1");
    await(() -> changes().size() == 3);
    assertThat(changes()).containsExactly(">[1, 5]", "[1, 5]>[1, 7]", "[1, 7]>");
  }

  @Test
  void onlyWhatACheckpointHoldsIsCarriedAndUpkeepSaysWhen() {
    make(
        "CREATE TABLE parcel (id INTEGER PRIMARY KEY)",
        "CREATE SINK ids TO out KEY (id) OPTIONS (upkeep 'every 10 minutes') AS SELECT id FROM parcel");
    db.run("INSERT INTO parcel VALUES (1)");
    db.checkpoint();
    assertThat(changes()).isEmpty();
    assertThat(db.rows("SHOW SINKS").get(0)).contains("[ids, out, upsert, waiting, null, 0, 1, ");
    db.crash();
    db.clock(TestEngine.CLOCK.instant().plusSeconds(601));
    await(() -> changes().equals(List.of(">[1]")));
    db.run("INSERT INTO parcel VALUES (2)");
    assertThat(((Result.Done) db.run("REFRESH SINK ids")).message())
        .startsWith("refreshed ids: 1 put in, 0 changed, 0 unchanged, 0 removed, in ");
    db.run("ALTER SINK ids SET (upkeep 'continuous'); INSERT INTO parcel VALUES (3)");
    await(() -> changes().contains(">[3]"));
    assertThat(((Result.Rows) db.run("DESCRIBE ids")).note())
        .contains("rows 'upsert', upkeep continuous; delivering");
  }

  @Test
  void aTargetThatIsAwayHoldsNobodyUpAndARefreshSaysWhy() {
    make(
        "CREATE TABLE parcel (id INTEGER PRIMARY KEY)",
        "CREATE SINK ids TO out KEY (id) AS SELECT id FROM parcel");
    away = true;
    db.run("INSERT INTO parcel VALUES (1)");
    assertThat(db.error("REFRESH SINK ids").getMessage()).isEqualTo("nobody is there");
    await(() -> db.rows("SHOW SINKS").get(0).contains("failing"));
    assertThat(db.rows("SHOW SINKS").get(0)).contains("nobody is there");
    assertThat(db.value("SELECT COUNT(*) FROM parcel")).isEqualTo(1L);
    away = false;
    await(() -> changes().equals(List.of(">[1]")));
    await(() -> db.rows("SHOW SINKS").get(0).contains("delivering"));
  }

  @Test
  void oneForWhichTooMuchWaitsEndsAndStaysEndedAndCarriesWhatItHas(@TempDir Path waiting) {
    db.close();
    EngineOptions options =
        new EngineOptions(
            1000,
            1 << 20,
            1000,
            10,
            1L << 30,
            5000,
            60_000,
            1L << 30,
            30_000,
            2,
            1,
            new Refresher.Bounds(waiting, 400),
            100);
    Records records = TestEngine.records();
    Engine engine = new Engine(options, records, connectors, TestEngine.CLOCK);
    engine.start();
    away = true;
    engine.execute(
        "CREATE CONNECTION out TYPE file OPTIONS (path '/'); CREATE TABLE parcel (id INTEGER PRIMARY KEY);"
            + " CREATE SINK ids TO out KEY (id) AS SELECT id FROM parcel");
    for (int i = 0; i < 40; i++) {
      engine.execute("INSERT INTO parcel VALUES (" + i + ")");
    }
    engine.checkpointer().request().join();
    engine.close();
    Engine again = new Engine(options, records, connectors, TestEngine.CLOCK);
    again.start();
    away = false;
    await(() -> shown(again).contains("stopped") && changes().size() > 2);
    assertThat(shown(again)).contains("more than 400 bytes wait for the target");
    again.execute("INSERT INTO parcel VALUES (100)");
    again.checkpointer().request().join();
    assertThat(changes()).hasSizeLessThan(40).doesNotContain(">[100]");
    again.close();
    db = new TestEngine(connectors);
  }

  private static String shown(Engine engine) {
    Result.Rows rows = (Result.Rows) engine.execute("SHOW SINKS").get(0);
    return Arrays.toString(rows.rows().get(0));
  }

  @Test
  void itIsShownBeforeItIsMade() {
    db.run(
        "CREATE CONNECTION out TYPE file OPTIONS (path '/'); CREATE TABLE parcel (id INTEGER PRIMARY KEY);"
            + " INSERT INTO parcel VALUES (1)");
    assertThat(db.rows("EXPLAIN CREATE SINK ids TO out AS SELECT id FROM parcel"))
        .containsExactly("[[1]]");
    assertThat(db.rows("SHOW SINKS")).isEmpty();
  }

  @Test
  void whatCannotBeCarriedIsRefused() {
    make(
        "CREATE TABLE parcel (id INTEGER PRIMARY KEY, hall VARCHAR); CREATE STREAM scan (id INTEGER)",
        "CREATE SINK ids TO out AS SELECT id FROM parcel");
    assertThat(db.error("CREATE OR REPLACE SINK ids TO out AS SELECT id FROM parcel").hint())
        .isEqualTo("DROP SINK, then CREATE SINK");
    assertThat(db.error("CREATE SINK x TO out AS SELECT hall FROM parcel").getMessage())
        .isEqualTo("nothing tells the rows apart, so one cannot be put in the place of another");
    assertThat(
            db.error("CREATE SINK x TO out OPTIONS (colour 'red') AS SELECT id FROM scan").hint())
        .contains("rows, start and upkeep");
    assertThat(db.error("CREATE SINK x TO out OPTIONS (start 'soon') AS SELECT id FROM scan"))
        .hasMessage("start is 'now' or 'with snapshot', not 'soon'");
    assertThat(db.error("CREATE SINK x TO nowhere AS SELECT id FROM scan"))
        .hasMessage("no connection \"nowhere\"");
    assertThat(db.error("DROP TABLE parcel").getMessage()).contains("sink ids reads from it");
    assertThat(db.error("DROP CONNECTION out").getMessage()).contains("sink ids");
    db.run("DROP TABLE parcel CASCADE");
    assertThat(db.rows("SHOW SINKS")).isEmpty();
  }
}
