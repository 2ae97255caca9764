package dripledger.client;

import java.io.IOException;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "look",
    mixinStandardHelpOptions = true,
    description = "Shows the topics, tables or files behind a connection, with size and rate.")
final class LookCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Parameters(paramLabel = "CONNECTION")
  private String connection;

  @Override
  public Integer call() throws IOException {
    Map<String, Object> answer =
        drip.service().get("/api/v1/connections/" + Service.encode(connection));
    TextTable table =
        new TextTable(
            List.of(
                Map.of("name", "name", "type", "VARCHAR"),
                Map.of("name", "kind", "type", "VARCHAR"),
                Map.of("name", "partitions", "type", "BIGINT"),
                Map.of("name", "messages", "type", "BIGINT"),
                Map.of("name", "size", "type", "BIGINT"),
                Map.of("name", "a second", "type", "BIGINT"),
                Map.of("name", "key", "type", "VARCHAR"),
                Map.of("name", "note", "type", "VARCHAR")));
    List<List<Object>> rows = new ArrayList<>();
    for (Object source : (List<?>) answer.get("sources")) {
      Map<?, ?> s = (Map<?, ?>) source;
      List<Object> row = new ArrayList<>();
      row.add(s.get("name"));
      row.add(s.get("kind"));
      row.add(s.get("partitions"));
      row.add(s.get("messages"));
      row.add(s.get("bytes") instanceof Number n ? StatusCommand.bytes(n.longValue()) : null);
      row.add(s.get("per_second"));
      List<?> key = (List<?>) s.get("key");
      row.add(key.isEmpty() ? null : String.join(", ", key.stream().map(String::valueOf).toList()));
      row.add(s.get("note"));
      rows.add(row);
    }
    table.print(System.out, rows);
    return 0;
  }
}
