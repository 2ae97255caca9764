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
import io.micrometer.core.instrument.Gauge;
import io.micrometer.core.instrument.MeterRegistry;
import java.nio.file.Path;
import java.time.Clock;
import java.util.function.ToDoubleFunction;
import javax.sql.DataSource;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import org.springframework.boot.SpringApplication;
import org.springframework.boot.health.contributor.Health;
import org.springframework.boot.health.contributor.HealthIndicator;
import org.springframework.boot.sql.init.dependency.DependsOnDatabaseInitialization;
import org.springframework.context.ConfigurableApplicationContext;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;

/** Wires the engine to its records, its health and its figures. */
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

  @Bean
  HealthIndicator engineHealth(Engine engine) {
    return () -> {
      String ailment = engine.ailment();
      Health.Builder health =
          (ailment == null ? Health.up() : Health.down().withDetail("engine", ailment))
              .withDetail("epoch", engine.snapshot().epoch());
      engine
          .catalog()
          .all()
          .forEach(
              o -> {
                if (engine.node(o) != null && engine.node(o).failure() != null) {
                  health.down().withDetail(o.name(), engine.node(o).failure());
                }
              });
      return health.build();
    };
  }

  @Bean
  EngineFigures engineFigures(Engine engine, PostgresLedger ledger, MeterRegistry registry) {
    return new EngineFigures(engine, ledger, registry);
  }

  /** Registers the gauges that /actuator/prometheus answers. */
  static final class EngineFigures {
    EngineFigures(Engine engine, PostgresLedger ledger, MeterRegistry registry) {
      gauge(registry, engine, "drip.epoch", "the newest epoch", e -> e.snapshot().epoch());
      gauge(
          registry,
          engine,
          "drip.rows.taken",
          "changes taken in since the start",
          e -> e.loop().rowsTaken());
      gauge(
          registry,
          engine,
          "drip.queued.bytes",
          "changes that wait for the epoch loop",
          e -> e.loop().queuedBytes());
      gauge(
          registry,
          engine,
          "drip.last.epoch.seconds",
          "how long the last epoch took",
          e -> e.loop().lastStepNanos() / 1e9);
      gauge(
          registry,
          engine,
          "drip.held.bytes",
          "operator state and published rows of all views",
          e -> e.loop().heldBytes());
      gauge(
          registry,
          engine,
          "drip.held.bytes.max",
          "the bound of drip.held.bytes",
          e -> e.options().maxHeldBytes());
      gauge(
          registry,
          engine,
          "drip.checkpoint.age.seconds",
          "time since the last checkpoint of this process",
          e ->
              e.checkpointer().figures() == null
                  ? -1
                  : (System.currentTimeMillis() - e.checkpointer().figures().atMillis()) / 1e3);
      gauge(
          registry,
          engine,
          "drip.checkpoint.bytes",
          "what the last checkpoint wrote",
          e -> e.checkpointer().figures() == null ? 0 : e.checkpointer().figures().bytes());
      gauge(
          registry,
          ledger,
          "drip.unacknowledged.bytes",
          "pushed bytes that wait for the database",
          PostgresLedger::waitingBytes);
      gauge(
          registry,
          ledger,
          "drip.ledger.sequence",
          "the last durable append",
          PostgresLedger::lastSequence);
    }

    private static <T> void gauge(
        MeterRegistry registry, T of, String name, String text, ToDoubleFunction<T> value) {
      Gauge.builder(name, of, value).description(text).register(registry);
    }
  }
}
