package dripledger.engine.delivery;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.CatalogObject.Sink;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Reject;
import dripledger.engine.source.Target;
import dripledger.engine.source.Target.Carried;
import java.nio.file.Path;
import java.time.LocalDateTime;
import java.time.ZoneOffset;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ConcurrentHashMap;
import java.util.function.Consumer;
import java.util.function.LongSupplier;
import java.util.function.Supplier;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/** All deliveries: what waits for each, and who carries it. Safe from any thread. */
public final class Deliveries implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(Deliveries.class);
  private final Connectors connectors;
  private final Supplier<Catalog> catalog;
  private final Supplier<CompletableFuture<Void>> checkpoint;
  private final LongSupplier nowMicros;
  private final Bounds bounds;
  private final Consumer<List<Reject>> rejects;
  private final Runnable epochEnd;
  private final Map<Long, Outbox> outboxes = new ConcurrentHashMap<>();
  private final Map<Long, Deliverer> deliverers = new ConcurrentHashMap<>();

  /**
   * @param directory where what waits is kept
   * @param maxBytes how much may wait for one delivery
   * @param paceMillis how long a change may wait for a checkpoint until one is asked for
   */
  public record Bounds(Path directory, long maxBytes, long paceMillis) {}

  /**
   * @param checkpoint asks for a checkpoint
   * @param nowMicros the time of day, in microseconds since 1970
   * @param rejects keeps what a target will never take; returns when the next checkpoint has it
   * @param epochEnd returns when whoever listens has been told of every epoch that readers see
   */
  public Deliveries(
      Connectors connectors,
      Supplier<Catalog> catalog,
      Supplier<CompletableFuture<Void>> checkpoint,
      LongSupplier nowMicros,
      Consumer<List<Reject>> rejects,
      Runnable epochEnd,
      Bounds bounds) {
    this.epochEnd = epochEnd;
    this.rejects = rejects;
    this.connectors = connectors;
    this.catalog = catalog;
    this.checkpoint = checkpoint;
    this.nowMicros = nowMicros;
    this.bounds = bounds;
  }

  /** A new, empty outbox for a delivery, in the place of one that is of no use. */
  public Outbox newOutbox(Sink sink) {
    Outbox outbox =
        new Outbox(
            new RowLayout(sink.schema()),
            sink.rows() == Sink.Rows.CHANGES,
            bounds.directory(),
            bounds.maxBytes());
    Outbox old = outboxes.put(sink.id(), outbox);
    if (old != null) {
      old.close();
    }
    return outbox;
  }

  /** Takes what was there when a delivery was made. */
  public void filled(Sink sink, Page page) {
    outboxes.get(sink.id()).filled(page, sink.snapshot());
  }

  /** Why nothing more comes for a delivery, or null. */
  public String over(Sink sink) {
    return outboxes.get(sink.id()).over();
  }

  /** Begins to carry what waits. */
  public void start(Sink sink) {
    Outbox outbox = outboxes.get(sink.id());
    Deliverer deliverer =
        new Deliverer(
            sink,
            outbox,
            () -> connectors.target(connection(sink), sink, outbox.identity()),
            checkpoint,
            nowMicros,
            bounds.paceMillis(),
            messages -> keep(sink, messages));
    Deliverer old = deliverers.put(sink.id(), deliverer);
    if (old != null) {
      old.close();
    }
    deliverer.start();
  }

  private void keep(Sink sink, List<Target.Refused> messages) {
    LocalDateTime now = LocalDateTime.now(ZoneOffset.UTC);
    rejects.accept(
        messages.stream()
            .map(m -> new Reject(sink.id(), now, m.reason(), null, m.message(), m.origin()))
            .toList());
  }

  private CatalogObject.Connection connection(Sink sink) {
    return (CatalogObject.Connection) catalog.get().find(sink.target().connectionId());
  }

  /** Begins to carry for all deliveries there are. */
  public void startAll() {
    for (CatalogObject object : catalog.get().all()) {
      if (object instanceof Sink sink) {
        start(sink);
      }
    }
  }

  /** Goes on through a connection whose options have changed. */
  public void reopen(CatalogObject.Connection connection) {
    for (CatalogObject object : catalog.get().all()) {
      if (object instanceof Sink sink && sink.target().connectionId() == connection.id()) {
        start(sink);
      }
    }
  }

  /** Ends a delivery; what waits is given up. */
  public void drop(Sink sink) {
    Deliverer deliverer = deliverers.remove(sink.id());
    if (deliverer != null) {
      deliverer.close();
    }
    Outbox outbox = outboxes.remove(sink.id());
    if (outbox != null) {
      outbox.close();
    }
    if (outbox != null && deliverer != null) {
      forget(sink, outbox.identity());
    }
  }

  /** Nobody waits until its target has forgotten it, which may be away. */
  private void forget(Sink sink, String identity) {
    CatalogObject.Connection connection = connection(sink);
    if (connection == null) { // dropped with it
      return;
    }
    Thread thread =
        new Thread(
            () -> {
              try {
                connectors.forget(connection, sink, identity);
              } catch (RuntimeException e) {
                LOG.info("{}: its target still knows it: {}", sink.name(), e.getMessage());
              }
            },
            "forget-" + sink.name());
    thread.setDaemon(true);
    thread.start();
  }

  /** Carries what there is now; completes with what that did at the target. */
  public CompletableFuture<Carried> refresh(Sink sink) {
    Deliverer deliverer = deliverers.get(sink.id());
    if (deliverer == null) {
      throw new EngineException(
          Code.UNAVAILABLE, "\"" + sink.name() + "\" is not at work", "ask again in a moment");
    }
    epochEnd.run(); // what an answered statement has changed is in the outbox then
    return deliverer.ask();
  }

  /** How a delivery does, or null if it is not at work. */
  public DeliveryStatus status(Sink sink) {
    Deliverer deliverer = deliverers.get(sink.id());
    return deliverer == null ? null : deliverer.status();
  }

  @Override
  public void close() {
    deliverers.values().forEach(Deliverer::close);
    deliverers.clear();
  }
}
