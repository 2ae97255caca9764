package dripledger.client;

import java.io.IOException;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;

@Command(
    name = "down",
    mixinStandardHelpOptions = true,
    description = "Stops the service, its demo feeder and its PostgreSQL. Data stays.")
final class DownCommand implements Callable<Integer> {
  @Override
  public Integer call() throws IOException, InterruptedException {
    Installation installation = new Installation();
    installation.stop("feeder");
    boolean ran = installation.stop("service");
    installation.stopPostgres();
    System.out.println(ran ? "The service has stopped" : "The service was not running");
    return 0;
  }
}
