package dripledger.server;

import dripledger.engine.Engine;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Retention;
import dripledger.engine.row.RowLayout;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import dripledger.server.records.Journal;
import dripledger.server.records.LedgerUpkeep;
import dripledger.server.records.PostgresUpkeep;
import java.time.Instant;
import java.time.temporal.ChronoUnit;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.Executors;
import java.util.concurrent.ScheduledExecutorService;
import java.util.concurrent.ScheduledFuture;
import java.util.concurrent.TimeUnit;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Keeps the ledger small, every few minutes: lets go of the events of streams that are not to be
 * retained any longer, puts the rows of tables in the place of their changes, and merges the small
 * segments of pushed streams.
 */
final class RetentionJob implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(RetentionJob.class);
  private static final int MINUTES = 5;
  private static final int HISTORY_DAYS = 2;

  private final Engine engine;
  private final LedgerUpkeep upkeep;
  private final PostgresUpkeep history;
  private final Journal journal;
  private final int journalDays;
  private final ScheduledExecutorService schedule =
      Executors.newSingleThreadScheduledExecutor(task -> new Thread(task, "retention"));

  RetentionJob(
      Engine engine,
      LedgerUpkeep upkeep,
      PostgresUpkeep history,
      Journal journal,
      int journalDays) {
    this.journal = journal;
    this.journalDays = journalDays;
    this.engine = engine;
    this.history = history;
    this.upkeep = upkeep;
    ScheduledFuture<?> ignored =
        schedule.scheduleWithFixedDelay(this::run, 1, MINUTES, TimeUnit.MINUTES);
  }

  private void run() {
    for (CatalogObject object : engine.catalog().all()) {
      try {
        tidy(object);
      } catch (RuntimeException | ExecutionException e) {
        LOG.warn("the ledger of {} could not be tidied: {}", object.name(), e.getMessage());
      } catch (InterruptedException e) {
        return;
      }
    }
    try {
      upkeep.forgetChanges(Instant.now().minus(1, ChronoUnit.DAYS));
    } catch (RuntimeException e) {
      LOG.warn("old ids of changes are still there: {}", e.getMessage());
    }
    try {
      history.forget(Instant.now().minus(HISTORY_DAYS, ChronoUnit.DAYS));
      journal.forget(Instant.now().minus(journalDays, ChronoUnit.DAYS));
    } catch (RuntimeException e) {
      LOG.warn("a history is longer than it may be: {}", e.getMessage());
    }
  }

  private void tidy(CatalogObject object) throws ExecutionException, InterruptedException {
    if (object instanceof CatalogObject.Stream s && s.inLedger()) {
      long micros =
          s.source() == null ? Retention.FOREVER : Retention.micros(s.source().option("retain"));
      if (micros != Retention.FOREVER) {
        upkeep.forget(s.id(), Instant.now().minus(micros, ChronoUnit.MICROS));
      }
      RowLayout layout = new RowLayout(s.schema());
      while (upkeep.merge(s.id(), layout)) {
        LOG.debug("merged small segments of {}", s.name());
      }
    } else if (object instanceof CatalogObject.Table t && t.source() == null) {
      Snapshot snapshot = engine.snapshot();
      RelationVersion rows = snapshot.readable(t.id());
      if (upkeep.worthFolding(t.id(), rows.count())) {
        engine.checkpointer().request().get(); // one that holds these rows
        upkeep.fold(t.id(), snapshot.sequence(), rows::scan);
      }
    }
  }

  @Override
  public void close() {
    schedule.shutdownNow();
  }
}
