package dripledger.bench;

import java.io.IOException;
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.util.Arrays;
import java.util.SplittableRandom;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.concurrent.atomic.AtomicLong;
import java.util.concurrent.locks.LockSupport;

/**
 * Events pushed to a running service over HTTP: how long one takes until views show it, and how
 * many a second go through in one push. The baseline for the first is a statement that does
 * nothing, which takes the same way without the ledger and the epoch.
 */
final class Pushing {
  private static final int SINGLE = 2000;
  private static final int MANY = 300_000;
  private static final long PUSH_NANOS = 20_000_000;

  private final HttpClient http = HttpClient.newHttpClient();
  private final String base;

  Pushing(String base) {
    this.base = base;
  }

  void run() throws Exception {
    sql(
        "CREATE STREAM bench_scan (parcel BIGINT, gate VARCHAR, at TIMESTAMP, grams INTEGER);"
            + "CREATE MATERIALIZED VIEW bench_gate AS SELECT gate, COUNT(*) AS n, SUM(grams) AS g"
            + " FROM bench_scan GROUP BY gate");
    try {
      System.out.printf("%npushed over HTTP to %s%n", base);
      percentiles("a statement that does nothing", () -> sql("SELECT 1"));
      String event = event(new SplittableRandom(1));
      percentiles("one event until views show it", () -> push(event));
      SplittableRandom random = new SplittableRandom(2);
      StringBuilder body = new StringBuilder();
      for (int i = 0; i < MANY; i++) {
        body.append(event(random));
      }
      double best = 0;
      for (int round = 0; round < 4; round++) {
        long began = System.nanoTime();
        push(body.toString());
        best = Math.max(best, MANY / ((System.nanoTime() - began) / 1e9));
      }
      System.out.printf("  %,d events in one push, shown: %,.0f a second%n", MANY, best);
      underLoad(best / 2, event);
    } finally {
      sql("DROP STREAM bench_scan CASCADE");
    }
  }

  /** One event at a time beside so many others a second, which come in a push every so often. */
  private void underLoad(double perSecond, String event) throws Exception {
    int each = (int) (perSecond * PUSH_NANOS / 1e9);
    SplittableRandom random = new SplittableRandom(3);
    StringBuilder body = new StringBuilder();
    for (int i = 0; i < each; i++) {
      body.append(event(random));
    }
    String events = body.toString();
    AtomicBoolean ends = new AtomicBoolean();
    AtomicLong pushed = new AtomicLong();
    Thread load =
        new Thread(
            () -> {
              long due = System.nanoTime();
              while (!ends.get()) {
                due = Math.max(due + PUSH_NANOS, System.nanoTime() - PUSH_NANOS);
                try {
                  push(events);
                } catch (IOException | InterruptedException e) {
                  System.out.println("the load ends: " + e.getMessage());
                  return;
                }
                pushed.addAndGet(each);
                LockSupport.parkNanos(due - System.nanoTime());
              }
            });
    load.start();
    long began = System.nanoTime();
    percentiles("the same at half of that load", () -> push(event));
    ends.set(true);
    load.join();
    System.out.printf(
        "  load: %,.0f events a second, wanted %,.0f%n",
        pushed.get() / ((System.nanoTime() - began) / 1e9), perSecond);
  }

  private static String event(SplittableRandom random) {
    return "{\"parcel\":"
        + random.nextInt(500_000)
        + ",\"gate\":\"G"
        + (10 + random.nextInt(24))
        + "\",\"at\":\"2026-03-02T06:14:0"
        + random.nextInt(10)
        + ".120Z\",\"grams\":"
        + random.nextInt(5000)
        + "}\n";
  }

  private interface Request {
    void send() throws Exception;
  }

  /** The second half of the requests counts: the first warms up. */
  private static void percentiles(String what, Request request) throws Exception {
    long[] nanos = new long[SINGLE];
    for (int i = 0; i < 2 * SINGLE; i++) {
      long began = System.nanoTime();
      request.send();
      nanos[i % SINGLE] = System.nanoTime() - began;
    }
    Arrays.sort(nanos);
    System.out.printf(
        "  %-32s p50 %.2f ms, p99 %.2f ms%n",
        what, nanos[SINGLE / 2] / 1e6, nanos[SINGLE * 99 / 100] / 1e6);
  }

  private void push(String events) throws IOException, InterruptedException {
    post("/api/v1/streams/bench_scan/events?wait=applied", "application/x-ndjson", events);
  }

  private void sql(String script) throws IOException, InterruptedException {
    String quoted = "\"" + script.replace("\"", "\\\"") + "\"";
    post("/api/v1/sql", "application/json", "{\"sql\":" + quoted + "}");
  }

  private void post(String path, String type, String body)
      throws IOException, InterruptedException {
    HttpResponse<String> answer =
        http.send(
            HttpRequest.newBuilder(URI.create(base + path))
                .header("Content-Type", type)
                .POST(HttpRequest.BodyPublishers.ofString(body))
                .build(),
            HttpResponse.BodyHandlers.ofString());
    if (answer.statusCode() >= 300) {
      throw new IOException(path + ": " + answer.body());
    }
  }
}
