package dripledger.client;

import dripledger.demo.KafkaBroker;
import dripledger.demo.OperationsDatabase;
import dripledger.demo.PostgresCluster;
import dripledger.demo.Scenario;
import java.io.File;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "demo",
    mixinStandardHelpOptions = true,
    description = {
      "Starts everything with the parcel hub: a broker with its events, an operations database",
      "with its tables, and views on both, fed without end."
    })
final class DemoCommand implements Callable<Integer> {
  private static final long SEED = 20260302;
  private static final int PAST_SECONDS = 60;
  private static final int CARRIER_PORT = 7175;

  @ParentCommand private Drip drip;

  @Option(names = "--rate", description = "scans a second (default ${DEFAULT-VALUE})")
  private int rate = 40;

  @Override
  public Integer call() throws IOException, InterruptedException {
    Path jars = jars();
    // So that everything can be tried at once; elsewhere whoever comes has to say who it is.
    Installation installation = UpCommand.start(drip, "--drip.trust-loopback=always");
    String password = Installation.newPassword();
    PostgresCluster operations = installation.operations(password);
    KafkaBroker broker = installation.broker(jars);
    boolean running = installation.process("feeder").isPresent();
    if (!running) {
      System.out.println("Starting the hub's broker and its operations database …");
      operations.start();
      drip.service().put("/api/v1/secrets/hub_ops_password", Map.of("value", password));
      createHub(operations, password, jars);
      if (installation.process("broker").isEmpty()) {
        Process process = installation.start("broker", broker.prepare(), Map.of());
        broker.awaitPort();
        if (!process.isAlive()) {
          throw new IOException("the broker did not start; see its log in " + installation.home());
        }
      }
      feed(installation, broker, operations, password, jars);
    }
    carrier(installation, jars);
    List<?> objects = (List<?>) drip.service().get("/api/v1/objects").get("objects");
    if (objects.stream().noneMatch(o -> "scan".equals(((Map<?, ?>) o).get("name")))) {
      for (String statement :
          Scenario.statements(
              broker.servers(),
              operations.jdbcUrl(OperationsDatabase.DATABASE),
              "http://127.0.0.1:" + CARRIER_PORT)) {
        drip.service().sql(statement, Map.of());
      }
      tokens(installation);
      System.out.println(
          "Declared the parcel hub's connections, streams, tables, views, sinks and roles");
    }
    System.out.printf(
        """

        The parcel hub runs, with about %d scans a second.

          console   %s
          try       ./drip sql "SELECT gate, window_minute, scans FROM gate_load WHERE gate = 'G07' ORDER BY window_minute DESC LIMIT 5"
                    ./drip follow "SELECT * FROM hall_load WHERE hall = 'North'"
                    ./drip get parcel_now 812345
                    ./drip peek hub_log hub.scan
                    ./drip rejects scan
                    ./drip sql "SHOW SINKS"
                    ./drip status
          as others DRIP_TOKEN=$(cat %s/dispatch.token) ./drip sql "SHOW VIEWS"
          carrier   what is posted to it is in %s; what it may read in gate_load-for-fernway.md
          stop      ./drip down      (data stays in %s)
        """,
        rate,
        drip.url(),
        installation.home(),
        installation.home().resolve("carrier.log"),
        installation.home());
    return 0;
  }

  /** Tokens for the hub's roles, and a share for its carrier, each in a file of its own. */
  private void tokens(Installation installation) throws IOException {
    for (String role : List.of("dispatch", "scanner")) {
      Map<String, Object> made =
          drip.service().post("/api/v1/tokens", Map.of("role", role, "name", "demo"));
      Path file = Logins.privately(installation.home().resolve(role + ".token"));
      Files.writeString(file, made.get("token") + "\n");
    }
    Path file = installation.home().resolve("gate_load-for-fernway.md");
    ShareCommand.share(drip, "gate_load", "fernway", 30, drip.url(), file);
  }

  private static Path jars() {
    String set = System.getenv("DRIP_HUB_LIB");
    if (set == null || !Files.isDirectory(Path.of(set))) {
      throw new Problem(
          "the hub's broker is not built", "start the demo with ./drip demo, which builds it", 1);
    }
    return Path.of(set);
  }

  private static String classPath(Path jars) throws IOException {
    try {
      Path own =
          Path.of(DemoCommand.class.getProtectionDomain().getCodeSource().getLocation().toURI());
      return own + File.pathSeparator + jars + "/*";
    } catch (java.net.URISyntaxException e) {
      throw new IOException(e);
    }
  }

  /** The database of the hub is made by a program that has the driver; the client has not. */
  private static void createHub(PostgresCluster operations, String password, Path jars)
      throws IOException, InterruptedException {
    ProcessBuilder builder =
        new ProcessBuilder(
                Installation.java(),
                "-XX:TieredStopAtLevel=1",
                "-cp",
                classPath(jars),
                "dripledger.demo.OperationsDatabase",
                operations.jdbcUrl(PostgresCluster.DATABASE))
            .inheritIO();
    builder.environment().put("DRIP_OPERATIONS_PASSWORD", password);
    if (builder.start().waitFor() != 0) {
      throw new IOException("the operations database could not be made");
    }
  }

  /** A stand-in for the carrier Fernway, who is told of parcels that missed their van. */
  private static void carrier(Installation installation, Path jars) throws IOException {
    if (installation.process("carrier").isEmpty()) {
      installation.start(
          "carrier",
          List.of(
              Installation.java(),
              "-Xmx32m",
              "-XX:+UseSerialGC",
              "-cp",
              classPath(jars),
              "dripledger.demo.WebhookStandIn",
              "" + CARRIER_PORT),
          Map.of());
    }
  }

  private void feed(
      Installation installation,
      KafkaBroker broker,
      PostgresCluster operations,
      String password,
      Path jars)
      throws IOException, InterruptedException {
    Path log = installation.home().resolve("feeder.log");
    long before = Files.exists(log) ? Files.size(log) : 0;
    Process feeder =
        installation.start(
            "feeder",
            List.of(
                Installation.java(),
                "-Xmx96m",
                "-XX:+UseSerialGC",
                "-Dorg.slf4j.simpleLogger.defaultLogLevel=error",
                "-cp",
                classPath(jars),
                "dripledger.demo.HubFeeder",
                broker.servers(),
                operations.jdbcUrl(OperationsDatabase.DATABASE),
                "" + SEED,
                "" + rate),
            Map.of("DRIP_OPERATIONS_PASSWORD", password));
    for (int i = 0; i < PAST_SECONDS * 10; i++) {
      if (!feeder.isAlive()) {
        throw new IOException("the feeder did not start; see " + log);
      }
      String all = Files.readString(log);
      if (all.substring((int) Math.min(before, all.length())).contains("live")) {
        return;
      }
      Thread.sleep(100);
    }
    throw new IOException("the feeder does not go on; see " + log);
  }
}
