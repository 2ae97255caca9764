package dripledger.engine;

import dripledger.engine.source.Connectors;
import dripledger.engine.view.Pinned;
import java.lang.management.ManagementFactory;
import java.util.List;

/**
 * Prints what tables and views are said to hold and what the heap has more: a line for each case.
 * It has a process of its own: the heap of the tests has what other tests leave behind, which goes
 * whenever it likes.
 */
final class HeldBytes {
  private static final int ROWS = 150_000;
  private static final int BATCH = 15_000;
  private static final List<String> QUERIES =
      List.of(
          "SELECT parcel, COUNT(*) AS n, SUM(grams) AS g FROM parcel GROUP BY parcel",
          "SELECT gate, COUNT(DISTINCT name) AS n FROM parcel GROUP BY gate",
          "SELECT gate, MAX(grams) AS m FROM parcel GROUP BY gate",
          "SELECT p.parcel, g.hall FROM parcel AS p LEFT JOIN gate AS g ON g.gate = p.gate",
          "SELECT a.parcel, b.grams FROM parcel AS a JOIN parcel AS b ON b.parcel = a.gate",
          "SELECT * FROM parcel QUALIFY ROW_NUMBER() OVER (PARTITION BY gate ORDER BY grams) <= 3",
          "SELECT parcel, LAG(grams) OVER (PARTITION BY gate ORDER BY parcel) AS b FROM parcel");

  /** The heap in use once nothing more can be given back, in bytes. */
  private static long used() {
    long last;
    long now = Long.MAX_VALUE;
    do {
      last = now;
      System.gc();
      now = ManagementFactory.getMemoryMXBean().getHeapMemoryUsage().getUsed();
    } while (now < last - 10_000);
    return now;
  }

  private final Records records = TestEngine.records();

  private HeldBytes() {}

  public static void main(String[] arguments) {
    for (String query : QUERIES) {
      new HeldBytes().aTableAndAViewOfIt(query);
    }
    new HeldBytes().anIndex();
    new HeldBytes().anIndexOnWhatIsComputed();
    new HeldBytes().whatIsKeptForAReaderOfAnOlderEpoch();
    System.exit(0); // whatever threads there still are
  }

  private Engine engine() {
    EngineOptions usual = EngineOptions.defaults();
    Engine engine =
        new Engine(
            new EngineOptions(
                usual.maxEpochRows(),
                usual.maxQueuedBytes(),
                1000,
                10,
                1L << 30,
                3_600_000, // saved state would be in the same heap
                0,
                1L << 30,
                usual.changeMillis(),
                2,
                1),
            records,
            Connectors.NONE,
            TestEngine.CLOCK);
    engine.start();
    engine.execute(
        "CREATE TABLE gate (gate INTEGER PRIMARY KEY, hall VARCHAR);"
            + "CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate INTEGER, grams INTEGER, name"
            + " VARCHAR);"
            + "INSERT INTO gate SELECT i, 'hall ' || i FROM generate_series(0, 999) AS s (i)");
    return engine;
  }

  private void fill(Engine engine) {
    for (int from = 0; from < ROWS; from += BATCH) {
      engine.execute(
          "INSERT INTO parcel SELECT i, i % 1000, i * 7919 % 100003, 'a name of parcel ' || i"
              + " FROM generate_series("
              + from
              + ", "
              + (from + BATCH - 1)
              + ") AS s (i)");
    }
  }

  /** The ledger of these tests is in the same heap, and not in what views hold. */
  private void forgetLedger() {
    ((MemoryLedger) records.ledger()).forget();
  }

  private static long saysItHolds(Engine engine) {
    engine.loop().between(() -> {}).join(); // the figure is of the newest epoch
    return engine.loop().heldBytes();
  }

  private void check(String what, Engine engine, Runnable change) {
    forgetLedger();
    long heldBefore = saysItHolds(engine);
    long before = used();
    change.run();
    forgetLedger();
    long held = saysItHolds(engine) - heldBefore;
    long heap = used() - before;
    System.out.println(HeldBytesTest.MARK + what + "	" + held + "	" + heap);
  }

  private void aTableAndAViewOfIt(String query) {
    try (Engine engine = engine()) {
      engine.execute("CREATE MATERIALIZED VIEW v AS " + query);
      check(query, engine, () -> fill(engine));
    }
  }

  private void anIndex() {
    try (Engine engine = engine()) {
      fill(engine);
      check(
          "an index",
          engine,
          () -> {
            engine.execute("CREATE INDEX ON parcel (gate, name)");
            engine.execute("SELECT * FROM parcel WHERE gate = 7"); // made when first asked for
            engine.execute("UPDATE parcel SET grams = 1 WHERE parcel = 7");
          });
    }
  }

  private void anIndexOnWhatIsComputed() {
    try (Engine engine = engine()) {
      engine.execute(
          "CREATE MATERIALIZED VIEW v AS SELECT parcel, SUM(grams) AS s FROM parcel GROUP BY parcel");
      fill(engine);
      check(
          "an index on what an aggregate computes",
          engine,
          () -> {
            engine.execute("CREATE INDEX ON v (s)");
            engine.execute("SELECT * FROM v WHERE s = 7"); // made when first asked for
            engine.execute("UPDATE parcel SET grams = 1 WHERE parcel = 7");
          });
    }
  }

  private void whatIsKeptForAReaderOfAnOlderEpoch() {
    try (Engine engine = engine()) {
      fill(engine);
      try (Pinned reader = engine.loop().pin()) {
        check(
            "an older reader",
            engine,
            () -> engine.execute("UPDATE parcel SET name = name || ' again'"));
        reader.snapshot(); // which is still read
      }
    }
  }
}
