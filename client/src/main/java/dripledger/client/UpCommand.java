package dripledger.client;

import java.io.IOException;
import java.net.URI;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "up",
    mixinStandardHelpOptions = true,
    description = "Starts PostgreSQL and the service on this machine, on loopback.")
final class UpCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Override
  public Integer call() throws IOException, InterruptedException {
    start(drip);
    System.out.println("The service runs at " + drip.url());
    return 0;
  }

  static Installation start(Drip drip) throws IOException, InterruptedException {
    Installation installation = new Installation();
    int port = URI.create(drip.url()).getPort();
    installation.up(drip.service(), port < 0 ? 80 : port, serviceJar());
    return installation;
  }

  /** The service's jar: named by the start script, which also builds it. */
  private static Path serviceJar() {
    String set = System.getenv("DRIP_SERVICE_JAR");
    if (set == null || !Files.exists(Path.of(set))) {
      throw new Problem(
          "the service has not been built", "start it by ./drip in the project's folder", 1);
    }
    return Path.of(set).toAbsolutePath();
  }
}
