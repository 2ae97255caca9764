package dripledger.engine.intake;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.epoch.EpochInput;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.epoch.EpochWait;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Feed;
import dripledger.engine.source.FeedStatus;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.Reject;
import dripledger.engine.source.SourceBatch;
import dripledger.engine.source.SourceSink;
import dripledger.engine.time.Arrival;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.ExecutionException;
import java.util.function.Supplier;

/**
 * The feeds that are at work: one for each stream or table, or one for all tables of a connection
 * that shares. Opening and closing is done under the engine's definition lock; figures may be read
 * from any thread.
 */
public final class Sources {
  private final Connectors connectors;
  private final EpochLoop loop;
  private final Ledger ledger;
  private final StreamHistory history;
  private final Supplier<Catalog> catalog;
  private final Map<Long, Feed> feeds = new ConcurrentHashMap<>();
  private final Map<Long, Sink> sinks = new ConcurrentHashMap<>();

  public Sources(
      Connectors connectors,
      EpochLoop loop,
      Ledger ledger,
      StreamHistory history,
      Supplier<Catalog> catalog) {
    this.connectors = connectors;
    this.loop = loop;
    this.ledger = ledger;
    this.history = history;
    this.catalog = catalog;
  }

  /** Whether all tables of the connection come through one feed and are loaded first. */
  public boolean shared(CatalogObject.Connection connection) {
    return connectors.shared(connection.type());
  }

  /** The connection a stream or table reads through. */
  public CatalogObject.Connection connectionOf(CatalogObject object) {
    return catalog.get().connectionOf(object);
  }

  /** The connection that a clause names. */
  public CatalogObject.Connection connection(SourceSpec clause) {
    return (CatalogObject.Connection) catalog.get().find(clause.connectionId());
  }

  /** The number positions of an object's input are kept under. */
  public long inputId(CatalogObject object) {
    CatalogObject.Connection connection = catalog.get().connectionOf(object);
    return shared(connection) ? connection.id() : object.id();
  }

  /** Starts reading everything from where the newest epoch stands. */
  public void openAll() {
    for (CatalogObject object : catalog.get().all()) {
      if (object instanceof CatalogObject.Connection c) {
        openConnection(c);
      }
    }
  }

  private void openConnection(CatalogObject.Connection connection) {
    List<CatalogObject> objects =
        catalog.get().all().stream()
            .filter(o -> catalog.get().connectionOf(o) == connection)
            .toList();
    if (shared(connection)) {
      if (!objects.isEmpty()) {
        open(connection, objects, connection.id());
      }
    } else {
      objects.forEach(o -> open(connection, List.of(o), o.id()));
    }
  }

  private Feed open(CatalogObject.Connection connection, List<CatalogObject> objects, long id) {
    SourcePosition from = loop.snapshot().positions().getOrDefault(id, history.begin(id));
    boolean retained = objects.get(0) instanceof CatalogObject.Stream s && s.inLedger();
    Sink sink = new Sink(id, retained);
    Feed feed = connectors.open(connection, objects, from, sink);
    sinks.put(id, sink);
    feeds.put(id, feed);
    return feed;
  }

  /** Starts reading one stream or table that is not part of a shared feed. */
  public void open(CatalogObject object) {
    open(catalog.get().connectionOf(object), List.of(object), object.id());
  }

  /** The feed of a shared connection, started if it is not at work. */
  public Feed shared(CatalogObject.Connection connection, CatalogObject first) {
    Feed feed = feeds.get(connection.id());
    return feed != null ? feed : open(connection, List.of(first), connection.id());
  }

  /** Stops reading for an object; when this returns nothing more is handed over for it. */
  public void close(CatalogObject object, CatalogObject.Connection connection) {
    if (shared(connection)) {
      Feed feed = feeds.get(connection.id());
      if (feed != null) {
        feed.leave(object.id());
      }
    } else {
      closeFeed(object.id());
    }
  }

  private void closeFeed(long id) {
    sinks.remove(id);
    Feed feed = feeds.remove(id);
    if (feed != null) {
      feed.close();
    }
  }

  /** Ends the feed of a shared connection that has no tables left. */
  public void closeShared(CatalogObject.Connection connection) {
    closeFeed(connection.id());
  }

  /** Forgets how far an input was read, so that one with its number begins anew. */
  public void forget(long inputId) {
    history.forget(inputId);
    EpochWait.await(loop.between(() -> loop.forgetInput(inputId)));
  }

  /** Rows loaded so far of tables that are being loaded, by name. */
  public Map<String, Long> loading() {
    Map<String, Long> all = new java.util.TreeMap<>();
    feeds.values().forEach(feed -> all.putAll(feed.status().loading()));
    return all;
  }

  /** Stops everything that reads through a connection. */
  public void closeConnection(CatalogObject.Connection connection) {
    closeFeed(connection.id());
    for (CatalogObject object : catalog.get().all()) {
      if (catalog.get().connectionOf(object) == connection) {
        closeFeed(object.id());
      }
    }
  }

  /** Reads on through a connection whose options have changed. */
  public void reopen(CatalogObject.Connection connection) {
    settle();
    openConnection(connection);
  }

  /** Waits until everything handed over so far is shown. */
  public void settle() {
    EpochWait.await(loop.between(() -> {}));
  }

  /** Ends all feeds. */
  public void closeAll() {
    feeds.values().forEach(Feed::close);
    feeds.clear();
  }

  /** A checkpoint holds these positions. */
  public void durable(Map<Long, SourcePosition> positions) {
    positions.forEach(
        (id, position) -> {
          Feed feed = feeds.get(id);
          if (feed != null) {
            feed.durable(position);
          }
        });
  }

  /** One feed's figures. */
  public record Input(
      long id, String name, String connection, FeedStatus status, String position) {}

  /** How each feed does. Safe from any thread. */
  public List<Input> inputs() {
    List<Input> inputs = new ArrayList<>();
    Map<Long, SourcePosition> positions = loop.snapshot().positions();
    feeds.forEach(
        (id, feed) -> {
          CatalogObject object = catalog.get().find(id);
          if (object == null) {
            return;
          }
          CatalogObject.Connection connection =
              object instanceof CatalogObject.Connection c ? c : catalog.get().connectionOf(object);
          SourcePosition position = positions.getOrDefault(id, history.begin(id));
          inputs.add(
              new Input(
                  id,
                  object.name(),
                  connection.name(),
                  status(id, feed),
                  position == null ? null : position.text()));
        });
    return inputs;
  }

  /** How the input of a stream or table does, or null if it has none. */
  public FeedStatus status(CatalogObject object) {
    if (CatalogObject.sourceOf(object) == null) {
      return null;
    }
    Feed feed = feeds.get(inputId(object));
    return feed == null
        ? new FeedStatus("stopped", "it is not being read", 0, 0, -1, "messages", Map.of())
        : status(inputId(object), feed);
  }

  private FeedStatus status(long inputId, Feed feed) {
    Sink sink = sinks.get(inputId);
    FeedStatus status = feed.status();
    return sink != null && sink.waiting ? status.full() : status;
  }

  private final class Sink implements SourceSink {
    private final long inputId;
    private final boolean retained;
    private volatile boolean waiting;

    Sink(long inputId, boolean retained) {
      this.inputId = inputId;
      this.retained = retained;
    }

    @Override
    public void submit(List<SourceBatch> batches, SourcePosition after, Runnable join)
        throws InterruptedException {
      Map<Long, SourcePosition> positions = Map.of(inputId, after);
      List<Reject> rejects = new ArrayList<>();
      batches.forEach(b -> rejects.addAll(b.rejects()));
      if (retained) {
        retain(batches, positions, rejects);
        return;
      }
      List<EpochInput.Change> changes = new ArrayList<>();
      for (SourceBatch batch : batches) {
        changes.add(
            new EpochInput.Change(
                batch.objectId(), batch.page(), batch.partition(), Arrival.now(), batch.spooled()));
      }
      waiting = loop.full();
      loop.submit(
          new EpochInput(changes, -1, new InputProgress(positions, rejects, List.of()), join));
      waiting = false;
    }

    /** Into the ledger first, with the position: from there it comes back to be applied. */
    private void retain(
        List<SourceBatch> batches, Map<Long, SourcePosition> positions, List<Reject> rejects)
        throws InterruptedException {
      List<Ledger.Entry> entries = new ArrayList<>();
      for (SourceBatch batch : batches) {
        entries.add(
            new Ledger.Entry(
                batch.objectId(),
                batch.page(),
                batch.partition(),
                Arrival.now(),
                batch.messages()));
      }
      if (!rejects.isEmpty()) {
        loop.submit(
            new EpochInput(
                List.of(), -1, InputProgress.NOTHING, () -> loop.countRejected(rejects)));
      }
      try {
        ledger.append(entries, new InputProgress(positions, rejects, List.of())).get();
      } catch (ExecutionException e) {
        throw new IllegalStateException(e.getCause());
      }
    }

    @Override
    public boolean full() {
      return loop.full();
    }

    @Override
    public void stop(long objectId, String reason) {
      loop.submit(
          new EpochInput(
              List.of(), -1, InputProgress.NOTHING, () -> loop.stopBySource(objectId, reason)));
    }
  }
}
