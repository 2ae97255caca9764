package dripledger.client;

import java.io.IOException;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;

@Command(
    name = "down",
    mixinStandardHelpOptions = true,
    description = "Stops the service and its PostgreSQL, and the demo's hub. Data stays.")
final class DownCommand implements Callable<Integer> {
  @Override
  public Integer call() throws IOException, InterruptedException {
    Installation installation = new Installation();
    installation.stop("feeder");
    installation.stop("carrier");
    boolean ran = installation.stop("service");
    installation.stop("broker");
    installation.stopOperations();
    installation.stopPostgres();
    System.out.println(ran ? "The service has stopped" : "The service was not running");
    return 0;
  }
}
