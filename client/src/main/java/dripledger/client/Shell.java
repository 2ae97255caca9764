package dripledger.client;

import java.io.IOException;
import java.io.InputStream;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.UUID;
import java.util.concurrent.atomic.AtomicReference;
import java.util.regex.Pattern;
import org.jline.reader.Candidate;
import org.jline.reader.EOFError;
import org.jline.reader.EndOfFileException;
import org.jline.reader.LineReader;
import org.jline.reader.LineReaderBuilder;
import org.jline.reader.ParsedLine;
import org.jline.reader.Parser;
import org.jline.reader.UserInterruptException;
import org.jline.reader.impl.DefaultParser;
import org.jline.terminal.Terminal;
import org.jline.terminal.TerminalBuilder;

/** The interactive shell: history, statements over several lines, completion of names. */
final class Shell {
  private static final List<String> WORDS =
      List.of(
          "SELECT",
          "FROM",
          "WHERE",
          "GROUP BY",
          "HAVING",
          "ORDER BY",
          "LIMIT",
          "DISTINCT",
          "DISTINCT ON",
          "OVER",
          "PARTITION BY",
          "QUALIFY",
          "WITHIN GROUP",
          "UNION ALL",
          "INTERSECT",
          "EXCEPT",
          "JOIN",
          "LEFT JOIN",
          "LATERAL (",
          "UNNEST(",
          "ON",
          "USING",
          "CREATE",
          "STREAM",
          "TABLE",
          "VIEW",
          "MATERIALIZED VIEW",
          "INDEX ON",
          "INSERT INTO",
          "VALUES",
          "UPDATE",
          "SET",
          "DELETE FROM",
          "DROP",
          "CASCADE",
          "FOLLOW",
          "EXPLAIN",
          "ANALYZE",
          "DESCRIBE",
          "SHOW STREAMS",
          "SHOW TABLES",
          "SHOW VIEWS",
          "COUNT(*)",
          "SUM(",
          "AVG(",
          "MIN(",
          "MAX(",
          "MAX_BY(",
          "date_trunc('minute', ",
          "INTERVAL",
          "PRIMARY KEY",
          "EVENT TIME",
          "LATENESS",
          "BEGIN",
          "COMMIT",
          "ROLLBACK",
          "CASE WHEN",
          "CAST(",
          "COALESCE(");

  private static final Pattern COMMAND =
      Pattern.compile("(?i)(help|exit|quit|\\\\q|\\\\\\?|\\\\h|\\\\d(\\s+\\S+)?)");

  private static final String LISTING = "SHOW CONNECTIONS; SHOW STREAMS; SHOW TABLES; SHOW VIEWS;";

  private static final String HELP =
      """
      A statement ends in ; and may take several lines.
        SELECT …;              an answer, all relations at the same epoch
        FOLLOW SELECT …;       the answer and every change to it, until Ctrl-C
        CREATE …; DROP …;      streams, tables, views, connections
        SHOW VIEWS;            what there is (STREAMS, TABLES, CONNECTIONS, TOPICS FROM connection)
        DESCRIBE name;         its columns;  SHOW CREATE name;  its definition;  EXPLAIN name;  its plan
        \\d, \\d name            the same in short: everything there is, one thing's columns
        exit, quit, Ctrl-D     leave
      Tab completes names, the arrow keys bring back statements, Ctrl-C drops a line or ends a query.
      """;

  private final Service service;

  Shell(Service service) {
    this.service = service;
  }

  int run() throws IOException {
    service.get("/api/v1/objects"); // fails at once, with a hint, if there is no service
    try (Terminal terminal = TerminalBuilder.builder().system(true).build()) {
      LineReader reader =
          LineReaderBuilder.builder()
              .terminal(terminal)
              .appName("drip")
              .parser(new StatementParser())
              .completer((r, line, candidates) -> complete(line, candidates))
              .variable(
                  LineReader.HISTORY_FILE,
                  Path.of(System.getProperty("user.home"), ".drip_history"))
              .variable(LineReader.SECONDARY_PROMPT_PATTERN, "  … ")
              .option(LineReader.Option.DISABLE_EVENT_EXPANSION, true)
              .build();
      System.out.println("Statements end in ; — Tab completes names, help tells more, exit ends.");
      while (true) {
        try {
          execute(reader.readLine("drip> "), terminal);
        } catch (UserInterruptException e) {
          continue;
        } catch (EndOfFileException e) {
          return 0;
        }
      }
    }
  }

  private void execute(String statement, Terminal terminal) throws IOException {
    if (statement.isBlank()) {
      return;
    }
    String word = statement.strip().replaceFirst(";$", "").strip();
    if (COMMAND.matcher(word).matches()) {
      command(word);
      return;
    }
    try {
      if (FollowCommand.isFollow(statement)) {
        followUntilInterrupted(statement, terminal);
        return;
      }
      Output output = new Output(Output.Format.table, System.out);
      for (Map<String, Object> result : results(statement, terminal)) {
        output.result(result);
      }
    } catch (Problem e) {
      e.print(System.err, statement);
    }
    System.out.println();
  }

  /** The results of a script, which Ctrl-C cancels. */
  private List<Map<String, Object>> results(String script, Terminal terminal) throws IOException {
    String id = UUID.randomUUID().toString();
    if (terminal == null) {
      return service.sql(script, Map.of(), id);
    }
    Terminal.SignalHandler before =
        terminal.handle(Terminal.Signal.INT, signal -> service.cancel(id));
    try {
      return service.sql(script, Map.of(), id);
    } finally {
      terminal.handle(Terminal.Signal.INT, before);
    }
  }

  /** What is not SQL: help, leaving, and a look at what there is. */
  private void command(String word) throws IOException {
    String[] parts = word.split("\\s+");
    switch (parts[0].toLowerCase(Locale.ROOT)) {
      case "exit", "quit", "\\q" -> throw new EndOfFileException();
      case "\\d" -> execute(parts.length > 1 ? "DESCRIBE " + parts[1] + ";" : LISTING, null);
      default -> System.out.println(HELP);
    }
  }

  private void followUntilInterrupted(String statement, Terminal terminal) {
    AtomicReference<InputStream> stream = new AtomicReference<>();
    Thread follower =
        new Thread(
            () -> {
              try {
                FollowCommand.follow(
                    service, statement, Output.Format.table, -1, false, stream::set);
              } catch (IOException e) {
                return; // closed by Ctrl-C
              }
            });
    follower.setDaemon(true);
    Terminal.SignalHandler before =
        terminal.handle(
            Terminal.Signal.INT,
            signal -> {
              follower.interrupt(); // it is not to go on
              close(stream.get());
            });
    follower.start();
    try {
      follower.join();
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    } finally {
      terminal.handle(Terminal.Signal.INT, before);
    }
  }

  private static void close(InputStream stream) {
    try {
      if (stream != null) {
        stream.close();
      }
    } catch (IOException e) {
      System.err.println(e.getMessage());
    }
  }

  private void complete(ParsedLine line, List<Candidate> candidates) {
    String word = line.word();
    boolean upper = !word.equals(word.toLowerCase(Locale.ROOT)) || word.isEmpty();
    for (String w : WORDS) {
      candidates.add(plain(upper ? w : w.toLowerCase(Locale.ROOT)));
    }
    try {
      for (Object object : (List<?>) service.get("/api/v1/objects").get("objects")) {
        Map<?, ?> o = (Map<?, ?>) object;
        candidates.add(plain(String.valueOf(o.get("name"))));
        for (Object column : (List<?>) o.get("columns")) {
          candidates.add(plain(String.valueOf(((Map<?, ?>) column).get("name"))));
        }
      }
    } catch (IOException | Problem e) {
      return; // completion is a help, not a promise
    }
  }

  private static Candidate plain(String text) {
    return new Candidate(text, text, null, null, null, null, false);
  }

  /** A line is complete when it ends in a semicolon outside quotes, or is blank. */
  private static final class StatementParser implements Parser {
    private final DefaultParser words =
        new DefaultParser().escapeChars(null).quoteChars(new char[0]);

    @Override
    public ParsedLine parse(String line, int cursor, ParseContext context) {
      if (context == ParseContext.ACCEPT_LINE
          && !line.isBlank()
          && !COMMAND.matcher(line.strip()).matches()
          && !ends(line)) {
        throw new EOFError(-1, -1, "the statement goes on");
      }
      return words.parse(line, cursor, ParseContext.COMPLETE);
    }

    private static boolean ends(String line) {
      boolean quoted = false;
      List<Character> last = new ArrayList<>();
      for (char c : line.toCharArray()) {
        if (c == '\'') {
          quoted = !quoted;
        }
        if (!Character.isWhitespace(c)) {
          last.add(c);
        }
      }
      return !quoted && !last.isEmpty() && last.get(last.size() - 1) == ';';
    }
  }
}
