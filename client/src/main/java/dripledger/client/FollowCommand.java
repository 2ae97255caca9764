package dripledger.client;

import java.io.BufferedReader;
import java.io.EOFException;
import java.io.IOException;
import java.io.InputStream;
import java.io.InputStreamReader;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import java.util.function.Consumer;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;
import tools.jackson.jr.ob.JSON;

@Command(
    name = "follow",
    mixinStandardHelpOptions = true,
    description = {
      "Prints the answer to a query and then every change to it, until Ctrl-C.",
      "A row that comes is marked +, one that goes −."
    })
final class FollowCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Parameters(paramLabel = "QUERY", description = "a SELECT, or the name of a view")
  private String query;

  @Option(names = "--format", description = "table (default), json or csv")
  private Output.Format format = Output.Format.table;

  @Option(
      names = "--changes-only",
      description = "leaves out the answer as it stands; only what changes from now on")
  private boolean changesOnly;

  @Option(
      names = "--changes",
      paramLabel = "N",
      description = "stops after N changes; without it, goes on until Ctrl-C")
  private long changes = -1;

  @Override
  public Integer call() throws IOException {
    String text =
        query.strip().matches("[A-Za-z_][A-Za-z_0-9]*") ? "SELECT * FROM " + query : query;
    return follow(drip.service(), text, format, changes, changesOnly, in -> {});
  }

  static boolean isFollow(String script) {
    return script.strip().regionMatches(true, 0, "FOLLOW ", 0, 7);
  }

  static int follow(Service service, String query, Output.Format format, long most)
      throws IOException {
    return follow(service, query, format, most, false, in -> {});
  }

  /**
   * Prints until the service ends the stream or somebody closes it.
   *
   * @param changesOnly whether to leave out the answer as it stands
   * @param opened given the stream, so that another thread can close it
   */
  static int follow(
      Service service,
      String query,
      Output.Format format,
      long most,
      boolean changesOnly,
      Consumer<InputStream> opened)
      throws IOException {
    Printer printer = new Printer(format, changesOnly);
    Reader reader = new Reader(service, query, printer, most, opened);
    try {
      while (true) {
        try {
          return reader.read();
        } catch (IOException lost) {
          reader.waitAfter(lost);
        }
      }
    } catch (Problem e) {
      e.print(System.err, query);
      return e.exitCode();
    }
  }

  /** Reads the stream, and goes on where it was after the connection was lost. */
  private static final class Reader {
    private static final long PATIENCE_NANOS = 60_000_000_000L;
    private static final long PAUSE_MILLIS = 1000;

    private final Service service;
    private final String query;
    private final Printer printer;
    private final long most;
    private final Consumer<InputStream> opened;
    private long left;
    private String last; // the id of the last event
    private long heard = System.nanoTime();

    Reader(
        Service service, String query, Printer printer, long most, Consumer<InputStream> opened) {
      this.service = service;
      this.query = query;
      this.printer = printer;
      this.most = most;
      this.opened = opened;
      left = most;
    }

    int read() throws IOException {
      try (InputStream stream =
              service.stream("/api/v1/follow?sql=" + Service.encode(query), last);
          BufferedReader in =
              new BufferedReader(new InputStreamReader(stream, StandardCharsets.UTF_8))) {
        opened.accept(stream);
        String event = "";
        String id = null;
        for (String line; (line = in.readLine()) != null; ) {
          heard = System.nanoTime();
          if (line.startsWith("event: ")) {
            event = line.substring(7);
          } else if (line.startsWith("id: ")) {
            id = line.substring(4);
          } else if (line.startsWith("data: ") && event.equals("end")) {
            System.err.println(line.substring(6));
            return 1;
          } else if (line.startsWith("data: ")) {
            int printed = printer.batch(JSON.std.mapFrom(line.substring(6)));
            last = id == null ? last : id;
            left -= event.equals("changes") ? printed : 0;
            if (most >= 0 && left <= 0) {
              return 0;
            }
          }
        }
      }
      throw new EOFException("the service ended the connection");
    }

    /** Waits before the next try, if there is any use in one. */
    void waitAfter(IOException lost) throws IOException {
      if (Thread.currentThread().isInterrupted()) {
        throw lost;
      }
      if (last == null || System.nanoTime() - heard > PATIENCE_NANOS) {
        throw new Problem("the service ended the connection", null, 1);
      }
      System.err.println("the connection was lost; trying to go on behind epoch " + last);
      try {
        Thread.sleep(PAUSE_MILLIS);
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        throw lost;
      }
    }
  }

  /** Prints batches; the first brings the columns. */
  private static final class Printer {
    private final Output.Format format;
    private final boolean changesOnly;
    private TextTable table;

    Printer(Output.Format format, boolean changesOnly) {
      this.format = format;
      this.changesOnly = changesOnly;
    }

    @SuppressWarnings("unchecked")
    int batch(Map<String, Object> batch) throws IOException {
      List<Map<String, Object>> changes = (List<Map<String, Object>>) batch.get("changes");
      if (batch.get("columns") != null) {
        table = new TextTable((List<?>) batch.get("columns"));
        List<List<Object>> rows = new ArrayList<>();
        changes.forEach(c -> rows.add((List<Object>) c.get("row")));
        table.fit(rows);
        start(batch.get("epoch"), rows.size());
        header();
        if (changesOnly) {
          System.out.flush();
          return 0;
        }
      }
      for (Map<String, Object> change : changes) {
        print(batch.get("epoch"), (Number) change.get("weight"), (List<Object>) change.get("row"));
      }
      System.out.flush();
      return changes.size();
    }

    /** Says how large the answer is; not among what programs read. */
    private void start(Object epoch, int rows) {
      if (format == Output.Format.table) {
        System.err.printf(
            "%,d %s at epoch %s%s%n",
            rows,
            rows == 1 ? "row" : "rows",
            epoch,
            changesOnly ? ", not shown; what changes from here on:" : ", then what changes:");
      }
    }

    private void header() {
      if (format == Output.Format.table) {
        System.out.println("   epoch      " + table.header());
        System.out.println("──────────────" + table.rule());
      } else if (format == Output.Format.csv) {
        List<String> names = new ArrayList<>(List.of("epoch", "weight"));
        names.addAll(table.names());
        System.out.println(Output.csv(names));
      }
    }

    private void print(Object epoch, Number weight, List<Object> row) throws IOException {
      switch (format) {
        case table -> {
          boolean came = weight.longValue() > 0;
          String times =
              Math.abs(weight.longValue()) == 1 ? "" : "×" + Math.abs(weight.longValue());
          String line =
              String.format("%8s  %s%-2s %s", epoch, came ? "+" : "−", times, table.row(row));
          System.out.println(
              System.console() == null
                  ? line
                  : came
                      ? line.replaceFirst("\\+", "\u001b[32m+\u001b[0m")
                      : "\u001b[90m" + line + "\u001b[0m");
        }
        case json -> {
          Map<String, Object> object = new LinkedHashMap<>();
          object.put("epoch", epoch);
          object.put("weight", weight);
          object.put("row", Output.object(table.names(), row));
          System.out.println(Output.json(object));
        }
        case csv -> {
          List<Object> cells = new ArrayList<>(List.of(epoch, weight));
          cells.addAll(row);
          System.out.println(Output.csv(cells));
        }
      }
    }
  }
}
