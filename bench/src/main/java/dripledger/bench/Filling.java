package dripledger.bench;

import dripledger.engine.Engine;
import dripledger.engine.EngineOptions;
import dripledger.engine.TestEngine;
import dripledger.engine.source.Connectors;
import java.time.Clock;
import java.util.Arrays;
import java.util.concurrent.CompletableFuture;
import java.util.function.BooleanSupplier;

/**
 * How long a changed row takes until views show it, before, while and after another view is made
 * over all the rows there are.
 */
final class Filling {
  private static final int BATCH = 50_000;
  private static final int CHANGES = 2000;

  private final int rows;

  /**
   * @param rows of the table
   */
  Filling(int rows) {
    this.rows = rows;
  }

  void run() {
    EngineOptions usual = EngineOptions.defaults();
    EngineOptions options =
        new EngineOptions(
            usual.maxEpochRows(),
            usual.maxQueuedBytes(),
            usual.maxResultRows(),
            usual.maxFollowerRows(),
            usual.maxHeldBytes(),
            3_600_000, // what is saved would be kept in this heap
            0,
            usual.maxQueryBytes(),
            usual.changeMillis(),
            usual.workers(),
            usual.togetherRows());
    Engine engine = new Engine(options, TestEngine.records(), Connectors.NONE, Clock.systemUTC());
    engine.start();
    engine.execute(
        "CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate INTEGER, grams INTEGER);"
            + "CREATE MATERIALIZED VIEW by_gate AS SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate");
    for (int from = 0; from < rows; from += BATCH) {
      engine.execute(
          "INSERT INTO parcel SELECT i, i % 1000, i % 30000 FROM generate_series("
              + from
              + ", "
              + (from + BATCH - 1)
              + ") AS s (i)");
    }
    System.out.printf("%na view is made over %,d rows; one row changed, until all show it%n", rows);
    latencies("warm-up", engine, new int[1], null);
    int[] next = {0};
    latencies("before", engine, next, null);
    long began = System.nanoTime();
    CompletableFuture<Void> made =
        CompletableFuture.runAsync(
            () ->
                engine.execute(
                    "CREATE MATERIALIZED VIEW heavy AS SELECT grams, COUNT(*) AS n, MAX(parcel) AS m"
                        + " FROM parcel GROUP BY grams"));
    latencies("while it is made", engine, next, made::isDone);
    made.join();
    System.out.printf("  it took %.1f s%n", (System.nanoTime() - began) / 1e9);
    latencies("after", engine, next, null);
    engine.close();
  }

  private static void latencies(String when, Engine engine, int[] next, BooleanSupplier until) {
    long[] nanos = new long[1024];
    int count = 0;
    while (until == null ? count < CHANGES : !until.getAsBoolean()) {
      int parcel = next[0]++ * 7919 % 1_000_000;
      long began = System.nanoTime();
      engine.execute("UPDATE parcel SET grams = grams + 1 WHERE parcel = " + parcel);
      if (count == nanos.length) {
        nanos = Arrays.copyOf(nanos, 2 * count);
      }
      nanos[count++] = System.nanoTime() - began;
    }
    Arrays.sort(nanos, 0, count);
    System.out.printf(
        "  %-20s %,7d changes: median %.2f ms, of a hundred the slowest %.2f ms, slowest %.2f ms%n",
        when, count, nanos[count / 2] / 1e6, nanos[count * 99 / 100] / 1e6, nanos[count - 1] / 1e6);
  }
}
