package dripledger.connectors;

import dripledger.connectors.drip.DripConnector;
import dripledger.connectors.file.FileConnector;
import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.DriftStore;
import dripledger.connectors.format.FieldTree;
import dripledger.connectors.format.FormatException;
import dripledger.connectors.format.JsonRows;
import dripledger.connectors.kafka.KafkaConnector;
import dripledger.connectors.message.Message;
import dripledger.connectors.message.MessageReader;
import dripledger.connectors.postgres.PostgresConnector;
import dripledger.connectors.webhook.WebhookConnector;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Drift;
import dripledger.engine.source.Feed;
import dripledger.engine.source.Listing;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.PartitionSink;
import dripledger.engine.source.Proposal;
import dripledger.engine.source.RawMessage;
import dripledger.engine.source.Reject;
import dripledger.engine.source.SourceSink;
import dripledger.engine.source.Target;
import java.nio.file.Path;
import java.util.List;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.Executors;
import java.util.concurrent.ScheduledExecutorService;
import java.util.concurrent.ScheduledFuture;
import java.util.concurrent.TimeUnit;
import java.util.function.UnaryOperator;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * All types of outside systems there are, each behind its {@link Connector}. Checks the connections
 * it has been asked about in the background. Safe from any thread.
 */
public final class OutsideSystems implements Connectors, AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(OutsideSystems.class);
  private static final int DRIFT_SECONDS = 10;

  private final Map<String, Connector> connectors;
  private final UnaryOperator<String> secrets;
  private final Path waiting;
  private final Reach reach;
  private final DriftStore driftStore;
  private final Map<Long, List<Drift>> savedDrift = new ConcurrentHashMap<>();
  private final Map<Long, DriftLog> drift = new ConcurrentHashMap<>();
  private final Map<Long, String> health = new ConcurrentHashMap<>();
  private final Map<Long, CatalogObject.Connection> watched = new ConcurrentHashMap<>();
  private final ScheduledExecutorService checks =
      Executors.newSingleThreadScheduledExecutor(
          task -> {
            Thread thread = new Thread(task, "connection-checks");
            thread.setDaemon(true);
            return thread;
          });

  /**
   * @param secrets answers the value of a secret by name, or null
   * @param checkSeconds how often connections are checked in the background
   * @param driftStore where drift is kept, every {@value #DRIFT_SECONDS} seconds
   * @param waiting the folder for what waits on disk
   * @param reach what may be reached at all
   */
  public OutsideSystems(
      UnaryOperator<String> secrets,
      int checkSeconds,
      DriftStore driftStore,
      Path waiting,
      Reach reach) {
    this.reach = reach;
    this.secrets = secrets;
    this.waiting = waiting;
    this.driftStore = driftStore;
    connectors =
        Map.of(
            "kafka", new KafkaConnector(),
            "postgres", new PostgresConnector(),
            "file", new FileConnector(),
            "webhook", new WebhookConnector(),
            "drip", new DripConnector());
    every(checkSeconds, this::checkAll);
    every(DRIFT_SECONDS, this::saveDrift);
  }

  private void every(int seconds, Runnable task) {
    ScheduledFuture<?> ignored =
        checks.scheduleWithFixedDelay(task, seconds, seconds, TimeUnit.SECONDS);
  }

  private void checkAll() {
    watched.values().forEach(this::checkQuietly);
  }

  private void checkQuietly(CatalogObject.Connection connection) {
    try {
      connector(connection).check(options(connection));
      health.remove(connection.id());
    } catch (RuntimeException e) {
      health.put(connection.id(), String.valueOf(e.getMessage()));
    }
  }

  private Connector connector(CatalogObject.Connection connection) {
    Connector connector = connectors.get(connection.type());
    if (connector == null) {
      throw new EngineException(
          Code.INVALID,
          "no connection type \"" + connection.type() + "\"",
          "there are " + String.join(", ", new java.util.TreeSet<>(connectors.keySet())));
    }
    return connector;
  }

  private ConnectionOptions options(CatalogObject.Connection connection) {
    reach.check(connection);
    return new ConnectionOptions(connection, secrets, waiting);
  }

  @Override
  public void check(CatalogObject.Connection connection) {
    connector(connection).check(options(connection));
    watched.put(connection.id(), connection);
    health.remove(connection.id());
  }

  @Override
  public String health(CatalogObject.Connection connection) {
    if (watched.put(connection.id(), connection) == null) {
      checks.execute(() -> checkQuietly(connection));
    }
    return health.get(connection.id());
  }

  @Override
  public List<Listing> list(CatalogObject.Connection connection) {
    return connector(connection).list(options(connection));
  }

  @Override
  public List<RawMessage> peek(
      CatalogObject.Connection connection, String name, String from, int count) {
    return connector(connection).peek(options(connection), name, from, count);
  }

  @Override
  public void createTopic(
      CatalogObject.Connection connection, String name, int partitions, Long retentionMillis) {
    connector(connection).createTopic(options(connection), name, partitions, retentionMillis);
  }

  @Override
  public Proposal propose(CatalogObject.Connection connection, SourceSpec source, boolean keyed) {
    reach.check(source);
    return connector(connection).propose(options(connection), source, keyed);
  }

  @Override
  public SourcePosition begin(CatalogObject.Connection connection, CatalogObject object) {
    reach.check(CatalogObject.sourceOf(object));
    return connector(connection).begin(options(connection), object);
  }

  @Override
  public boolean shared(String connectionType) {
    Connector connector = connectors.get(connectionType);
    return connector != null && connector.shared();
  }

  private DriftLog driftLog(long objectId) {
    return drift.computeIfAbsent(objectId, id -> new DriftLog(driftStore.load(id)));
  }

  /** Saves what has drifted since it was saved last. */
  private void saveDrift() {
    drift.forEach(
        (id, log) -> {
          List<Drift> now = log.all();
          if (now.equals(savedDrift.getOrDefault(id, List.of()))) {
            return;
          }
          try {
            driftStore.save(id, now);
            savedDrift.put(id, now);
          } catch (RuntimeException e) {
            LOG.warn("drift is saved later: {}", e.getMessage());
          }
        });
  }

  @Override
  public List<Object[]> again(
      CatalogObject.Connection connection,
      CatalogObject.Stream stream,
      int partition,
      Page messages) {
    return connector(connection).again(options(connection), stream, partition, messages);
  }

  @Override
  public String missing(
      CatalogObject.Connection connection,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to) {
    return connector(connection).missing(options(connection), stream, from, to);
  }

  @Override
  public Feed open(
      CatalogObject.Connection connection,
      List<CatalogObject> objects,
      SourcePosition from,
      SourceSink sink) {
    watched.put(connection.id(), connection);
    objects.forEach(o -> reach.check(CatalogObject.sourceOf(o)));
    objects.forEach(o -> driftLog(o.id()).declared(FieldTree.paths(o)));
    return connector(connection).open(options(connection), objects, from, sink, this::driftLog);
  }

  @Override
  public void read(
      CatalogObject.Connection connection,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to,
      Page template,
      PartitionSink sink) {
    reach.check(stream.source());
    connector(connection).read(options(connection), stream, from, to, template, sink);
  }

  @Override
  public void prepare(CatalogObject.Connection connection, CatalogObject.Sink sink) {
    reach.check(sink.target());
    connector(connection).prepare(options(connection), sink);
  }

  @Override
  public List<String> preview(
      CatalogObject.Connection connection, CatalogObject.Sink sink, List<Outgoing.Change> changes) {
    reach.check(sink.target());
    return connector(connection).preview(options(connection), sink, changes);
  }

  @Override
  public Target target(
      CatalogObject.Connection connection, CatalogObject.Sink sink, String identity) {
    reach.check(sink.target());
    return connector(connection).target(options(connection), sink, identity);
  }

  @Override
  public void forget(
      CatalogObject.Connection connection, CatalogObject.Sink sink, String identity) {
    reach.check(sink.target());
    connector(connection).forget(options(connection), sink, identity);
  }

  @Override
  public void resend(CatalogObject.Connection connection, CatalogObject.Sink sink, byte[] message) {
    reach.check(sink.target());
    connector(connection).resend(options(connection), sink, message);
  }

  @Override
  public byte[] message(RowLayout layout, byte[] row) {
    return JsonRows.message(layout.schema().columns(), BoxedRows.read(layout, row, 0));
  }

  @Override
  public void decode(
      CatalogObject.Connection connection,
      CatalogObject object,
      byte[] key,
      byte[] raw,
      Page into) {
    try {
      Message message = new Message();
      message.key = key;
      message.value(raw);
      message.timeMillis = System.currentTimeMillis();
      MessageReader reader =
          connection == null
              ? new MessageReader(object, null)
              : connector(connection).reader(options(connection), object);
      reader.read(message, into);
    } catch (FormatException | RowWriter.RowTooLargeException e) {
      throw new EngineException(Code.FAILED, e.getMessage());
    }
  }

  @Override
  public List<Boolean> overtaken(
      CatalogObject.Connection connection,
      CatalogObject.Table table,
      List<Reject> rejects,
      List<Page> operations,
      SourcePosition to) {
    return connector(connection).overtaken(options(connection), table, rejects, operations, to);
  }

  @Override
  public List<Drift> drift(long objectId) {
    DriftLog log = drift.get(objectId);
    return log == null ? List.of() : log.all();
  }

  /** The drift log of a pushed stream. */
  public DriftLog pushed(CatalogObject.Stream stream) {
    DriftLog log = driftLog(stream.id());
    log.declared(FieldTree.paths(stream));
    return log;
  }

  @Override
  public void release(CatalogObject.Connection connection) {
    // Also if it may no longer be reached: what is kept there for us would stay.
    connector(connection).release(new ConnectionOptions(connection, secrets, waiting));
  }

  @Override
  public void altered(CatalogObject.Connection before, CatalogObject.Connection after) {
    connector(after).altered(options(before), options(after));
  }

  @Override
  public void close() {
    checks.shutdownNow();
    saveDrift();
  }
}
