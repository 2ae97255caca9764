package dripledger.client;

import java.io.FileDescriptor;
import java.io.IOException;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import picocli.CommandLine;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.ScopeType;

/** The entry of the command line. */
@Command(
    name = "drip",
    description = "Drip Ledger: SQL views over event streams, kept right at every moment.",
    mixinStandardHelpOptions = true,
    version = "drip 0.1.0",
    footer = {
      "",
      "./drip also takes: test (the whole test suite), bench (speed, against baselines),",
      "kills N (N times kill -9 under load, then every view compared with its sources),",
      "soak N (N minutes of queries made by chance, compared with PostgreSQL),",
      "unrest N (N minutes of random statements, kills and database crashes, views compared),",
      "away N (all targets of deliveries are away for N minutes, under load),",
      "fuzz N (N minutes of what nobody should send, to both ports),",
      "stress N (the store's memory order, and N seconds of readers against a writer).",
      "Exit codes: 0 done, 1 refused or failed, 2 wrong usage, 3 some events were rejected,",
      "4 the service cannot be reached."
    })
public final class Drip {
  private static final Map<String, Class<?>> COMMANDS = commands();

  private static Map<String, Class<?>> commands() {
    Map<String, Class<?>> all = new LinkedHashMap<>();
    for (Class<?> command :
        List.of(
            UpCommand.class,
            DownCommand.class,
            StatusCommand.class,
            DemoCommand.class,
            SqlCommand.class,
            SecretCommand.class,
            LoginCommand.class,
            TokenCommand.class,
            ShareCommand.class,
            LookCommand.class,
            PeekCommand.class,
            TopicCommand.class,
            ProposeCommand.class,
            FollowCommand.class,
            PushCommand.class,
            RejectsCommand.class,
            GetCommand.class,
            DoctorCommand.class)) {
      all.put(command.getAnnotation(Command.class).name(), command);
    }
    all.put("help", CommandLine.HelpCommand.class);
    return all;
  }

  @Option(
      names = "--service",
      paramLabel = "URL",
      scope = ScopeType.INHERIT,
      defaultValue = "${env:DRIP_URL:-http://127.0.0.1:7171}",
      description = "where the service is (default ${DEFAULT-VALUE}; or set DRIP_URL)")
  private String url;

  Service service() {
    try {
      return new Service(url, new Logins().find(url));
    } catch (IOException e) {
      throw new Problem("the file of logins cannot be read: " + e.getMessage(), null, 1);
    }
  }

  String url() {
    return url;
  }

  public static void main(String[] args) {
    System.setOut(ClosedPipe.watched(FileDescriptor.out));
    System.exit(run(args));
  }

  static int run(String... args) {
    CommandLine line = new CommandLine(new Drip());
    // Only what is asked for is set up: that is half of the time a short command takes.
    String asked = args.length > 0 && !args[0].equals("help") ? args[0] : "";
    COMMANDS.forEach(
        (name, command) -> {
          if (name.equals(asked) || !COMMANDS.containsKey(asked)) {
            line.addSubcommand(name, command);
          }
        });
    line.setUsageHelpAutoWidth(true);
    line.setExecutionExceptionHandler(
        (e, command, parsed) -> {
          if (e instanceof Problem problem) {
            problem.print(System.err, null);
            return problem.exitCode();
          }
          System.err.println("drip: " + e.getMessage());
          return 1;
        });
    if (args.length == 0) {
      line.usage(System.out);
      return 2;
    }
    return line.execute(args);
  }
}
