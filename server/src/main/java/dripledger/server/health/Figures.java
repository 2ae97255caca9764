package dripledger.server.health;

import dripledger.engine.Engine;
import dripledger.engine.access.Role;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.definition.ViewState;
import dripledger.engine.delivery.DeliveryStatus;
import dripledger.engine.query.Endpoints;
import dripledger.engine.source.FeedStatus;
import dripledger.engine.time.Watermark;
import dripledger.engine.view.RelationVersion;
import dripledger.server.access.Limits;
import dripledger.server.records.PostgresLedger;
import io.micrometer.core.instrument.Gauge;
import io.micrometer.core.instrument.MeterRegistry;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Executors;
import java.util.concurrent.Future;
import java.util.concurrent.ScheduledExecutorService;
import java.util.concurrent.TimeUnit;
import java.util.function.ToDoubleFunction;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import org.springframework.stereotype.Component;

/**
 * The gauges that {@code /actuator/prometheus} answers: of the service, and of each view, input,
 * delivery, endpoint and role, the first {@value #MOST} of each kind.
 */
@Component
final class Figures implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(Figures.class);
  private static final int MOST = 200;
  private static final int SECONDS = 5;

  private final Engine engine;
  private final Limits limits;
  private final MeterRegistry registry;
  private final TaggedGauges tagged;
  private volatile long leftOut;
  private final ScheduledExecutorService clock =
      Executors.newSingleThreadScheduledExecutor(
          task -> {
            Thread thread = new Thread(task, "figures");
            thread.setDaemon(true);
            return thread;
          });

  Figures(Engine engine, PostgresLedger ledger, Limits limits, MeterRegistry registry) {
    this.engine = engine;
    this.limits = limits;
    this.registry = registry;
    tagged = new TaggedGauges(registry);
    gauge("drip.epoch", "the newest epoch", e -> e.snapshot().epoch());
    gauge("drip.rows.taken", "changes taken in since the start", e -> e.loop().rowsTaken());
    gauge("drip.queued.bytes", "changes that wait for the epoch loop", e -> e.loop().queuedBytes());
    gauge(
        "drip.last.epoch.seconds",
        "how long the last epoch took",
        e -> e.loop().lastStepNanos() / 1e9);
    gauge(
        "drip.held.bytes",
        "operator state and published rows of all views",
        e -> e.loop().heldBytes());
    gauge("drip.held.bytes.max", "the bound of drip.held.bytes", e -> e.options().maxHeldBytes());
    gauge(
        "drip.checkpoint.age.seconds",
        "time since the last checkpoint of this process",
        e ->
            e.checkpointer().figures() == null
                ? -1
                : (System.currentTimeMillis() - e.checkpointer().figures().atMillis()) / 1e3);
    gauge(
        "drip.checkpoint.bytes",
        "what the last checkpoint wrote",
        e -> e.checkpointer().figures() == null ? 0 : e.checkpointer().figures().bytes());
    Gauge.builder("drip.unacknowledged.bytes", ledger, PostgresLedger::waitingBytes)
        .description("pushed bytes that wait for the database")
        .register(registry);
    Gauge.builder("drip.ledger.sequence", ledger, PostgresLedger::lastSequence)
        .description("the last durable append")
        .register(registry);
    Gauge.builder("drip.figures.left.out", this, f -> f.leftOut)
        .description("views, inputs, deliveries, endpoints and roles beyond the first " + MOST)
        .register(registry);
    Future<?> ignored = clock.scheduleWithFixedDelay(this::look, 1, SECONDS, TimeUnit.SECONDS);
  }

  private void gauge(String name, String text, ToDoubleFunction<Engine> value) {
    Gauge.builder(name, engine, value).description(text).register(registry);
  }

  private void look() {
    try {
      Map<String, Integer> counts = new LinkedHashMap<>();
      long beyond = 0;
      for (CatalogObject object : engine.catalog().all()) {
        if (counts.merge(object.kind(), 1, Integer::sum) > MOST) {
          beyond++;
        } else {
          object(object);
        }
      }
      List<Role> roles = engine.access().roles();
      for (Role role : roles.subList(0, Math.min(MOST, roles.size()))) {
        row("drip.role.requests", "taken from a role", "role", role, limits.taken(role.name()));
        row("drip.role.refused", "refused to a role", "role", role, limits.refused(role.name()));
      }
      leftOut = beyond + Math.max(0, roles.size() - MOST);
      tagged.show();
    } catch (RuntimeException e) {
      LOG.warn("figures are not up to date: {}", e.getMessage());
    }
  }

  private void row(String name, String text, String tag, Role role, double value) {
    row(name, text, tag, role.name(), value);
  }

  private void row(String name, String text, String tag, String of, double value) {
    tagged.set(name, text, tag, of, value);
  }

  private void object(CatalogObject object) {
    LiveNode node = engine.node(object);
    if (object instanceof CatalogObject.MaterializedView view && node != null) {
      view(view, node);
    }
    FeedStatus feed = node == null ? null : engine.input(object);
    if (feed != null) {
      String name = object.name();
      row("drip.input.messages", "read since the start", "input", name, feed.messages());
      row(
          "drip.input.behind",
          "messages or bytes at the source that are not read",
          "input",
          name,
          feed.behind());
      row(
          "drip.input.up",
          "1 if it is read, 0 if it waits or has stopped",
          "input",
          name,
          "reading".equals(feed.state()) ? 1 : 0);
      row(
          "drip.slot.bytes",
          "what the source keeps because of us; -1 if it does not say",
          "input",
          name,
          feed.kept());
    }
    if (object instanceof CatalogObject.Sink sink && engine.delivery(sink) != null) {
      delivery(sink.name(), engine.delivery(sink));
    }
    if (object instanceof CatalogObject.Endpoint endpoint) {
      Endpoints.Taken taken = engine.endpoints().taken(endpoint);
      String name = endpoint.name();
      row("drip.endpoint.calls", "calls since the start", "endpoint", name, taken.calls());
      row("drip.endpoint.errors", "calls that failed", "endpoint", name, taken.errors());
      row(
          "drip.endpoint.p99.seconds",
          "of the last thousand calls",
          "endpoint",
          name,
          taken.p99Millis() / 1e3);
    }
  }

  private void view(CatalogObject.MaterializedView view, LiveNode node) {
    String name = view.name();
    RelationVersion version = engine.snapshot().relation(view.id());
    ViewState state = engine.state(view);
    row("drip.view.rows", "rows shown", "view", name, version == null ? 0 : version.count());
    row("drip.view.state.bytes", "what its steps keep", "view", name, state.bytes());
    row("drip.view.rejects", "rows it leaves out", "view", name, state.rejects());
    row("drip.view.late", "rows that came too late", "view", name, state.late());
    row("drip.view.epoch", "the last that changed it", "view", name, node.lastEpoch());
    row("drip.view.up", "0 if it has stopped", "view", name, node.failure() == null ? 1 : 0);
    long mark = node.watermarkMicros();
    if (mark != Watermark.NONE && mark != Watermark.TIMELESS) {
      row(
          "drip.view.behind.seconds",
          "how far its watermark is behind the clock",
          "view",
          name,
          System.currentTimeMillis() / 1e3 - mark / 1e6);
    }
  }

  private void delivery(String name, DeliveryStatus status) {
    row("drip.delivery.epoch", "the last that has arrived", "sink", name, status.epoch());
    row("drip.delivery.waiting.rows", "changes that wait", "sink", name, status.waitingRows());
    row(
        "drip.delivery.waiting.bytes",
        "what they take on disk",
        "sink",
        name,
        status.waitingBytes());
    row(
        "drip.delivery.up",
        "0 if its target does not take it, or it has stopped",
        "sink",
        name,
        status.error() == null ? 1 : 0);
  }

  @Override
  public void close() {
    clock.shutdownNow();
  }
}
