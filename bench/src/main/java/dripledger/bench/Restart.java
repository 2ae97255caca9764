package dripledger.bench;

import dripledger.demo.PostgresCluster;
import dripledger.engine.Engine;
import dripledger.engine.EngineOptions;
import dripledger.engine.MemoryLedger;
import dripledger.engine.Records;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Ledger;
import dripledger.server.records.Fence;
import dripledger.server.records.Journal;
import dripledger.server.records.PostgresAccess;
import dripledger.server.records.PostgresCheckpoints;
import dripledger.server.records.PostgresDefinitions;
import dripledger.server.records.PostgresUpkeep;
import dripledger.server.records.Rejects;
import java.time.Clock;
import java.util.Arrays;
import java.util.concurrent.CompletableFuture;
import org.flywaydb.core.Flyway;
import org.postgresql.ds.PGSimpleDataSource;

/**
 * What a start takes with many keys of state: an aggregate with one row a key is saved into a real
 * database and comes back in a new engine.
 */
final class Restart {
  private static final int PIECE = 65_536;
  private static final long STEP = 7_368_787; // a prime: keys come in no order

  private final int keys;
  private final PGSimpleDataSource store = new PGSimpleDataSource();
  private final MemoryLedger ledger = new MemoryLedger();

  Restart(int keys) {
    this.keys = keys;
  }

  void run() throws Exception {
    PostgresCluster cluster = PostgresCluster.temporary(false);
    store.setURL(cluster.jdbcUrl(PostgresCluster.DATABASE));
    store.setUser(PostgresCluster.USER);
    store.setPassword("loopback");
    Flyway.configure().dataSource(store).load().migrate();
    Engine engine = engine();
    engine.execute(
        "CREATE STREAM scan (parcel BIGINT NOT NULL, grams BIGINT NOT NULL);"
            + " CREATE MATERIALIZED VIEW v AS SELECT parcel, COUNT(*) AS n, SUM(grams) AS g FROM"
            + " scan GROUP BY parcel");
    fill(engine);
    long began = System.nanoTime();
    engine.checkpointer().request().get();
    System.out.printf(
        "%nrestart, %,d keys%n  saved in %.1f s, %,d bytes%n",
        engine.relation("v").count(),
        (System.nanoTime() - began) / 1e9,
        engine.checkpointer().figures().totalBytes());
    long sum = sum(engine);
    engine.close();
    began = System.nanoTime();
    Engine again = engine();
    double seconds = (System.nanoTime() - began) / 1e9;
    boolean same = sum(again) == sum && again.relation("v").count() == keys;
    again.close();
    System.out.printf("  back in %.1f s, %s%n", seconds, same ? "the same" : "NOT THE SAME");
    if (!same) {
      throw new IllegalStateException("what came back is not what was saved");
    }
  }

  private void fill(Engine engine) {
    CatalogObject.Stream stream = (CatalogObject.Stream) engine.object("scan");
    RowLayout layout = new RowLayout(stream.schema());
    CompletableFuture<Ledger.Receipt> last = null;
    for (int from = 0; from < keys; from += PIECE) {
      Page page = new Page(layout, PIECE);
      for (int i = from; i < Math.min(keys, from + PIECE); i++) {
        RowWriter writer = page.begin();
        writer.setLong(0, i * STEP % keys);
        writer.setLong(1, i % 30_000);
        page.commit(1);
      }
      last = engine.append(stream, page, 0);
    }
    engine.awaitApplied(last.join().sequence());
  }

  private static long sum(Engine engine) {
    long[] sum = new long[1];
    try (var pinned = engine.pin()) {
      pinned
          .snapshot()
          .readable(engine.object("v").id())
          .scan(
              page -> {
                for (int i = 0; i < page.size(); i++) {
                  byte[] bytes = page.bytes();
                  int at = page.start(i);
                  RowLayout layout = page.layout();
                  long[] row = {
                    layout.slot(bytes, at, 0), layout.slot(bytes, at, 1), layout.slot(bytes, at, 2)
                  };
                  sum[0] += Arrays.hashCode(row);
                }
              });
    }
    return sum[0];
  }

  private Engine engine() {
    Engine engine =
        new Engine(
            EngineOptions.defaults(),
            new Records(
                ledger,
                new PostgresDefinitions(store, Fence.NONE),
                new PostgresCheckpoints(store, Fence.NONE, 100),
                new Rejects(store),
                new PostgresUpkeep(store),
                new PostgresAccess(store, new Journal(store))),
            Connectors.NONE,
            Clock.systemUTC());
    engine.start();
    return engine;
  }
}
