package dripledger.client;

import java.io.IOException;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "get",
    mixinStandardHelpOptions = true,
    description = "Looks up rows of a materialized view or table by key, range or prefix.")
final class GetCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Parameters(index = "0", paramLabel = "VIEW")
  private String view;

  @Parameters(
      index = "1",
      arity = "0..1",
      paramLabel = "KEY",
      description = "the key, or its leading columns, comma-separated")
  private String key;

  @Option(names = "--from", description = "rows from this key on")
  private String from;

  @Option(names = "--to", description = "rows before this key")
  private String to;

  @Option(names = "--prefix", description = "rows whose key starts so")
  private String prefix;

  @Option(names = "--desc", description = "last key first")
  private boolean desc;

  @Option(names = "--limit", description = "rows at most (default ${DEFAULT-VALUE})")
  private int limit = 100;

  @Option(names = "--count", description = "only the number of rows")
  private boolean count;

  @Option(names = "--format", description = "table (default), json or csv")
  private Output.Format format = Output.Format.table;

  @Override
  @SuppressWarnings("unchecked")
  public Integer call() throws IOException {
    String base = "/api/v1/views/" + Service.encode(view);
    if (count) {
      System.out.println(drip.service().get(base + "/count").get("count"));
      return 0;
    }
    Map<String, Object> answer =
        key != null
            ? drip.service().get(base + "/rows/" + Service.encode(key))
            : drip.service().get(base + "/rows?" + query());
    List<Map<String, Object>> rows =
        answer.get("row") != null
            ? List.of((Map<String, Object>) answer.get("row"))
            : (List<Map<String, Object>>) answer.get("rows");
    print(rows, answer);
    if (answer.get("note") != null) {
      System.err.println("note: " + answer.get("note"));
    }
    if (Boolean.TRUE.equals(answer.get("more"))) {
      System.err.println("there are more rows; raise --limit");
    }
    return 0;
  }

  private String query() {
    StringBuilder query = new StringBuilder("limit=" + limit);
    if (from != null) {
      query.append("&from=").append(Service.encode(from));
    }
    if (to != null) {
      query.append("&to=").append(Service.encode(to));
    }
    if (prefix != null) {
      query.append("&prefix=").append(Service.encode(prefix));
    }
    return query.append(desc ? "&order=desc" : "").toString();
  }

  private void print(List<Map<String, Object>> rows, Map<String, Object> answer)
      throws IOException {
    if (format == Output.Format.json) {
      for (Map<String, Object> row : rows) {
        System.out.println(Output.json(row));
      }
      return;
    }
    if (rows.isEmpty()) {
      System.err.println("no rows");
      return;
    }
    List<Map<String, Object>> columns = new ArrayList<>();
    rows.get(0)
        .forEach(
            (name, value) ->
                columns.add(Map.of("name", name, "type", value instanceof Number ? "BIGINT" : "")));
    List<List<Object>> cells =
        rows.stream().map(r -> (List<Object>) new ArrayList<>(r.values())).toList();
    if (format == Output.Format.csv) {
      System.out.println(Output.csv(new ArrayList<>(rows.get(0).keySet())));
      cells.forEach(c -> System.out.println(Output.csv(c)));
    } else {
      TextTable table = new TextTable(columns);
      table.print(System.out, cells);
      System.out.printf(
          "%n%s · epoch %s%s%n",
          rows.size() == 1 ? "1 row" : rows.size() + " rows",
          answer.get("epoch"),
          table.hasTimes() ? " · times in UTC" : "");
    }
  }
}
