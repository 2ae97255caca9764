package dripledger.client;

import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "token",
    mixinStandardHelpOptions = true,
    description = {
      "Makes, lists, rotates and revokes the tokens of roles. A token is shown once, when it is made;"
          + " it is also the password of its role for SQL clients."
    })
final class TokenCommand {
  @ParentCommand private Drip drip;

  @Command(description = "Makes a token and prints it, this once.")
  int make(
      @Parameters(paramLabel = "ROLE", description = "whose it is") String role,
      @Parameters(paramLabel = "NAME", description = "what it is for") String name,
      @Option(
              names = "--lasts",
              paramLabel = "TIME",
              description = "how long it is good, such as '30 days' (default: for ever)")
          String lasts,
      @Option(
              names = "--into",
              paramLabel = "FILE",
              description = "write it to a file only you can read, instead of printing it")
          Path into)
      throws IOException {
    Map<String, Object> wanted = new LinkedHashMap<>();
    wanted.put("role", role);
    wanted.put("name", name);
    wanted.put("lasts", lasts);
    show(drip.service().post("/api/v1/tokens", wanted), into);
    return 0;
  }

  private static void show(Map<String, Object> made, Path into) throws IOException {
    if (into != null) {
      Files.writeString(Logins.privately(into), made.get("token") + "\n");
    } else {
      System.out.println(made.get("token"));
    }
    Object expires = made.get("expires_at");
    System.err.println(
        "token "
            + made.get("id")
            + " of role "
            + made.get("role")
            + (expires == null ? ", good for ever" : ", good until " + expires)
            + (into == null ? "; it is not shown again" : "; it is in " + into));
  }

  @Command(description = "Lists tokens: yours, or all if you are the owner.")
  int list() throws IOException {
    List<String> columns =
        List.of("id", "role", "name", "state", "made_at", "made_by", "expires_at", "used_at");
    TextTable.print(
        System.out, columns, (List<?>) drip.service().get("/api/v1/tokens").get("tokens"));
    return 0;
  }

  @Command(
      description =
          "Makes another in the place of one; both are good until the overlap is over, so that"
              + " nothing stops meanwhile.")
  int rotate(
      @Parameters(paramLabel = "ID") long id,
      @Option(
              names = "--overlap",
              paramLabel = "TIME",
              description = "for how long the old one stays good; 0 for not at all",
              defaultValue = "1 day")
          String overlap,
      @Option(names = "--lasts", paramLabel = "TIME", description = "how long the new one is good")
          String lasts,
      @Option(
              names = "--into",
              paramLabel = "FILE",
              description = "write it to a file only you can read, instead of printing it")
          Path into)
      throws IOException {
    Map<String, Object> wanted = new LinkedHashMap<>();
    wanted.put("overlap", overlap);
    wanted.put("lasts", lasts);
    show(drip.service().post("/api/v1/tokens/" + id + "/rotate", wanted), into);
    return 0;
  }

  @Command(description = "Ends a token at once; whoever came with it is put out.")
  int revoke(@Parameters(paramLabel = "ID") long id) throws IOException {
    drip.service().delete("/api/v1/tokens/" + id);
    System.out.println("revoked token " + id);
    return 0;
  }
}
