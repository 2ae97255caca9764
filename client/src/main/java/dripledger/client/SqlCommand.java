package dripledger.client;

import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.UUID;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "sql",
    mixinStandardHelpOptions = true,
    description = {
      "Runs statements: those given, those of a file, or those on standard input.",
      "Without any, in a terminal, starts a shell."
    })
final class SqlCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Parameters(arity = "0..1", paramLabel = "STATEMENTS", description = "- reads standard input")
  private String statements;

  @Option(
      names = {"-f", "--file"},
      paramLabel = "FILE",
      description = "reads the statements from a file")
  private Path file;

  @Option(names = "--format", description = "table (default), json or csv")
  private Output.Format format = Output.Format.table;

  @Option(
      names = {"-a", "--arg"},
      paramLabel = "NAME=VALUE",
      description = "the value of a :name parameter")
  private Map<String, String> args = new LinkedHashMap<>();

  @Override
  public Integer call() throws IOException {
    String script = statements;
    if (file != null) {
      script = Files.readString(file);
    } else if (script == null && System.console() != null) {
      return new Shell(drip.service()).run();
    } else if (script == null || script.equals("-")) {
      script = new String(System.in.readAllBytes(), StandardCharsets.UTF_8);
    }
    if (FollowCommand.isFollow(script)) {
      return FollowCommand.follow(drip.service(), script, format, -1);
    }
    Output output = new Output(format, System.out);
    String id = UUID.randomUUID().toString();
    // Ctrl-C ends the script, not only who waits for it.
    Thread cancel = new Thread(() -> drip.service().cancel(id));
    Runtime.getRuntime().addShutdownHook(cancel);
    try {
      List<Map<String, Object>> results;
      try {
        results = drip.service().sql(script, typed(args), id);
      } finally {
        forget(cancel);
      }
      for (Map<String, Object> result : results) {
        output.result(result);
      }
      return 0;
    } catch (Problem e) {
      e.print(System.err, script);
      return e.exitCode();
    }
  }

  private static void forget(Thread hook) {
    try {
      Runtime.getRuntime().removeShutdownHook(hook);
    } catch (IllegalStateException e) {
      return; // the end has begun, and the hook with it
    }
  }

  /** Numbers and truth values as such, everything else as text. */
  private static Map<String, Object> typed(Map<String, String> args) {
    Map<String, Object> typed = new LinkedHashMap<>();
    args.forEach(
        (name, text) -> {
          Object value = text;
          if (text.matches("-?\\d{1,18}")) {
            value = Long.valueOf(text);
          } else if (text.equals("true") || text.equals("false")) {
            value = Boolean.valueOf(text);
          }
          typed.put(name, value);
        });
    return typed;
  }
}
