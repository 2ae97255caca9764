package dripledger.engine;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.definition.ViewState;
import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import dripledger.engine.query.Subscription;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Ledger;
import java.time.Clock;
import java.time.Instant;
import java.time.ZoneId;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;

/** An engine in memory with the few words tests need. */
public final class TestEngine implements AutoCloseable {
  static final Clock CLOCK = Clock.fixed(Instant.parse("2026-03-02T06:00:00Z"), ZoneOffset.UTC);

  private static final int WORKERS = Integer.getInteger("drip.workers", 2);

  final Records records;
  private final int workers;
  final MemoryCheckpoints checkpoints;
  private final Connectors connectors;
  private final SetClock clock = new SetClock();
  Engine engine;

  TestEngine() {
    this(Connectors.NONE);
  }

  TestEngine(Connectors connectors) {
    this(records(), connectors);
  }

  TestEngine(Records records, Connectors connectors) {
    this(records, connectors, WORKERS);
  }

  /**
   * @param workers how many threads step an epoch
   */
  TestEngine(Records records, Connectors connectors, int workers) {
    this.workers = workers;
    this.records = records;
    this.connectors = connectors;
    checkpoints = (MemoryCheckpoints) records.checkpoints();
    start();
  }

  /** A clock that says what it was told last. */
  static final class SetClock extends Clock {
    private volatile Instant now = CLOCK.instant();

    @Override
    public Instant instant() {
      return now;
    }

    @Override
    public ZoneId getZone() {
      return ZoneOffset.UTC;
    }

    @Override
    public Clock withZone(ZoneId zone) {
      throw new UnsupportedOperationException("it has no other");
    }
  }

  /** Sets the time of day, forward or back. */
  void clock(Instant now) {
    clock.now = now;
  }

  /** New, empty records. */
  public static Records records() {
    MemoryCheckpoints checkpoints = new MemoryCheckpoints();
    return new Records(
        new MemoryLedger(),
        new MemoryDefinitions(),
        checkpoints,
        checkpoints,
        new MemoryUpkeep(),
        new MemoryAccess());
  }

  /** What a materialized view keeps and fails on. */
  ViewState state(String view) {
    return engine.state((CatalogObject.MaterializedView) engine.object(view));
  }

  private void start() {
    engine = new Engine(options(workers), records, connectors, clock);
    engine.start();
  }

  /** The usual bounds; workers are called for every epoch, however few rows it has. */
  private static EngineOptions options(int workers) {
    EngineOptions usual = EngineOptions.defaults();
    return new EngineOptions(
        usual.maxEpochRows(),
        usual.maxQueuedBytes(),
        usual.maxResultRows(),
        usual.maxFollowerRows(),
        usual.maxHeldBytes(),
        usual.checkpointMillis(),
        usual.queryMillis(),
        usual.maxQueryBytes(),
        usual.changeMillis(),
        workers,
        1);
  }

  /** Makes a checkpoint now. */
  void checkpoint() {
    engine.checkpointer().request().join();
  }

  /** Ends as if killed: what is not in a checkpoint or the ledger is lost. Starts again. */
  void crash() {
    checkpoints.refuse(true);
    engine.close();
    checkpoints.refuse(false);
    start();
  }

  /** Runs a script and answers the last result's message or rows. */
  Result run(String script) {
    List<Result> results = engine.execute(script);
    return results.get(results.size() - 1);
  }

  Result run(String script, Map<String, Object> arguments) {
    List<Result> results = new ArrayList<>();
    engine.execute(script, arguments, results::add);
    return results.get(results.size() - 1);
  }

  /** The rows of a query, each as a list, as text of its boxed values. */
  List<String> rows(String query) {
    return ((Result.Rows) run(query)).rows().stream().map(Arrays::toString).toList();
  }

  /** The single value of a query. */
  Object value(String query) {
    List<Object[]> rows = ((Result.Rows) run(query)).rows();
    return rows.get(0)[0];
  }

  EngineException error(String script) {
    try {
      run(script);
    } catch (EngineException e) {
      return e;
    }
    throw new AssertionError("no error from: " + script);
  }

  /** Appends boxed events to a stream and waits until the views show them. */
  void push(String stream, Object[]... events) {
    pushFrom(stream, 0, events);
  }

  /** As above, from one of several partitions. */
  void pushFrom(String stream, int partition, Object[]... events) {
    CatalogObject.Stream s = (CatalogObject.Stream) engine.object(stream);
    Page page = new Page(new RowLayout(s.schema()));
    for (Object[] event : events) {
      BoxedRows.write(page.begin(), event);
      page.commit(1);
    }
    Ledger.Entry entry = new Ledger.Entry(s.id(), page, partition);
    engine.awaitApplied(records.ledger().append(List.of(entry)).join().sequence());
  }

  /** The changes of a batch, each with its sign. */
  static List<String> changes(Subscription.Batch batch) {
    return batch.changes().stream()
        .map(c -> (c.weight() > 0 ? "+" : "-") + Arrays.toString(c.row()))
        .toList();
  }

  @Override
  public void close() {
    engine.close();
  }
}
