package dripledger.engine;

import dripledger.engine.EngineException.Code;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.circuit.EpochLoop;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.SqlFrontEnd;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.time.Clock;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.locks.ReentrantLock;
import java.util.function.Consumer;

/**
 * The engine: statements in, answers out. All methods are safe from any thread unless they say
 * otherwise; reads never wait for the epoch loop, changes wait until they are durable and shown.
 */
public final class Engine implements AutoCloseable {
  private static final int REPLAY_ROWS = 50_000;
  private static final long APPLY_TIMEOUT_MILLIS = 60_000;

  private final EngineOptions options;
  private final Ledger ledger;
  private final DefinitionStore store;
  private final Clock clock;
  private final SqlFrontEnd frontEnd = new SqlFrontEnd();
  private final EpochLoop loop;
  private final QueryRunner runner;
  private final Definitions definitions;
  private final Introspection introspection;
  private final ReentrantLock definitionLock = new ReentrantLock();
  private final ReentrantLock tableLock = new ReentrantLock();

  /** Loads what is defined and replays the ledger; {@link #start} sets it going. */
  public Engine(EngineOptions options, Ledger ledger, DefinitionStore store, Clock clock) {
    this.options = options;
    this.ledger = ledger;
    this.store = store;
    this.clock = clock;
    loop =
        new EpochLoop(
            new EpochLoop.Limits(options.maxEpochRows(), options.maxQueuedBytes()),
            store::reserveEpochs,
            0);
    runner = new QueryRunner(ledger, options.maxResultRows());
    definitions = new Definitions(store, loop, runner, frontEnd);
    introspection = new Introspection(definitions, ledger);
  }

  /** Recovers from the ledger, then starts the epoch loop. Called once. */
  public void start() {
    definitions.load();
    List<EpochLoop.Change> gathered = new ArrayList<>();
    int[] rows = new int[1];
    long[] last = new long[1];
    Map<Long, RowLayout> layouts = new HashMap<>();
    for (CatalogObject o : catalog().all()) {
      layouts.put(o.id(), new RowLayout(o.schema()));
    }
    ledger.replay(
        0,
        id -> layouts.containsKey(id) ? new Page(layouts.get(id)) : null,
        (sequence, entries) -> {
          for (Ledger.Entry e : entries) {
            gathered.add(new EpochLoop.Change(e.relationId(), e.changes()));
            rows[0] += e.changes().size();
          }
          last[0] = sequence;
          if (rows[0] >= REPLAY_ROWS) {
            loop.stepNow(sequence, gathered);
            gathered.clear();
            rows[0] = 0;
          }
        });
    // Also of nothing: views without input have rows, and the first epoch is published.
    loop.stepNow(Math.max(last[0], ledger.lastSequence()), gathered);
    ledger.receiver(
        (sequence, entries) ->
            loop.submit(
                sequence,
                entries.stream()
                    .map(e -> new EpochLoop.Change(e.relationId(), e.changes()))
                    .toList()));
    loop.start();
  }

  public Catalog catalog() {
    return definitions.catalog();
  }

  /** All relations at the newest epoch. */
  public Snapshot snapshot() {
    return loop.snapshot();
  }

  public EpochLoop loop() {
    return loop;
  }

  /** The live figures of an object, or null for a plain view. */
  public LiveNode node(CatalogObject object) {
    return definitions.node(object.id());
  }

  public EngineOptions options() {
    return options;
  }

  private long nowMicros() {
    java.time.Instant now = clock.instant();
    return now.getEpochSecond() * 1_000_000 + now.getNano() / 1000;
  }

  /** The object of this name. */
  public CatalogObject object(String name) {
    CatalogObject object = catalog().find(name);
    if (object == null) {
      throw new EngineException(
          Code.NOT_FOUND,
          "no stream, table or view \"" + name + "\"",
          "SHOW STREAMS, SHOW TABLES and SHOW VIEWS list what there is");
    }
    return object;
  }

  /** The newest version of a table or materialized view. */
  public RelationVersion relation(String name) {
    return relation(object(name), snapshot());
  }

  /** The version of a table or materialized view in a snapshot. */
  public static RelationVersion relation(CatalogObject object, Snapshot snapshot) {
    RelationVersion version = snapshot.relation(object.id());
    if (version == null) {
      throw new EngineException(
          Code.INVALID,
          "\"" + object.name() + "\" is a " + object.kind() + " and keeps no rows to look up",
          "look up in a materialized view or a table");
    }
    return version;
  }

  /**
   * Runs the statements of a script in order and gives each result as it is there; stops at the
   * first error, which it throws. What was done before stays done.
   *
   * @param arguments values of :name parameters
   */
  public void execute(String script, Map<String, Object> arguments, Consumer<Result> sink) {
    try (Transaction transaction = new Transaction()) {
      for (SqlFrontEnd.Parsed parsed : frontEnd.parse(script)) {
        Command command = frontEnd.check(parsed, catalog(), arguments, nowMicros());
        sink.accept(execute(command, parsed.text(), transaction));
      }
      transaction.finish();
    }
  }

  /** As {@link #execute(String, Map, Consumer)}, with all results at the end. */
  public List<Result> execute(String script) {
    List<Result> results = new ArrayList<>();
    execute(script, Map.of(), results::add);
    return results;
  }

  private Result execute(Command command, String sql, Transaction transaction) {
    if (command instanceof Command.Query q) {
      return runner.answer(q.plan(), transaction.snapshot());
    }
    if (command instanceof Command.Insert
        || command instanceof Command.Update
        || command instanceof Command.Delete) {
      return transaction.change(command);
    }
    if (command instanceof Command.Transaction t) {
      return transaction.step(t.step());
    }
    if (command instanceof Command.Show s) {
      return introspection.show(s.kind(), snapshot());
    }
    if (command instanceof Command.Describe d) {
      return introspection.describe(d.name(), snapshot());
    }
    if (command instanceof Command.Explain e) {
      return introspection.explain(e, snapshot());
    }
    if (command instanceof Command.Follow) {
      throw new EngineException(
          Code.INVALID,
          "FOLLOW has no end, so it cannot be answered here",
          "use drip follow, or GET /api/v1/follow?sql=…");
    }
    transaction.refuseDefinitions();
    definitionLock.lock();
    try {
      return command instanceof Command.Drop d
          ? definitions.drop(d)
          : definitions.create(sql, command);
    } finally {
      definitionLock.unlock();
    }
  }

  /**
   * Follows a query: FOLLOW SELECT …, SELECT … or the name of a view.
   *
   * @return the answer and its changes; close it when done
   */
  public Subscription follow(String sql, Map<String, Object> arguments) {
    List<SqlFrontEnd.Parsed> statements = frontEnd.parse(sql);
    if (statements.size() != 1) {
      throw new EngineException(Code.INVALID, "one query can be followed at a time", null);
    }
    String text = statements.get(0).text();
    boolean says = text.regionMatches(true, 0, "FOLLOW", 0, 6);
    SqlFrontEnd.Parsed parsed = says ? statements.get(0) : frontEnd.parse("FOLLOW " + text).get(0);
    definitionLock.lock();
    try {
      Command command = frontEnd.check(parsed, catalog(), arguments, nowMicros());
      if (!(command instanceof Command.Follow follow)) {
        throw new EngineException(Code.INVALID, "only a query can be followed", null);
      }
      return definitions.follow(follow.plan(), options.maxFollowerRows());
    } catch (EngineException e) {
      // Places count in the text as it was given, not as it was completed.
      int moved = says || e.line() != 1 ? 0 : "FOLLOW ".length();
      throw new EngineException(
          e.code(), e.getMessage(), e.line(), Math.max(0, e.column() - moved), e.hint());
    } finally {
      definitionLock.unlock();
    }
  }

  /**
   * Appends events to a stream; completes once they are durable.
   *
   * @throws EngineException (LIMIT) if the views hold as much as they may; nothing was taken then
   */
  public CompletableFuture<Ledger.Receipt> append(CatalogObject.Stream stream, Page events) {
    refuseIfFull();
    return ledger.append(List.of(new Ledger.Entry(stream.id(), events)));
  }

  /** More state than the bound would end the process; refusing what is new does not. */
  private void refuseIfFull() {
    if (loop.heldBytes() > options.maxHeldBytes()) {
      throw new EngineException(
          Code.LIMIT,
          "the views hold "
              + loop.heldBytes() / 1_000_000
              + " MB, which is all they may; nothing new is taken in",
          "drop a view, or raise drip.max-held-bytes and the heap");
    }
  }

  /** Changes a stream or table has been given, all time. */
  public long position(CatalogObject object) {
    return ledger.position(object.id());
  }

  /** Waits until the views show an append; answers the epoch that does. */
  public long awaitApplied(long sequence) {
    try {
      return loop.awaitSequence(sequence, APPLY_TIMEOUT_MILLIS);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
  }

  /** Stops the epoch loop after the current epoch. The ledger is not closed. */
  @Override
  public void close() {
    loop.close();
    store.returnEpochs(loop.snapshot().epoch() + 1);
  }

  /**
   * The changes to tables of one script: each statement alone, or what BEGIN and COMMIT enclose.
   */
  private final class Transaction implements AutoCloseable {
    private TableChanges changes;
    private boolean explicit;

    Snapshot snapshot() {
      return changes == null ? loop.snapshot() : changes.snapshot();
    }

    private TableChanges open() {
      if (changes == null) {
        tableLock.lock();
        changes = new TableChanges(catalog(), runner, loop.snapshot(), nowMicros());
      }
      return changes;
    }

    Result change(Command command) {
      try {
        TableChanges open = open();
        String message;
        if (command instanceof Command.Insert i) {
          refuseIfFull();
          message = open.insert(i);
        } else if (command instanceof Command.Update u) {
          message = open.update(u);
        } else {
          message = open.delete((Command.Delete) command);
        }
        return explicit
            ? new Result.Done(message + " (at COMMIT)", loop.snapshot().epoch())
            : new Result.Done(message, commit());
      } catch (RuntimeException e) {
        abandon();
        throw e;
      }
    }

    Result step(Command.Transaction.Step step) {
      if (step == Command.Transaction.Step.BEGIN) {
        if (explicit) {
          throw new EngineException(Code.INVALID, "BEGIN inside BEGIN", "COMMIT first");
        }
        explicit = true;
        return new Result.Done("begun", loop.snapshot().epoch());
      }
      if (!explicit) {
        throw new EngineException(Code.INVALID, step + " without BEGIN", null);
      }
      explicit = false;
      if (step == Command.Transaction.Step.ROLLBACK) {
        abandon();
        return new Result.Done("rolled back", loop.snapshot().epoch());
      }
      return new Result.Done("committed", changes == null ? loop.snapshot().epoch() : commit());
    }

    private long commit() {
      try {
        List<Ledger.Entry> entries = changes.entries();
        if (entries.isEmpty()) {
          return loop.snapshot().epoch();
        }
        long sequence =
            ledger.append(entries).get(APPLY_TIMEOUT_MILLIS, TimeUnit.MILLISECONDS).sequence();
        return awaitApplied(sequence);
      } catch (ExecutionException | java.util.concurrent.TimeoutException e) {
        throw new EngineException(
            Code.FAILED, "the change could not be made durable: " + e.getMessage(), "try again");
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        throw new IllegalStateException("interrupted", e);
      } finally {
        abandon();
      }
    }

    private void abandon() {
      if (changes != null) {
        changes = null;
        tableLock.unlock();
      }
    }

    void refuseDefinitions() {
      if (explicit) {
        throw new EngineException(
            Code.INVALID, "definitions cannot be part of a transaction", "COMMIT first");
      }
    }

    void finish() {
      if (explicit) {
        abandon();
        throw new EngineException(
            Code.INVALID, "BEGIN without COMMIT: nothing was changed", "end with COMMIT");
      }
    }

    @Override
    public void close() {
      abandon();
    }
  }
}
