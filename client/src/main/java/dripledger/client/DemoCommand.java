package dripledger.client;

import dripledger.demo.ScanFeeder;
import dripledger.demo.Scenario;
import java.io.IOException;
import java.nio.file.Path;
import java.time.Duration;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "demo",
    mixinStandardHelpOptions = true,
    description = "Starts everything with the parcel hub's streams and views, fed without end.")
final class DemoCommand implements Callable<Integer> {
  private static final long SEED = 20260302;

  @ParentCommand private Drip drip;

  @Option(names = "--rate", description = "scans a second (default ${DEFAULT-VALUE})")
  private int rate = 40;

  @Override
  public Integer call() throws IOException, InterruptedException {
    Installation installation = UpCommand.start(drip);
    List<?> objects = (List<?>) drip.service().get("/api/v1/objects").get("objects");
    boolean declared = objects.stream().anyMatch(o -> "scan".equals(((Map<?, ?>) o).get("name")));
    if (!declared) {
      for (String statement : Scenario.STATEMENTS) {
        drip.service().sql(statement, Map.of());
      }
      int past = new ScanFeeder(drip.url(), SEED, rate).past(Duration.ofMinutes(20));
      System.out.printf(
          "Declared the parcel hub and pushed %,d scans of the past 20 minutes%n", past);
    }
    if (installation.process("feeder").isEmpty()) {
      feed(installation);
    }
    System.out.printf(
        """

        The parcel hub runs, with about %d scans a second.

          console   %s
          try       ./drip sql "SELECT gate, window_minute, scans FROM gate_load WHERE gate = 'G07' ORDER BY window_minute DESC LIMIT 5"
                    ./drip follow "SELECT * FROM hall_load WHERE hall = 'North'"
                    ./drip get parcel_now 812345
                    ./drip status
          stop      ./drip down      (data stays in %s)
        """,
        rate, drip.url(), installation.home());
    return 0;
  }

  private void feed(Installation installation) throws IOException {
    Path jar;
    try {
      jar = Path.of(DemoCommand.class.getProtectionDomain().getCodeSource().getLocation().toURI());
    } catch (java.net.URISyntaxException e) {
      throw new IOException(e);
    }
    Process feeder =
        installation.start(
            "feeder",
            List.of(
                Path.of(System.getProperty("java.home"), "bin", "java").toString(),
                "-Xmx64m",
                "-XX:+UseSerialGC",
                "-cp",
                jar.toString(),
                "dripledger.demo.ScanFeeder",
                drip.url(),
                "" + (SEED + 1),
                "" + rate),
            Map.of());
    if (!feeder.isAlive()) {
      throw new IOException("the feeder did not start; see its log in " + installation.home());
    }
  }
}
