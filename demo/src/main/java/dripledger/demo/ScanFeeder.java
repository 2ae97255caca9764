package dripledger.demo;

import java.io.IOException;
import java.io.OutputStream;
import java.net.HttpURLConnection;
import java.net.URI;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.time.Instant;

/** Pushes generated scans to the service, first of the past minutes, then as time goes. */
public final class ScanFeeder {
  private static final int BATCHES_A_SECOND = 4;

  private final String url;
  private final ScanGenerator generator;
  private final int eventsPerSecond;

  public ScanFeeder(String url, long seed, int eventsPerSecond) {
    this.url = url;
    this.generator = new ScanGenerator(seed);
    this.eventsPerSecond = eventsPerSecond;
  }

  /** Arguments: the service's URL, the seed, events a second. Runs until it is stopped. */
  public static void main(String[] args) throws InterruptedException {
    new ScanFeeder(args[0], Long.parseLong(args[1]), Integer.parseInt(args[2])).live();
  }

  /** Pushes what was scanned in the past, evenly spread; answers the number of events. */
  public int past(Duration span) throws IOException {
    int count = (int) (span.toSeconds() * eventsPerSecond);
    Instant end = Instant.now();
    StringBuilder body = new StringBuilder();
    for (int i = 0; i < count; i++) {
      Instant at = end.minus(span).plusNanos(span.toNanos() / count * i);
      body.append(generator.next(at)).append('\n');
      if (i % 4000 == 3999) {
        push(body.toString());
        body.setLength(0);
      }
    }
    push(body.toString());
    return count;
  }

  private void live() throws InterruptedException {
    while (true) {
      StringBuilder body = new StringBuilder();
      for (int i = 0; i < eventsPerSecond / BATCHES_A_SECOND; i++) {
        body.append(generator.next(Instant.now())).append('\n');
      }
      try {
        push(body.toString());
      } catch (IOException e) {
        System.err.println(Instant.now() + " the service does not answer: " + e.getMessage());
        Thread.sleep(2000);
      }
      Thread.sleep(1000 / BATCHES_A_SECOND);
    }
  }

  private void push(String body) throws IOException {
    HttpURLConnection connection =
        (HttpURLConnection)
            URI.create(url + "/api/v1/streams/scan/events").toURL().openConnection();
    connection.setRequestMethod("POST");
    connection.setDoOutput(true);
    connection.setRequestProperty("Content-Type", "application/x-ndjson");
    connection.setConnectTimeout(5000);
    connection.setReadTimeout(60_000);
    try (OutputStream out = connection.getOutputStream()) {
      out.write(body.getBytes(StandardCharsets.UTF_8));
    }
    if (connection.getResponseCode() != 200) {
      throw new IOException("status " + connection.getResponseCode());
    }
    connection.getInputStream().readAllBytes();
  }
}
