package dripledger.engine;

import dripledger.engine.access.Access;
import dripledger.engine.access.Caller;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.change.RejectReplay;
import dripledger.engine.change.TableTransactions;
import dripledger.engine.checkpoint.Checkpointer;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.definition.Definitions;
import dripledger.engine.definition.ViewState;
import dripledger.engine.delivery.Deliveries;
import dripledger.engine.delivery.DeliveryStatus;
import dripledger.engine.epoch.EpochInput;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.epoch.EpochWait;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.intake.Sources;
import dripledger.engine.intake.StreamHistory;
import dripledger.engine.introspection.FigureTables;
import dripledger.engine.introspection.Introspection;
import dripledger.engine.query.Endpoints;
import dripledger.engine.query.QueryRunner;
import dripledger.engine.query.Result;
import dripledger.engine.query.RunningScripts;
import dripledger.engine.query.Subscription;
import dripledger.engine.recovery.LateMaker;
import dripledger.engine.recovery.Recovery;
import dripledger.engine.row.Page;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.FeedStatus;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.Proposal;
import dripledger.engine.source.Reject;
import dripledger.engine.source.RejectStore;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.ProposedDefinition;
import dripledger.engine.sql.SqlFrontEnd;
import dripledger.engine.statement.Session;
import dripledger.engine.statement.SinkStatements;
import dripledger.engine.statement.Statements;
import dripledger.engine.time.PartitionMarks;
import dripledger.engine.upkeep.Upkeeper;
import dripledger.engine.view.Pinned;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.time.Clock;
import java.time.Instant;
import java.time.temporal.ChronoUnit;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.locks.ReentrantLock;
import java.util.function.Consumer;

/**
 * The engine: statements in, answers out. All methods are safe from any thread unless they say
 * otherwise; reads never wait for the epoch loop, changes wait until they are durable and shown.
 */
public final class Engine implements AutoCloseable {
  private static final long HEARTBEAT_MILLIS = 10_000;

  private final EngineOptions options;
  private final Ledger ledger;
  private final Records records;
  private final Connectors connectors;
  private final Clock clock;
  private final SqlFrontEnd frontEnd = new SqlFrontEnd();
  private final EpochLoop loop;
  private final QueryRunner runner;
  private final Definitions definitions;
  private final StreamHistory history;
  private final Sources sources;
  private final Checkpointer checkpointer;
  private final Introspection introspection;
  private final RejectReplay rejectReplay;
  private final ReentrantLock definitionLock = new ReentrantLock();
  private final TableTransactions transactions;
  private final LateMaker lateMaker;
  private final Upkeeper upkeeper;
  private final Deliveries deliveries;
  private final Statements statements;
  private final Endpoints endpoints;
  private final Access access;

  /** Wires everything up; {@link #start} recovers and sets it going. */
  public Engine(EngineOptions options, Records records, Connectors connectors, Clock clock) {
    this.options = options;
    this.records = records;
    this.ledger = records.ledger();
    this.connectors = connectors;
    this.clock = clock;
    loop =
        new EpochLoop(options.epochLimits(), this::nowMicros, records.definitions()::reserveEpochs);
    access = new Access(records.access());
    loop.rejects().rowsAs(connectors::message);
    history = new StreamHistory(ledger, connectors, this::catalog, this::returns);
    sources = new Sources(connectors, loop, ledger, history, this::catalog);
    runner = new QueryRunner(history, this::figures, options.queryBounds());
    deliveries =
        new Deliveries(
            connectors,
            this::catalog,
            this::checkpoint,
            this::nowMicros,
            this::keepRefused,
            () -> EpochWait.await(loop.between(() -> {})),
            options.deliveries());
    definitions =
        new Definitions(
            records.definitions(),
            loop,
            runner,
            frontEnd,
            history,
            connectors,
            sources,
            options.waiting(),
            deliveries,
            this::checkpoint,
            definitionLock);
    checkpointer =
        new Checkpointer(loop, records.checkpoints(), options.checkpointMillis(), sources::durable);
    definitions.onDefined(this::requestCheckpoint);
    lateMaker = new LateMaker(definitions, definitionLock, this::requestCheckpoint);
    upkeeper =
        new Upkeeper(definitions, loop, records.upkeep(), this::nowMicros, checkpointer::request);
    introspection =
        new Introspection(definitions, ledger, connectors, sources, deliveries, runner, access);
    transactions =
        new TableTransactions(
            loop,
            runner,
            ledger,
            options.changeMillis(),
            this::catalog,
            this::nowMicros,
            this::refuseIfFull);
    statements =
        new Statements(
            frontEnd,
            loop,
            runner,
            transactions,
            introspection,
            definitions,
            definitionLock,
            upkeeper,
            new SinkStatements(
                deliveries, connectors, this::catalog, () -> loop.snapshot().epoch()),
            access,
            this::nowMicros);
    endpoints =
        new Endpoints(
            frontEnd, runner, this::catalog, loop::pin, this::nowMicros, definitions::node);
    rejectReplay =
        new RejectReplay(
            records.rejects(), ledger, loop, sources, checkpointer, connectors, definitionLock);
  }

  private List<PartitionMarks.Return> returns(long stream) {
    return definitions.node(stream) instanceof InputNode input ? input.returns() : List.of();
  }

  private Page figures(long id) {
    RejectStore rejects = records.rejects();
    DefinitionStore past = records.definitions();
    return new FigureTables(
            definitions,
            loop,
            rejects,
            connectors,
            sources,
            past,
            upkeeper,
            runner.scripts(),
            endpoints,
            access,
            clock)
        .rows(id);
  }

  private CompletableFuture<Void> checkpoint() {
    return checkpointer.request();
  }

  private void requestCheckpoint() {
    CompletableFuture<Void> ignored = checkpointer.request().exceptionally(e -> null);
  }

  /** Recovers, then starts the epoch loop, the sources and the checkpoints. Called once. */
  public void start() {
    definitions.load();
    access.load();
    access.settle(catalog());
    history.widening().resume();
    List<CatalogObject> left =
        new Recovery(
                definitions, loop, ledger, records.checkpoints(), history, sources, checkpointer)
            .run();
    ledger.receiver(
        (sequence, entries, positions) ->
            loop.submit(EpochInput.of(sequence, entries, InputProgress.at(positions))));
    loop.start();
    checkpointer.start();
    sources.openAll();
    lateMaker.start(left);
    upkeeper.start();
    deliveries.startAll();
  }

  public Catalog catalog() {
    return definitions.catalog();
  }

  /** All relations at the newest epoch, readable until it is closed. */
  public Pinned pin() {
    return loop.pin();
  }

  /** All relations at the newest epoch: how they do, not their rows. */
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

  /** What a materialized view keeps and fails on. */
  public ViewState state(CatalogObject.MaterializedView view) {
    return definitions.state(view);
  }

  public EngineOptions options() {
    return options;
  }

  private long nowMicros() {
    return ChronoUnit.MICROS.between(Instant.EPOCH, clock.instant());
  }

  /** Who may do what. */
  public Access access() {
    return access;
  }

  /** The object of this name. */
  public CatalogObject object(String name) {
    return object(name, access.owner());
  }

  /** The object of this name, if somebody may use it in any way. */
  public CatalogObject object(String name, Caller caller) {
    return statements.object(name, caller);
  }

  /** The newest version of a table or materialized view. */
  public RelationVersion relation(String name) {
    return relation(object(name), snapshot());
  }

  /** The version of a table or materialized view in a snapshot. */
  public static RelationVersion relation(CatalogObject object, Snapshot snapshot) {
    RelationVersion version = snapshot.readable(object.id());
    if (version == null) {
      throw new EngineException(
          Code.INVALID,
          "\"" + object.name() + "\" is " + object.aKind() + " and keeps no rows to look up",
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
    execute(script, arguments, null, access.owner(), sink);
  }

  /**
   * As above, so that it can be sent again.
   *
   * @param id of the request, chosen by who sends it, or null. Changes to tables that a request of
   *     this id has made are not made twice; whatever else the script says is done again.
   * @param caller as who it is done
   */
  public void execute(
      String script,
      Map<String, Object> arguments,
      String id,
      Caller caller,
      Consumer<Result> sink) {
    statements.execute(script, arguments, id, caller, sink);
  }

  /**
   * A client's session, for one thread.
   *
   * @param id by which its statements can be cancelled
   * @param caller whose it is
   */
  public Session session(String id, Caller caller) {
    return statements.session(id, caller);
  }

  /** The endpoints, to be called. */
  public Endpoints endpoints() {
    return endpoints;
  }

  /** The scripts that are being run. */
  public RunningScripts scripts() {
    return runner.scripts();
  }

  /** As {@link #execute(String, Map, Consumer)}, with all results at the end. */
  public List<Result> execute(String script) {
    List<Result> results = new ArrayList<>();
    execute(script, Map.of(), results::add);
    return results;
  }

  /**
   * Follows a query: FOLLOW SELECT …, SELECT … or the name of a view.
   *
   * @return the answer and its changes; close it when done
   */
  public Subscription follow(String sql, Map<String, Object> arguments) {
    return follow(sql, arguments, access.owner());
  }

  /** As above, if somebody may read what it reads. */
  public Subscription follow(String sql, Map<String, Object> arguments, Caller caller) {
    definitionLock.lock();
    try {
      return definitions.follow(followed(sql, arguments, caller), options.maxFollowerRows());
    } finally {
      definitionLock.unlock();
    }
  }

  /** What would be followed, if somebody may read what it reads. */
  public Command.QueryPlan followed(String sql, Map<String, Object> arguments, Caller caller) {
    return statements.followed(sql, arguments, caller);
  }

  /**
   * Appends a producer's events to a stream, in its order; completes once they are durable.
   *
   * @throws EngineException (LIMIT) if the views hold as much as they may; nothing was taken then
   */
  public CompletableFuture<Ledger.Receipt> append(CatalogObject.Stream s, Page page, int producer) {
    return append(s, page, producer, List.of(), null);
  }

  /**
   * As above, with what could not be taken, which becomes durable with the rest.
   *
   * @param page may be empty
   * @param id by which {@link #isTaken} knows it for a day, or null
   */
  public CompletableFuture<Ledger.Receipt> append(
      CatalogObject.Stream s, Page page, int producer, List<Reject> rejects, String id) {
    if (!page.isEmpty()) { // rejects take no room in views
      refuseIfFull();
    }
    if (!rejects.isEmpty()) {
      loop.submit(
          new EpochInput(List.of(), -1, InputProgress.NOTHING, () -> loop.countRejected(rejects)));
    }
    return ledger.append(
        List.of(new Ledger.Entry(s.id(), page, producer)),
        new InputProgress(Map.of(), rejects, List.of()),
        id);
  }

  /** Whether an append of this id is durable. */
  public boolean isTaken(String id) {
    return ledger.made(id) >= 0;
  }

  private void keepRefused(List<Reject> rejects) {
    InputProgress refused = new InputProgress(Map.of(), rejects, List.of());
    EpochWait.await(loop.between(() -> loop.rejects().add(refused)));
  }

  /** What can be done about rejects. */
  public RejectReplay rejects() {
    return rejectReplay;
  }

  /** The outside systems. */
  public Connectors connectors() {
    return connectors;
  }

  /** The connection of this name. */
  public CatalogObject.Connection connection(String name) {
    if (catalog().find(name) instanceof CatalogObject.Connection c) {
      return c;
    }
    throw new EngineException(
        Code.NOT_FOUND, "no connection \"" + name + "\"", "SHOW CONNECTIONS lists what there is");
  }

  /**
   * What a stream or table would be created as, for its owner to edit first.
   *
   * @param flat whether objects inside of messages become columns of their own instead of ROWs
   */
  public ProposedDefinition propose(String name, SourceSpec source, boolean table, boolean flat) {
    Proposal nested = definitions.propose(source, table);
    return ProposedDefinition.of(name, flat ? nested.flattened() : nested, source, table);
  }

  /** How a delivery does, or null if it is not at work. */
  public DeliveryStatus delivery(CatalogObject.Sink sink) {
    return deliveries.status(sink);
  }

  /** How the input of a stream or table does, or null if it has none. */
  public FeedStatus input(CatalogObject object) {
    return sources.status(object);
  }

  /** Rows loaded so far of tables that are being loaded, by name. */
  public Map<String, Long> loading() {
    return sources.loading();
  }

  public Checkpointer checkpointer() {
    return checkpointer;
  }

  private void refuseIfFull() {
    options.refuseBeyond(loop.heldBytes());
  }

  /** Changes a stream or table has been given, all time. */
  public long position(CatalogObject object) {
    return introspection.events(object);
  }

  /** Waits until the views show an append; answers the epoch that does. */
  public long awaitApplied(long sequence) {
    return transactions.awaitApplied(sequence);
  }

  /**
   * What became of a change to tables.
   *
   * @param id given when its outcome was not known, or that of a request followed by /1 for its
   *     first change
   * @return the epoch that shows it, or −1 if it has not been made (so far)
   */
  public long outcome(String id) {
    return transactions.outcome(id);
  }

  /** Why the engine does not do its work, or null if it does. */
  public String ailment() {
    return loop.ailment(HEARTBEAT_MILLIS);
  }

  /** What to tell if the engine cannot go on; before {@link #start}. */
  public void onEnd(Consumer<Throwable> action) {
    loop.onEnd(action);
  }

  /** Stops the epoch loop after the current epoch. The ledger is not closed. */
  @Override
  public void close() {
    lateMaker.close();
    upkeeper.close();
    deliveries.close();
    sources.closeAll();
    checkpointer.close();
    loop.close();
    records.definitions().returnEpochs(loop.snapshot().epoch() + 1);
  }
}
