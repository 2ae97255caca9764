package dripledger.client;

import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.util.List;
import java.util.Map;
import picocli.CommandLine.Command;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "secret",
    mixinStandardHelpOptions = true,
    description = "Sets, lists and removes the secrets that connections name. None is ever shown.")
final class SecretCommand {
  @ParentCommand private Drip drip;

  @Command(
      description = {
        "Sets a secret to what is typed (and not shown) or to the first line of standard input."
      })
  int set(@Parameters(paramLabel = "NAME") String name) throws IOException {
    String value;
    if (System.console() != null) {
      value = new String(System.console().readPassword("Value of %s: ", name));
    } else {
      value =
          new String(System.in.readAllBytes(), StandardCharsets.UTF_8)
              .lines()
              .findFirst()
              .orElse("");
    }
    drip.service().put("/api/v1/secrets/" + Service.encode(name), Map.of("value", value));
    System.out.println("set secret " + name);
    return 0;
  }

  @Command(description = "Lists the names of all secrets.")
  int list() throws IOException {
    for (Object name : (List<?>) drip.service().get("/api/v1/secrets").get("secrets")) {
      System.out.println(name);
    }
    return 0;
  }

  @Command(description = "Removes a secret.")
  int remove(@Parameters(paramLabel = "NAME") String name) throws IOException {
    drip.service().delete("/api/v1/secrets/" + Service.encode(name));
    System.out.println("removed secret " + name);
    return 0;
  }
}
