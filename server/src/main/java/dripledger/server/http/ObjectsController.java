package dripledger.server.http;

import dripledger.connectors.format.PlainText;
import dripledger.engine.Engine;
import dripledger.engine.access.Caller;
import dripledger.engine.access.Privilege;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.EndpointParameter;
import dripledger.engine.checkpoint.Checkpointer;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.Refresher;
import dripledger.engine.definition.ViewState;
import dripledger.engine.delivery.DeliveryStatus;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.expr.Casts;
import dripledger.engine.row.Column;
import dripledger.engine.source.Drift;
import dripledger.engine.source.FeedStatus;
import dripledger.engine.time.Arrival;
import dripledger.engine.time.Watermark;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import org.springframework.security.core.annotation.AuthenticationPrincipal;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.RestController;

/** {@code /api/v1/objects}: what exists, its definition, columns, health and figures. */
@RestController
class ObjectsController {
  private final Engine engine;

  ObjectsController(Engine engine) {
    this.engine = engine;
  }

  @GetMapping("/api/v1/objects")
  @ForRoles
  Map<String, Object> all(@AuthenticationPrincipal Caller caller) {
    Snapshot snapshot = engine.snapshot();
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("epoch", snapshot.epoch());
    answer.put("rows_taken", engine.loop().rowsTaken());
    answer.put("queued_bytes", engine.loop().queuedBytes());
    answer.put("held_bytes", engine.loop().heldBytes());
    answer.put("held_bytes_max", engine.options().maxHeldBytes());
    answer.put("held_back_bytes", engine.loop().heldBackBytes());
    answer.put("held_back_bytes_max", engine.options().maxHeldBytes() / EpochLoop.HELD_BACK_SHARE);
    answer.put("ended_reads", engine.loop().endedReads());
    answer.put("loading", caller.isOwner() ? engine.loading() : Map.of());
    answer.put("checkpoint", checkpoint());
    Catalog seen = caller.catalog(engine.catalog());
    answer.put("objects", seen.all().stream().map(o -> describe(o, snapshot)).toList());
    return answer;
  }

  @GetMapping("/api/v1/objects/{name}")
  @ForRoles
  Map<String, Object> one(@PathVariable String name, @AuthenticationPrincipal Caller caller) {
    CatalogObject object = engine.object(name, caller);
    Map<String, Object> answer = describe(object, engine.snapshot());
    if (!caller.may(Privilege.OWN, object)) {
      return answer; // what it is made of is not for everybody who may read it
    }
    answer.put("sql", object.sql());
    answer.put(
        "used_by", engine.catalog().dependents(object).stream().map(CatalogObject::name).toList());
    if (object instanceof CatalogObject.MaterializedView view) {
      answer.put("reject_reasons", engine.state(view).reasons());
    }
    List<Drift> drift = engine.connectors().drift(object.id());
    if (!drift.isEmpty()) {
      answer.put("drift", drift);
    }
    return answer;
  }

  private Map<String, Object> checkpoint() {
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("interval_ms", engine.checkpointer().intervalMillis());
    Checkpointer.Figures figures = engine.checkpointer().figures();
    if (figures != null) {
      answer.put("epoch", figures.epoch());
      answer.put("age_ms", System.currentTimeMillis() - figures.atMillis());
      answer.put("duration_ms", figures.millis());
      answer.put("pause_us", figures.pauseMicros());
      answer.put("written_bytes", figures.bytes());
      answer.put("total_bytes", figures.totalBytes());
      answer.put("chunks", figures.chunks());
    }
    if (engine.checkpointer().loadedEpoch() >= 0) {
      answer.put("loaded_epoch", engine.checkpointer().loadedEpoch());
    }
    if (engine.checkpointer().failure() != null) {
      answer.put("failure", engine.checkpointer().failure());
    }
    return answer;
  }

  private Map<String, Object> describe(CatalogObject object, Snapshot snapshot) {
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("name", object.name());
    answer.put("kind", object.kind());
    answer.put("columns", object.schema().columns().stream().map(this::column).toList());
    int[] key =
        object instanceof CatalogObject.Table t
            ? t.primaryKey()
            : object instanceof CatalogObject.MaterializedView m
                ? m.key()
                : object instanceof CatalogObject.Sink sink ? sink.key() : null;
    if (key != null) {
      answer.put(
          "key", Arrays.stream(key).mapToObj(i -> object.schema().column(i).name()).toList());
    }
    if (object instanceof CatalogObject.Connection c) {
      answer.put("type", c.type());
      String health = engine.connectors().health(c);
      answer.put("health", health == null ? "ok" : health);
    }
    if (object instanceof CatalogObject.Endpoint e) {
      answer.put("parameters", e.parameters().stream().map(ObjectsController::parameter).toList());
      answer.put("description", e.description());
      answer.put("calls", engine.endpoints().taken(e).calls());
      return answer;
    }
    LiveNode node = engine.node(object);
    if (node != null) {
      figures(object, node, snapshot, answer);
      input(object, answer);
    }
    if (object instanceof CatalogObject.Sink sink && engine.delivery(sink) != null) {
      delivery(sink, engine.delivery(sink), answer);
    }
    return answer;
  }

  private static Map<String, Object> parameter(EndpointParameter p) {
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("name", p.name());
    answer.put("type", p.type().sql());
    answer.put("required", p.required());
    answer.put("default", p.defaultValue() == null ? null : PlainText.of(p.defaultValue()));
    answer.put("comment", p.comment());
    answer.put("check", p.check());
    return answer;
  }

  private static void delivery(
      CatalogObject.Sink sink, DeliveryStatus status, Map<String, Object> answer) {
    Map<String, Object> shown = new LinkedHashMap<>();
    shown.put("connection", sink.target().connection());
    shown.put("rows", sink.rows().word());
    shown.put("upkeep", sink.upkeep().text());
    shown.put("state", status.state());
    shown.put("epoch", status.epoch());
    shown.put("put", status.carried().put());
    shown.put("changed", status.carried().changed());
    shown.put("unchanged", status.carried().unchanged());
    shown.put("removed", status.carried().removed());
    shown.put("batches", status.batches());
    shown.put("waiting_rows", status.waitingRows());
    shown.put("waiting_bytes", status.waitingBytes());
    shown.put("waiting_since", isoTime(status.waitingSince()));
    shown.put("error", status.error());
    shown.put("error_since", isoTime(status.errorSince()));
    answer.put("delivery", shown);
    if ("failing".equals(status.state()) && "ok".equals(answer.get("health"))) {
      answer.put("health", "failing: " + status.error());
    }
  }

  private static String isoTime(long millis) {
    return millis == 0 ? null : Casts.isoTimestamp(millis * 1000);
  }

  private void input(CatalogObject object, Map<String, Object> answer) {
    FeedStatus input = engine.input(object);
    if (input == null) {
      return;
    }
    Map<String, Object> shown = new LinkedHashMap<>();
    shown.put("connection", CatalogObject.sourceOf(object).connection());
    shown.put("state", input.state());
    shown.put("reason", input.reason());
    shown.put("messages", input.messages());
    shown.put("bytes", input.bytes());
    shown.put("behind", input.behind() < 0 ? null : input.behind());
    shown.put("behind_unit", input.behindUnit());
    shown.put("kept_bytes", input.kept() < 0 ? null : input.kept());
    answer.put("input", shown);
    if (input.reason() != null && "ok".equals(answer.get("health"))) {
      answer.put("health", input.state() + ": " + input.reason());
    }
  }

  private void figures(
      CatalogObject object, LiveNode node, Snapshot snapshot, Map<String, Object> answer) {
    RelationVersion version = snapshot.relation(object.id());
    if (version != null) {
      answer.put("rows", version.count());
      answer.put("row_bytes", version.heapBytes());
    }
    if (object instanceof CatalogObject.Stream && node instanceof InputNode stream) {
      answer.put("events", engine.position(object));
      answer.put("late", stream.late());
      answer.put("watermark", watermark(node));
    }
    answer.put("changed_epoch", node.lastEpoch());
    if (object instanceof CatalogObject.MaterializedView view) {
      ViewState state = engine.state(view);
      answer.put("state_bytes", state.bytes());
      answer.put("state_keys", state.keys());
      answer.put("late", state.late());
      answer.put("watermark", watermark(node));
      answer.put("rejects", state.rejects());
      answer.put("upkeep", view.upkeep().text());
      if (((QueryNode) node).refresher() != null) {
        waiting(((QueryNode) node).refresher(), answer);
      }
    } else {
      answer.put("rejects", node.rejected());
    }
    answer.put(
        "health",
        node.isLoading()
            ? "loading"
            : node.failure() == null ? "ok" : "stopped: " + node.failure());
  }

  private static void waiting(Refresher refresher, Map<String, Object> answer) {
    long last = refresher.lastMicros();
    answer.put("refreshed_at", last == Arrival.NONE ? null : Casts.isoTimestamp(last));
    answer.put("waiting_rows", refresher.waitingRows());
    answer.put("waiting_bytes", refresher.waitingBytes());
  }

  private static String watermark(LiveNode node) {
    long micros = node.watermarkMicros();
    boolean known = micros != Watermark.NONE && micros != Watermark.TIMELESS;
    return known ? Casts.isoTimestamp(micros) : null;
  }

  private Map<String, Object> column(Column column) {
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("name", column.name());
    answer.put("type", column.type().sql());
    answer.put("nullable", column.type().nullable());
    List<Column> fields = column.type().fields();
    if (!fields.isEmpty()) {
      answer.put("fields", fields.stream().map(this::column).toList());
    }
    return answer;
  }
}
