package dripledger.server.http;

import dripledger.connectors.format.JsonRows;
import dripledger.engine.Engine;
import dripledger.engine.error.EngineException;
import dripledger.engine.query.Subscription;
import dripledger.server.Settings;
import jakarta.servlet.http.HttpServletResponse;
import java.io.IOException;
import java.io.OutputStream;
import java.io.StringWriter;
import java.nio.charset.StandardCharsets;
import java.util.Map;
import java.util.concurrent.Semaphore;
import org.springframework.context.SmartLifecycle;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RequestParam;
import org.springframework.web.bind.annotation.RestController;
import tools.jackson.core.JsonGenerator;
import tools.jackson.databind.json.JsonMapper;

/**
 * {@code GET /api/v1/follow?sql=…}: server-sent events. {@code snapshot} is the whole answer,
 * {@code changes} what one epoch changed, {@code end} why nothing more comes. A client that
 * reconnects gets a new snapshot, so nothing can be missed. Each follower holds one thread; their
 * number is bounded.
 */
@RestController
class FollowController implements SmartLifecycle {
  private static final long HEARTBEAT_MILLIS = 5_000;

  private final Engine engine;
  private final JsonMapper mapper;
  private final Semaphore places;
  private volatile boolean running;

  FollowController(Engine engine, Settings settings, JsonMapper mapper) {
    this.engine = engine;
    this.mapper = mapper;
    this.places = new Semaphore(settings.maxFollowers());
  }

  @GetMapping("/api/v1/follow")
  void follow(@RequestParam String sql, HttpServletResponse response) throws IOException {
    if (!places.tryAcquire()) {
      throw new EngineException(
          EngineException.Code.LIMIT,
          "too many followers at the same time",
          "close some, or raise drip.max-followers");
    }
    try (Subscription subscription = engine.follow(sql, Map.of())) {
      response.setContentType("text/event-stream;charset=utf-8");
      response.setHeader("Cache-Control", "no-store");
      response.setHeader("X-Accel-Buffering", "no");
      pump(subscription, response);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    } finally {
      places.release();
    }
  }

  private void pump(Subscription subscription, HttpServletResponse response)
      throws IOException, InterruptedException {
    OutputStream out = response.getOutputStream();
    send(out, "retry: 1000\n\n");
    long lastSent = System.currentTimeMillis();
    try {
      while (running) {
        Subscription.Batch batch = subscription.poll(250);
        if (batch != null) {
          send(out, event(subscription, batch));
          lastSent = System.currentTimeMillis();
        } else if (subscription.ended() != null) {
          send(
              out, "event: end\ndata: " + mapper.writeValueAsString(subscription.ended()) + "\n\n");
          return;
        } else if (System.currentTimeMillis() - lastSent > HEARTBEAT_MILLIS) {
          send(out, ": still here\n\n");
          lastSent = System.currentTimeMillis();
        }
      }
    } catch (IOException e) {
      // The follower went away: that is how following ends.
      return;
    }
    send(out, "event: end\ndata: \"the service is shutting down\"\n\n");
  }

  private static void send(OutputStream out, String text) throws IOException {
    out.write(text.getBytes(StandardCharsets.UTF_8));
    out.flush();
  }

  private String event(Subscription subscription, Subscription.Batch batch) throws IOException {
    StringWriter text = new StringWriter();
    text.write(
        "event: "
            + (batch.snapshot() ? "snapshot" : "changes")
            + "\nid: "
            + batch.epoch()
            + "\ndata: ");
    try (JsonGenerator json = mapper.createGenerator(text)) {
      json.writeStartObject();
      json.writeNumberProperty("epoch", batch.epoch());
      if (batch.snapshot()) {
        JsonRows.columns(json, subscription.columns());
      }
      json.writeArrayPropertyStart("changes");
      for (Subscription.Change change : batch.changes()) {
        json.writeStartObject();
        json.writeNumberProperty("weight", change.weight());
        json.writeName("row");
        JsonRows.array(json, subscription.columns(), change.row());
        json.writeEndObject();
      }
      json.writeEndArray();
      json.writeEndObject();
    }
    return text.append("\n\n").toString();
  }

  @Override
  public void start() {
    running = true;
  }

  // Stopped before the web server waits for open requests, which these would never let end.
  @Override
  public void stop() {
    running = false;
  }

  @Override
  public boolean isRunning() {
    return running;
  }

  @Override
  public int getPhase() {
    return Integer.MAX_VALUE;
  }
}
