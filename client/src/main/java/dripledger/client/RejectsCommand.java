package dripledger.client;

import java.io.IOException;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "rejects",
    mixinStandardHelpOptions = true,
    description = {
      "Shows the messages that a stream or table could not take, with reason and origin, and what a",
      "materialized view fails on or has left out as too late.",
      "With --replay they are tried again, as they are or repaired."
    })
final class RejectsCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Parameters(paramLabel = "NAME", description = "a stream, table or materialized view")
  private String name;

  @Option(
      names = {"-n", "--count"},
      defaultValue = "20",
      description = "how many of the newest to show (default ${DEFAULT-VALUE})")
  private int count;

  @Option(names = "--replay", description = "takes them in after all, those that can be read now")
  private boolean replay;

  @Option(names = "--id", paramLabel = "ID", description = "only this one; may be repeated")
  private List<Long> ids = List.of();

  @Option(names = "--raw", paramLabel = "MESSAGE", description = "what one should have been")
  private String raw;

  @Option(
      names = "--replace",
      paramLabel = "PATTERN",
      description = "a regular expression to look for in each message")
  private String pattern;

  @Option(names = "--by", paramLabel = "TEXT", description = "what to put in its place")
  private String replacement;

  @Option(
      names = "--into",
      paramLabel = "STREAM",
      description = "the stream that takes what a view left out as too late")
  private String into;

  @Override
  public Integer call() throws IOException {
    if (!replay) {
      drip.service().get("/api/v1/objects/" + Service.encode(name)); // says so if there is none
      String sql =
          "SELECT id, at, reason, origin, raw, raw_bytes IS NULL FROM drip.rejects WHERE object = :name"
              + " ORDER BY at DESC LIMIT "
              + count;
      Map<String, Object> shown = drip.service().sql(sql, Map.of("name", name)).get(0);
      String count = "SELECT COUNT(*) AS n FROM drip.rejects WHERE object = :name";
      List<?> counted =
          (List<?>) drip.service().sql(count, Map.of("name", name)).get(0).get("rows");
      print(shown, ((Number) ((List<?>) counted.get(0)).get(0)).longValue());
      return 0;
    }
    Map<String, Object> body = new LinkedHashMap<>();
    body.put("ids", ids);
    body.put("raw", raw);
    body.put("pattern", pattern);
    body.put("replacement", replacement);
    body.put("into", into);
    Map<String, Object> answer =
        drip.service().post("/api/v1/objects/" + Service.encode(name) + "/rejects/replay", body);
    int taken = ((Number) answer.get("taken")).intValue();
    int overtaken = ((Number) answer.get("overtaken")).intValue();
    Object reason = answer.get("first_reason");
    System.out.println(
        taken
            + " taken in"
            + (taken > 0 ? " (epoch " + answer.get("epoch") + ")" : "")
            + (overtaken > 0
                ? ", " + overtaken + " overtaken by a later message for the same row"
                : "")
            + ", "
            + answer.get("left")
            + " left"
            + (reason == null ? "" : ": " + reason));
    return ((Number) answer.get("left")).intValue() > 0 ? 3 : 0;
  }

  /** With as many digits whatever they are. */
  private static String time(Object iso) {
    String text = TextTable.cell(iso);
    return text.length() < 19
        ? text
        : (text + (text.length() == 19 ? "." : "") + "000").substring(0, 23);
  }

  /** Newest first: number, time, origin and reason, then the message below. */
  private void print(Map<String, Object> result, long all) {
    List<?> rows = (List<?>) result.get("rows");
    if (!rows.isEmpty()) {
      System.out.printf(
          "%s of %,d that are kept, newest first; times in UTC%n%n",
          rows.size() == all ? "All" : "The last " + rows.size(), all);
    }
    for (Object row : rows) {
      List<?> r = (List<?>) row;
      // A row that a view fails on is no message: it is there as long as the view fails on it.
      boolean failing = r.get(0) == null && r.get(4) != null && Boolean.TRUE.equals(r.get(5));
      String id = failing ? "fails now" : r.get(0) == null ? "not saved yet" : "id " + r.get(0);
      System.out.printf("%s, %s, %s: %s%n", id, time(r.get(1)), r.get(3), r.get(2));
      System.out.println("  " + (r.get(4) == null ? "(no value)" : r.get(4)));
    }
    if (rows.isEmpty()) {
      System.out.println("nothing was rejected of " + name);
    }
  }
}
