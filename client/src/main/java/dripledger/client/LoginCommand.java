package dripledger.client;

import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "login",
    mixinStandardHelpOptions = true,
    description = {
      "Keeps a token for the service, in a file that only you can read, and says who you are with"
          + " it. The token is typed (and not shown), or the first line of standard input."
    })
final class LoginCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Option(names = "--out", description = "forget the token instead")
  private boolean out;

  @Option(names = "--file", paramLabel = "FILE", description = "the token is in this file")
  private Path from;

  @Option(
      names = "--authority",
      paramLabel = "FILE",
      description = "a PEM file with what the service's certificate rests on")
  private Path authority;

  @Override
  public Integer call() throws IOException {
    Logins logins = new Logins();
    if (out) {
      logins.keep(drip.url(), null);
      System.out.println("forgot the token for " + drip.url());
      return 0;
    }
    String token = token();
    if (token.isEmpty()) {
      throw new Problem("there is no token", "the owner makes them by drip token make", 1);
    }
    Logins.Login login =
        new Logins.Login(token, authority == null ? null : authority.toAbsolutePath().toString());
    Map<String, Object> who = new Service(drip.url(), login).get("/api/v1/sign-in");
    if (who.get("role") == null) {
      throw new Problem(
          "the service does not know this token, or it is no longer good",
          "the owner makes them by drip token make",
          1);
    }
    logins.keep(drip.url(), login);
    System.out.println(
        "you are " + who.get("role") + " at " + drip.url() + "; kept in " + logins.file());
    return 0;
  }

  private String token() throws IOException {
    if (from != null) {
      return Files.readString(from).strip();
    }
    if (System.console() != null) {
      return new String(System.console().readPassword("Token: ")).strip();
    }
    String all = new String(System.in.readAllBytes(), StandardCharsets.UTF_8);
    return all.lines().findFirst().orElse("").strip();
  }
}
