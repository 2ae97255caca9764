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

  /**
   * Starts the service, and logs this user in as the owner if nobody is and that can be.
   *
   * @param settings of the service
   */
  static Installation start(Drip drip, String... settings)
      throws IOException, InterruptedException {
    Installation installation = new Installation();
    int port = URI.create(drip.url()).getPort();
    installation.up(drip.service(), port < 0 ? 80 : port, serviceJar(), settings);
    String token = installation.ownerToken();
    if (token != null && !isKnown(drip)) {
      boolean encrypted = drip.url().startsWith("https:");
      String own = encrypted ? System.getenv("DRIP_TLS_CERTIFICATE") : null;
      new Logins().keep(drip.url(), new Logins.Login(token, own));
    }
    return installation;
  }

  private static boolean isKnown(Drip drip) throws IOException {
    Logins.Login login = new Logins().find(drip.url());
    return login != null
        && login.token() != null
        && drip.service().get("/api/v1/sign-in").get("role") != null;
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
