package dripledger.connectors.webhook;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.format.JsonRows;
import dripledger.engine.catalog.CatalogObject.Sink;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.Target;
import java.io.IOException;
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.time.Duration;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;

/**
 * Delivers by HTTP POST, a batch in one request or a few. What is answered by a 2xx has arrived.
 * What is refused for good (any other 4xx than those that mean later) is handed back; everything
 * else is an error, and the batch is sent again with the same key: so at least once, and once for
 * who remembers the keys.
 */
final class WebhookTarget implements Target {
  private static final Set<String> OPTIONS = Set.of("path", "batch_rows");
  private static final Set<Integer> LATER = Set.of(408, 409, 423, 425, 429);
  private static final int MOST_ROWS = 10_000;
  private static final int SHOWN = 200; // characters of an answer

  private final WebhookAccess access;
  private final Sink sink;
  private final String identity;
  private final int batchRows;
  private final HttpClient client;

  WebhookTarget(WebhookAccess access, Sink sink, String identity) {
    this.access = access;
    this.sink = sink;
    this.identity = identity;
    batchRows = batchRows(sink);
    client =
        HttpClient.newBuilder()
            .connectTimeout(Duration.ofSeconds(5))
            .followRedirects(HttpClient.Redirect.NEVER)
            .build();
  }

  /** Refuses options that mean nothing. */
  static void check(Sink sink) {
    ConnectionOptions.check(sink.target().options().keySet(), OPTIONS, "a delivery over HTTP");
    batchRows(sink);
    String format = sink.target().format();
    if (format != null && !format.equals("json")) {
      throw new EngineException(
          Code.INVALID, "a delivery over HTTP is JSON, not " + format, "leave FORMAT out");
    }
  }

  private static int batchRows(Sink sink) {
    return ConnectionOptions.count(sink.target(), "batch_rows", 500, MOST_ROWS);
  }

  /** What is posted of a batch. */
  static byte[] body(Sink sink, Outgoing batch, int from, int to) {
    List<Outgoing.Change> changes = batch.changes().subList(from, to);
    return JsonRows.batch(
        sink.name(),
        batch.epoch(),
        sink.schema().columns(),
        changes,
        sink.rows() == Sink.Rows.APPEND);
  }

  @Override
  public long next() {
    return -1;
  }

  @Override
  public Carried carry(List<Outgoing> batches) {
    long put = 0;
    long removed = 0;
    List<Refused> refused = new ArrayList<>();
    for (Outgoing batch : batches) {
      for (int from = 0; from < batch.changes().size(); from += batchRows) {
        int to = Math.min(batch.changes().size(), from + batchRows);
        byte[] body = body(sink, batch, from, to);
        String answer = post(body, identity + "-" + batch.number() + "-" + from);
        if (answer != null) {
          refused.add(new Refused(body, answer, "batch " + batch.number()));
          continue;
        }
        for (Outgoing.Change change : batch.changes().subList(from, to)) {
          put += change.after() == null ? 0 : 1;
          removed += change.after() == null ? 1 : 0;
        }
      }
    }
    return new Carried(put, 0, 0, removed, refused);
  }

  /** Sends once more what had been refused. */
  void resend(byte[] body) {
    String answer = post(body, identity + "-" + System.nanoTime());
    if (answer != null) {
      throw new EngineException(Code.FAILED, answer);
    }
  }

  /** Sends a request; answers why it is refused for good, or null. */
  private String post(byte[] body, String key) {
    String address = access.address(sink.target().option("path", ""));
    HttpRequest.Builder request =
        HttpRequest.newBuilder(URI.create(address))
            .timeout(access.timeout())
            .POST(HttpRequest.BodyPublishers.ofByteArray(body));
    access.headers(body, key, System.currentTimeMillis() / 1000).forEach(request::header);
    HttpResponse<String> response;
    try {
      response = client.send(request.build(), HttpResponse.BodyHandlers.ofString());
    } catch (IOException e) {
      String why = e.getMessage() == null ? "it cannot be reached" : e.getMessage();
      throw new EngineException(Code.FAILED, address + ": " + why);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new EngineException(Code.FAILED, "interrupted");
    }
    int status = response.statusCode();
    if (status >= 200 && status < 300) {
      return null;
    }
    String said = response.body().strip();
    String answer =
        address
            + " answers "
            + status
            + (said.isEmpty() ? "" : ": " + said.substring(0, Math.min(SHOWN, said.length())));
    if (status >= 400 && status < 500 && !LATER.contains(status)) {
      return answer;
    }
    throw new EngineException(Code.FAILED, answer);
  }

  @Override
  public void close() {}
}
