package dripledger.client;

import java.io.IOException;
import java.util.LinkedHashMap;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "topic",
    mixinStandardHelpOptions = true,
    description = "Makes a topic at the broker behind a connection.")
final class TopicCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Parameters(index = "0", paramLabel = "CONNECTION")
  private String connection;

  @Parameters(index = "1", paramLabel = "TOPIC")
  private String topic;

  @Option(names = "--partitions", defaultValue = "1", description = "how many (default 1)")
  private int partitions;

  @Option(
      names = "--retain",
      paramLabel = "TIME",
      description = "how long the broker keeps messages: '7 days', 'forever' (default: its own)")
  private String retain;

  @Override
  public Integer call() throws IOException {
    Map<String, Object> body = new LinkedHashMap<>();
    body.put("name", topic);
    body.put("partitions", partitions);
    body.put("retain", retain);
    drip.service().post("/api/v1/connections/" + Service.encode(connection) + "/topics", body);
    System.out.println("made topic " + topic + " with " + partitions + " partitions");
    return 0;
  }
}
