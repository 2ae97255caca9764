package dripledger.client;

import java.io.IOException;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "status",
    mixinStandardHelpOptions = true,
    description = "Tells whether the service runs, and how everything in it does.")
final class StatusCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Override
  public Integer call() throws IOException, InterruptedException {
    Map<String, Object> answer;
    try {
      answer = drip.service().get("/api/v1/objects");
    } catch (Problem e) {
      Installation installation = new Installation();
      System.out.println("service    does not answer at " + drip.url());
      System.out.println("postgres   " + (installation.postgresRuns() ? "runs" : "is stopped"));
      System.out.println("log        " + installation.serviceLog());
      return e.exitCode();
    }
    System.out.println("service    answers at " + drip.url());
    System.out.println("epoch      " + answer.get("epoch"));
    System.out.printf("taken in   %,d changes since the start%n", number(answer, "rows_taken"));
    System.out.println("waiting    " + bytes(number(answer, "queued_bytes")));
    System.out.println(
        "held       "
            + bytes(number(answer, "held_bytes"))
            + " of at most "
            + bytes(number(answer, "held_bytes_max"))
            + "; for readers of older epochs "
            + bytes(number(answer, "held_back_bytes"))
            + " of at most "
            + bytes(number(answer, "held_back_bytes_max"))
            + ended(number(answer, "ended_reads")));
    checkpoint((Map<?, ?>) answer.get("checkpoint"));
    for (Map.Entry<?, ?> table : ((Map<?, ?>) answer.get("loading")).entrySet()) {
      long rows = ((Number) table.getValue()).longValue();
      System.out.printf("loading    %s: %,d rows so far%n", table.getKey(), rows);
    }
    hub();
    System.out.println();
    print((List<?>) answer.get("objects"));
    return 0;
  }

  private static String ended(long reads) {
    return reads == 0 ? "" : "; " + reads + " ended because that was not enough";
  }

  /** The demo's broker, feeder and carrier, if there ever was a demo here. */
  private static void hub() throws IOException {
    Installation installation = new Installation();
    if (installation.hasHub()) {
      boolean broker = installation.process("broker").isPresent();
      boolean feeder = installation.process("feeder").isPresent();
      boolean carrier = installation.process("carrier").isPresent();
      System.out.println(
          "demo hub   "
              + (broker ? "broker runs" : "broker is stopped")
              + ", "
              + (feeder ? "feeder runs" : "feeder is stopped")
              + ", "
              + (carrier ? "carrier runs" : "carrier is stopped")
              + (broker && feeder && carrier ? "" : "; start them with: drip demo"));
    }
  }

  private static void checkpoint(Map<?, ?> c) {
    String text =
        c.get("loaded_epoch") == null
            ? "none yet"
            : "that of epoch " + c.get("loaded_epoch") + " was loaded at the start; none since";
    if (c.get("epoch") != null) {
      text =
          String.format(
              "%.1f s old, epoch %s, took %d ms, wrote %s; %s in all, in %s chunks",
              number(c, "age_ms") / 1000.0,
              c.get("epoch"),
              number(c, "duration_ms"),
              bytes(number(c, "written_bytes")),
              bytes(number(c, "total_bytes")),
              c.get("chunks"));
    }
    System.out.println("checkpoint " + text);
    if (c.get("failure") != null) {
      System.out.println("           the last try failed: " + c.get("failure"));
    }
  }

  /** Rows of a relation, events of a stream, or what a delivery has carried. */
  private static Object rows(Map<?, ?> o) {
    if (o.get("delivery") instanceof Map<?, ?> delivery) {
      return number(delivery, "put") + number(delivery, "changed") + number(delivery, "removed");
    }
    return o.get("rows") == null ? o.get("events") : o.get("rows");
  }

  /** How far an input is behind its source: a number of messages, or bytes. */
  private static Object behind(Map<?, ?> input) {
    if (input == null || input.get("behind") == null) {
      return null;
    }
    long n = number(input, "behind");
    return "bytes".equals(input.get("behind_unit")) ? bytes(n) : (Object) n;
  }

  private static long number(Map<?, ?> map, String name) {
    return map.get(name) instanceof Number n ? n.longValue() : 0;
  }

  static String bytes(long n) {
    return n < 10_000 ? n + " B" : n < 10_000_000 ? n / 1000 + " kB" : n / 1_000_000 + " MB";
  }

  private static void print(List<?> objects) {
    List<Map<String, Object>> columns = new ArrayList<>();
    for (String name : List.of("name", "kind")) {
      columns.add(Map.of("name", name, "type", "VARCHAR"));
    }
    for (String name : List.of("rows", "state", "rejects", "behind")) {
      columns.add(Map.of("name", name, "type", "BIGINT"));
    }
    columns.add(Map.of("name", "health", "type", "VARCHAR"));
    List<List<Object>> rows = new ArrayList<>();
    for (Object object : objects) {
      Map<?, ?> o = (Map<?, ?>) object;
      List<Object> row = new ArrayList<>();
      row.add(o.get("name"));
      row.add(o.get("kind"));
      row.add(rows(o));
      row.add(o.get("state_bytes") == null ? null : bytes(number(o, "state_bytes")));
      row.add(o.get("rejects"));
      row.add(
          o.get("delivery") instanceof Map<?, ?> delivery
              ? number(delivery, "waiting_rows")
              : behind((Map<?, ?>) o.get("input")));
      row.add(o.get("health") == null ? "ok" : o.get("health"));
      rows.add(row);
    }
    new TextTable(columns).print(System.out, rows);
  }
}
