package dripledger.client;

import java.io.IOException;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "peek",
    mixinStandardHelpOptions = true,
    description = "Shows raw messages of a topic, rows of a table or lines of a file.")
final class PeekCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Parameters(index = "0", paramLabel = "CONNECTION")
  private String connection;

  @Parameters(index = "1", paramLabel = "SOURCE", description = "a topic, table or file")
  private String source;

  @Option(
      names = "--from",
      defaultValue = "latest",
      description = "earliest, latest (default) or a time such as 2026-03-02T06:00:00Z")
  private String from;

  @Option(
      names = {"-n", "--count"},
      defaultValue = "10",
      description = "how many (default ${DEFAULT-VALUE})")
  private int count;

  @Override
  public Integer call() throws IOException {
    Map<String, Object> answer =
        drip.service()
            .get(
                "/api/v1/connections/"
                    + Service.encode(connection)
                    + "/peek?source="
                    + Service.encode(source)
                    + "&from="
                    + Service.encode(from)
                    + "&count="
                    + count);
    List<?> messages = (List<?>) answer.get("messages");
    for (Object message : messages) {
      Map<?, ?> m = (Map<?, ?>) message;
      StringBuilder head = new StringBuilder();
      head.append("partition ").append(m.get("partition"));
      head.append(", position ").append(m.get("position"));
      if (m.get("time") != null) {
        head.append(", ").append(TextTable.cell(m.get("time")));
      }
      if (m.get("key") != null) {
        head.append(", key ").append(m.get("key"));
      }
      head.append(", ").append(m.get("format"));
      ((Map<?, ?>) m.get("headers"))
          .forEach((name, value) -> head.append(", ").append(name).append('=').append(value));
      System.out.println(head);
      Object value = m.get("value") != null ? m.get("value") : m.get("value_base64");
      System.out.println("  " + (value == null ? "(no value)" : value));
    }
    if (messages.isEmpty()) {
      System.out.println("there is nothing");
    }
    return 0;
  }
}
