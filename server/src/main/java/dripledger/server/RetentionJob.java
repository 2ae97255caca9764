package dripledger.server;

import dripledger.engine.Engine;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Retention;
import dripledger.server.records.PostgresLedger;
import java.time.Instant;
import java.time.temporal.ChronoUnit;
import java.util.concurrent.Executors;
import java.util.concurrent.ScheduledExecutorService;
import java.util.concurrent.ScheduledFuture;
import java.util.concurrent.TimeUnit;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/** Lets go, every few minutes, of the events of streams that are not to be retained any longer. */
final class RetentionJob implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(RetentionJob.class);
  private static final int MINUTES = 5;

  private final Engine engine;
  private final PostgresLedger ledger;
  private final ScheduledExecutorService schedule =
      Executors.newSingleThreadScheduledExecutor(task -> new Thread(task, "retention"));

  RetentionJob(Engine engine, PostgresLedger ledger) {
    this.engine = engine;
    this.ledger = ledger;
    ScheduledFuture<?> ignored =
        schedule.scheduleWithFixedDelay(this::run, 1, MINUTES, TimeUnit.MINUTES);
  }

  private void run() {
    for (CatalogObject object : engine.catalog().all()) {
      if (object instanceof CatalogObject.Stream s && s.source() != null && s.inLedger()) {
        long micros = Retention.micros(s.source().option("retain"));
        if (micros != Retention.FOREVER) {
          try {
            ledger.forget(s.id(), Instant.now().minus(micros, ChronoUnit.MICROS));
          } catch (RuntimeException e) {
            LOG.warn("old events of {} are still there: {}", s.name(), e.getMessage());
          }
        }
      }
    }
  }

  @Override
  public void close() {
    schedule.shutdownNow();
  }
}
