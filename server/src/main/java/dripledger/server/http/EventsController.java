package dripledger.server.http;

import dripledger.connectors.OutsideSystems;
import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.EventParser;
import dripledger.connectors.format.FormatException;
import dripledger.engine.Engine;
import dripledger.engine.access.Privilege;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.row.BoxedRows;
import dripledger.server.Settings;
import jakarta.servlet.http.HttpServletRequest;
import java.io.BufferedInputStream;
import java.io.IOException;
import java.io.InputStream;
import java.time.LocalDateTime;
import java.time.ZoneOffset;
import java.time.temporal.ChronoUnit;
import java.util.HashMap;
import java.util.Map;
import java.util.concurrent.Semaphore;
import java.util.zip.GZIPInputStream;
import java.util.zip.ZipException;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.PostMapping;
import org.springframework.web.bind.annotation.RequestHeader;
import org.springframework.web.bind.annotation.RequestParam;
import org.springframework.web.bind.annotation.RestController;

/**
 * {@code POST /api/v1/streams/{name}/events}: takes events and answers once they are durable, or
 * with {@code wait=applied} once the views show them. Events of one {@code producer} are a
 * partition of the stream.
 */
@RestController
class EventsController {
  /** Each has a watermark of its own in the stream. */
  private static final int MAX_PRODUCERS = 1024;

  private final Engine engine;
  private final PushKeys keys = new PushKeys();
  private final OutsideSystems outside;
  private final Semaphore places;
  private final long waitMillis;

  EventsController(Engine engine, OutsideSystems outside, Settings settings) {
    this.engine = engine;
    this.outside = outside;
    places = new Semaphore(settings.maxWaitingPushes());
    waitMillis = settings.changeMillis();
  }

  @PostMapping("/api/v1/streams/{name}/events")
  @Needs(Privilege.INSERT)
  Map<String, Object> push(
      @PathVariable String name,
      @RequestParam(name = "wait", required = false) String wait,
      @RequestParam(name = "producer", defaultValue = "0") String producer,
      @RequestHeader(name = "Idempotency-Key", required = false) String key,
      HttpServletRequest request)
      throws IOException {
    // Readers need threads too: what waits for the database must not take them all.
    if (!places.tryAcquire()) {
      throw new EngineException(
          EngineException.Code.UNAVAILABLE,
          "as many pushes as may are waiting for the database",
          "nothing was taken; push again in a moment");
    }
    try {
      return pushed(name, wait, number(producer), key, request);
    } finally {
      places.release();
    }
  }

  private static int number(String producer) {
    if (!producer.matches("\\d{1,4}") || Integer.parseInt(producer) >= MAX_PRODUCERS) {
      throw new EngineException(
          EngineException.Code.INVALID,
          "producer is a whole number from 0 to " + (MAX_PRODUCERS - 1),
          "give each of those that push a number of its own, or leave it out");
    }
    return Integer.parseInt(producer);
  }

  private Map<String, Object> pushed(
      String name, String wait, int producer, String key, HttpServletRequest request)
      throws IOException {
    CatalogObject object = engine.object(name);
    if (!(object instanceof CatalogObject.Stream stream)) {
      throw new EngineException(
          EngineException.Code.INVALID,
          "\"" + name + "\" is " + object.aKind() + ", and events go to streams",
          object instanceof CatalogObject.Table ? "use INSERT for a table" : null);
    }
    if (wait != null && !wait.equals("applied")) {
      throw new EngineException(
          EngineException.Code.INVALID,
          "wait can be \"applied\"",
          "leave it out or say wait=applied");
    }
    if (stream.source() != null) {
      throw new EngineException(
          EngineException.Code.INVALID,
          "\"" + name + "\" is read from " + stream.source().connection() + " and not pushed to",
          "send the event there");
    }
    LocalDateTime now = LocalDateTime.now(ZoneOffset.UTC);
    Map<Integer, Long> filled = new HashMap<>();
    stream.origins().meta().forEach((column, meta) -> filled.put(column, BoxedRows.micros(now)));
    DriftLog drift = outside.pushed(stream);
    String pushed = "pushed at " + now.truncatedTo(ChronoUnit.SECONDS) + "Z";
    drift.at(() -> pushed);
    String id = keys.begin(stream.id(), key);
    Push push = new Push(engine, stream, producer, id, now);
    EngineException failure = null;
    try (InputStream body = body(request)) {
      EventParser.Format format = format(request.getContentType(), body);
      new EventParser(stream.schema(), stream.origins(), filled, push::rows, push::reject, drift)
          .parse(body, format);
      push.end();
    } catch (FormatException e) {
      failure = new EngineException(EngineException.Code.INVALID, e.getMessage(), null);
    } catch (EngineException e) {
      failure = e; // of what came before it is to be told
    } finally {
      keys.end(id, push.receipts());
    }
    return push.answer(failure, wait != null, waitMillis);
  }

  /** The request's body, unpacked if it is in gzip. */
  private static InputStream body(HttpServletRequest request) throws IOException {
    String encoding = request.getHeader("Content-Encoding");
    InputStream raw = request.getInputStream();
    if (encoding == null || encoding.equalsIgnoreCase("identity")) {
      return new BufferedInputStream(raw, 1 << 16);
    }
    if (!encoding.equalsIgnoreCase("gzip")) {
      throw new EngineException(
          EngineException.Code.INVALID,
          "a body in \"" + encoding + "\" cannot be read",
          "send it in gzip, or as it is");
    }
    try {
      return new BufferedInputStream(new GZIPInputStream(raw, 1 << 16), 1 << 16);
    } catch (ZipException e) {
      throw new EngineException(
          EngineException.Code.INVALID, "the body is not in gzip, as its header says", null);
    }
  }

  /** By content type; without a telling one, by the first character. */
  private static EventParser.Format format(String contentType, InputStream body)
      throws IOException {
    String type = contentType == null ? "" : contentType.split(";")[0].strip();
    switch (type) {
      case "text/csv":
        return EventParser.Format.CSV;
      case "application/x-ndjson", "application/jsonl", "application/ndjson":
        return EventParser.Format.NDJSON;
      default:
        body.mark(1 << 12);
        int first = body.read();
        for (int i = 0; i < 4000 && first >= 0 && first <= ' '; i++) {
          first = body.read();
        }
        body.reset();
        return first == '[' ? EventParser.Format.JSON_ARRAY : EventParser.Format.NDJSON;
    }
  }
}
