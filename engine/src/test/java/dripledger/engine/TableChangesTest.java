package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.query.Result;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.PartitionSink;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.function.LongFunction;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.Test;

/** INSERT, UPDATE and DELETE when the ledger is slow to answer. */
class TableChangesTest {
  private final SlowLedger ledger = new SlowLedger();
  private final Engine engine = engine();

  private Engine engine() {
    MemoryCheckpoints checkpoints = new MemoryCheckpoints();
    EngineOptions hasty =
        new EngineOptions(1000, 1 << 20, 1000, 10, 1L << 30, 5000, 60_000, 1L << 30, 200, 2, 1);
    Engine made =
        new Engine(
            hasty,
            new Records(
                ledger,
                new MemoryDefinitions(),
                checkpoints,
                checkpoints,
                new MemoryUpkeep(),
                new MemoryAccess()),
            Connectors.NONE,
            TestEngine.CLOCK);
    made.start();
    made.execute("CREATE TABLE acct (id INTEGER PRIMARY KEY, cents INTEGER)");
    return made;
  }

  @AfterEach
  void close() {
    ledger.release();
    engine.close();
  }

  private Object value(String query) {
    return ((Result.Rows) engine.execute(query).get(0)).rows().get(0)[0];
  }

  private static EngineException error(Runnable action) {
    try {
      action.run();
    } catch (EngineException e) {
      return e;
    }
    throw new AssertionError("no error");
  }

  @Test
  void aChangeThatIsStillOnItsWayIsNotMadeTwice() throws Exception {
    ledger.hold();
    EngineException late = error(() -> engine.execute("INSERT INTO acct VALUES (1, 10)"));
    assertThat(late.code()).isEqualTo(Code.UNAVAILABLE);
    assertThat(late.getMessage()).contains("has not acknowledged it");
    String id = late.hint().replaceFirst(".*/changes/(\\S+) .*", "$1");
    assertThat(engine.outcome(id)).isEqualTo(-1);
    // Tried again, as people do: others must see the first, so nothing is done.
    EngineException again = error(() -> engine.execute("INSERT INTO acct VALUES (1, 10)"));
    assertThat(again.code()).isEqualTo(Code.UNAVAILABLE);
    assertThat(again.hint()).contains("nothing was changed");
    ledger.release();
    EngineException twice = error(() -> engine.execute("INSERT INTO acct VALUES (1, 10)"));
    assertThat(twice.code()).isEqualTo(Code.CONSTRAINT);
    assertThat(engine.outcome(id)).isPositive();
    engine.execute("UPDATE acct SET cents = cents + 1");
    assertThat(value("SELECT SUM(cents) FROM acct")).isEqualTo(11L);
    assertThat(value("SELECT COUNT(*) FROM acct")).isEqualTo(1L);
  }

  @Test
  void aRequestWithAnIdIsMadeOnceHoweverOftenItIsSent() {
    String script =
        "INSERT INTO acct VALUES (1, 10); UPDATE acct SET cents = cents + 5;"
            + "BEGIN; UPDATE acct SET cents = cents * 2; DELETE FROM acct WHERE id = 3; COMMIT;"
            + "SELECT cents FROM acct";
    List<Result> answers = new ArrayList<>();
    engine.execute(script, Map.of(), "order-7", engine.access().owner(), answers::add);
    engine.execute(script, Map.of(), "order-7", engine.access().owner(), answers::add);
    assertThat(((Result.Done) answers.get(7)).message()).contains("made before");
    assertThat(((Result.Rows) answers.get(13)).rows().get(0)[0]).isEqualTo(30L);
    assertThat(engine.outcome("order-7/3")).isPositive();
    assertThat(engine.outcome("order-7/4")).isEqualTo(-1);
    engine.execute(
        "UPDATE acct SET cents = 1", Map.of(), "order-8", engine.access().owner(), answers::add);
    assertThat(value("SELECT cents FROM acct")).isEqualTo(1L);
  }

  @Test
  void changesThatDoNotFitTogetherStopTheirTableAndNotTheStart() {
    engine.execute("CREATE TABLE other (id INTEGER PRIMARY KEY)");
    engine.execute("INSERT INTO acct VALUES (1, 10); INSERT INTO other VALUES (1)");
    ledger.repeatFirst(); // as a fault of an earlier release could have left it
    engine.close();
    MemoryCheckpoints none = new MemoryCheckpoints();
    MemoryDefinitions definitions = new MemoryDefinitions();
    try (Engine again =
        new Engine(
            EngineOptions.defaults(),
            new Records(ledger, definitions, none, none, new MemoryUpkeep(), new MemoryAccess()),
            Connectors.NONE,
            TestEngine.CLOCK)) {
      again.start();
      again.execute("CREATE TABLE acct (id INTEGER PRIMARY KEY, cents INTEGER)");
      again.execute("CREATE TABLE other (id INTEGER PRIMARY KEY)");
    }
    MemoryCheckpoints lost = new MemoryCheckpoints();
    try (Engine again =
        new Engine(
            EngineOptions.defaults(),
            new Records(ledger, definitions, lost, lost, new MemoryUpkeep(), new MemoryAccess()),
            Connectors.NONE,
            TestEngine.CLOCK)) {
      again.start();
      assertThatThrownBy(() -> again.execute("SELECT * FROM acct"))
          .hasMessageContaining("has stopped");
      assertThat(((Result.Rows) again.execute("SELECT * FROM other").get(0)).rows()).hasSize(1);
    }
  }

  /** A ledger that answers only when it is told to. */
  private static final class SlowLedger implements Ledger {
    private final MemoryLedger ledger = new MemoryLedger();
    private final List<Runnable> held = new ArrayList<>();
    private boolean holding;
    private List<Entry> first;

    synchronized void hold() {
      holding = true;
    }

    synchronized void release() {
      holding = false;
      held.forEach(Runnable::run);
      held.clear();
    }

    void repeatFirst() {
      ledger.append(first, InputProgress.NOTHING, null).join();
    }

    @Override
    public void receiver(Receiver receiver) {
      ledger.receiver(receiver);
    }

    @Override
    public synchronized CompletableFuture<Receipt> append(
        List<Entry> entries, InputProgress settled, String id) {
      if (first == null) {
        first = entries;
      }
      CompletableFuture<Receipt> answer = new CompletableFuture<>();
      Runnable append = () -> answer.complete(ledger.append(entries, settled, id).join());
      if (holding) {
        held.add(append);
      } else {
        append.run();
      }
      return answer;
    }

    @Override
    public long made(String id) {
      return ledger.made(id);
    }

    @Override
    public Map<Long, SourcePosition> positions() {
      return ledger.positions();
    }

    @Override
    public long lastSequence() {
      return ledger.lastSequence();
    }

    @Override
    public void widen(long relationId, RowLayout layout, Widener widener) {}

    @Override
    public long forgotten(long relationId) {
      return 0;
    }

    @Override
    public long position(long relationId) {
      return ledger.position(relationId);
    }

    @Override
    public void read(long relationId, Page template, long after, long through, PartitionSink sink) {
      ledger.read(relationId, template, after, through, sink);
    }

    @Override
    public void replay(long after, LongFunction<Page> template, Receiver sink) {
      ledger.replay(after, template, sink);
    }

    @Override
    public void close() {}
  }

  @Test
  void whatChangedNothingOrWasRolledBackCountsAmongTheChangesOfARequest() {
    String script =
        "DELETE FROM acct WHERE id = 99; INSERT INTO acct VALUES (1, 10);"
            + "BEGIN; UPDATE acct SET cents = 0; ROLLBACK; UPDATE acct SET cents = cents + 1";
    List<Result> answers = new ArrayList<>();
    engine.execute(script, Map.of(), "order-9", engine.access().owner(), answers::add);
    engine.execute(script, Map.of(), "order-9", engine.access().owner(), answers::add);
    assertThat(value("SELECT SUM(cents) FROM acct")).isEqualTo(11L);
    assertThat(value("SELECT COUNT(*) FROM acct")).isEqualTo(1L);
    assertThat(engine.outcome("order-9/4")).isPositive();
    // What changed nothing then would now.
    String renewed = "DELETE FROM acct WHERE id = 2; INSERT INTO acct VALUES (2, 5)";
    engine.execute(renewed, Map.of(), "order-10", engine.access().owner(), answers::add);
    engine.execute(renewed, Map.of(), "order-10", engine.access().owner(), answers::add);
    assertThat(value("SELECT SUM(cents) FROM acct")).isEqualTo(16L);
  }
}
