package dripledger.server;

import dripledger.connectors.OutsideSystems;
import dripledger.connectors.Reach;
import dripledger.engine.Engine;
import dripledger.engine.EngineOptions;
import dripledger.engine.Records;
import dripledger.engine.circuit.Refresher;
import dripledger.server.records.Journal;
import dripledger.server.records.LedgerUpkeep;
import dripledger.server.records.Ownership;
import dripledger.server.records.PostgresAccess;
import dripledger.server.records.PostgresCheckpoints;
import dripledger.server.records.PostgresDefinitions;
import dripledger.server.records.PostgresDrift;
import dripledger.server.records.PostgresLedger;
import dripledger.server.records.PostgresUpkeep;
import dripledger.server.records.Rejects;
import dripledger.server.records.Secrets;
import java.nio.file.Path;
import java.time.Clock;
import javax.sql.DataSource;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import org.springframework.boot.SpringApplication;
import org.springframework.boot.sql.init.dependency.DependsOnDatabaseInitialization;
import org.springframework.context.ConfigurableApplicationContext;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;

/** Wires the engine to its records. */
@Configuration
class EngineConfiguration {
  private static final Logger LOG = LoggerFactory.getLogger(EngineConfiguration.class);
  private static final int EXIT_CODE = 3;

  @Bean(destroyMethod = "close")
  @DependsOnDatabaseInitialization
  Ownership ownership(DataSource dataSource) {
    return new Ownership(dataSource);
  }

  @Bean(destroyMethod = "close")
  PostgresLedger ledger(DataSource dataSource, Ownership ownership, Settings settings) {
    return new PostgresLedger(
        dataSource, ownership, settings.maxUnacknowledgedBytes(), settings.maxRejects());
  }

  @Bean
  @DependsOnDatabaseInitialization
  PostgresCheckpoints checkpoints(DataSource dataSource, Ownership ownership, Settings settings) {
    return new PostgresCheckpoints(dataSource, ownership, settings.maxRejects());
  }

  @Bean
  @DependsOnDatabaseInitialization
  Rejects rejects(DataSource dataSource) {
    return new Rejects(dataSource);
  }

  @Bean
  @DependsOnDatabaseInitialization
  PostgresUpkeep upkeep(DataSource dataSource) {
    return new PostgresUpkeep(dataSource);
  }

  @Bean
  @DependsOnDatabaseInitialization
  Secrets secrets(DataSource dataSource, Settings settings) {
    return new Secrets(dataSource, Path.of(settings.secretKeyFile()));
  }

  @Bean(destroyMethod = "close")
  OutsideSystems outsideSystems(DataSource dataSource, Secrets secrets, Settings settings) {
    return new OutsideSystems(
        secrets::value,
        settings.connectionCheckSeconds(),
        new PostgresDrift(dataSource),
        waiting(settings),
        new Reach(settings.fileFolders().stream().map(Path::of).toList(), settings.webHosts()));
  }

  /** The folder for what waits on disk. */
  private static Path waiting(Settings settings) {
    return Path.of(
        settings.waitingDirectory().isEmpty()
            ? System.getProperty("java.io.tmpdir")
            : settings.waitingDirectory());
  }

  @Bean(destroyMethod = "close")
  RetentionJob retention(
      Engine engine,
      DataSource dataSource,
      Ownership ownership,
      PostgresUpkeep history,
      Journal journal,
      Settings settings) {
    return new RetentionJob(
        engine, new LedgerUpkeep(dataSource, ownership), history, journal, settings.journalDays());
  }

  @Bean
  @DependsOnDatabaseInitialization
  PostgresDefinitions definitions(DataSource dataSource, Ownership ownership) {
    return new PostgresDefinitions(dataSource, ownership);
  }

  // Spring closes beans in reverse order of dependence: the engine first, then the ledger.
  @Bean(destroyMethod = "close")
  Engine engine(
      PostgresLedger ledger,
      PostgresDefinitions definitions,
      PostgresCheckpoints checkpoints,
      Rejects rejects,
      PostgresUpkeep upkeep,
      PostgresAccess access,
      OutsideSystems outsideSystems,
      Ownership ownership,
      Settings settings,
      ConfigurableApplicationContext context) {
    EngineOptions options =
        new EngineOptions(
            settings.maxEpochRows(),
            settings.maxQueuedBytes(),
            settings.maxResultRows(),
            settings.maxFollowerChanges(),
            settings.maxHeldBytes() == 0 ? EngineOptions.heapShare() : settings.maxHeldBytes(),
            settings.checkpointMillis(),
            settings.queryMillis(),
            settings.maxQueryBytes() == 0 ? EngineOptions.queryShare() : settings.maxQueryBytes(),
            settings.changeMillis(),
            settings.workers() == 0 ? EngineOptions.cores() : settings.workers(),
            EngineOptions.TOGETHER_ROWS,
            new Refresher.Bounds(waiting(settings), settings.maxWaitingBytes()),
            settings.deliveryMillis());
    Engine engine =
        new Engine(
            options,
            new Records(ledger, definitions, checkpoints, rejects, upkeep, access),
            outsideSystems,
            Clock.systemUTC());
    engine.onEnd(cause -> end(context, "the engine cannot go on: " + cause));
    ownership.onLost(reason -> end(context, reason));
    engine.start();
    return engine;
  }

  /**
   * Ends the service in order: what is durable stays, and whoever watches it can start it again.
   */
  private static void end(ConfigurableApplicationContext context, String reason) {
    LOG.error("the service ends: {}", reason);
    Thread ending =
        new Thread(() -> System.exit(SpringApplication.exit(context, () -> EXIT_CODE)), "end");
    ending.setDaemon(true);
    ending.start();
  }
}
