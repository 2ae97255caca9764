package dripledger.client;

import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "propose",
    mixinStandardHelpOptions = true,
    description = {
      "Reads a sample behind a connection and proposes the statement that declares it.",
      "With --edit the statement can be changed first; with --keep or --edit it is run."
    })
final class ProposeCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Parameters(index = "0", paramLabel = "stream|table")
  private String kind;

  @Parameters(index = "1", paramLabel = "NAME")
  private String name;

  @Option(names = "--from", required = true, paramLabel = "CONNECTION")
  private String connection;

  @Option(
      names = {"-o", "--option"},
      paramLabel = "NAME=VALUE",
      description = "an option of FROM, such as topic=hub.scan")
  private Map<String, String> options = new LinkedHashMap<>();

  @Option(names = "--format", description = "the messages' format, such as json")
  private String format;

  @Option(
      names = "--flat",
      description = "makes a column of each field of objects inside, instead of ROWs")
  private boolean flat;

  @Option(names = "--edit", description = "opens the statement in $EDITOR before it is run")
  private boolean edit;

  @Option(names = "--keep", description = "runs the statement as it is")
  private boolean keep;

  @Override
  public Integer call() throws IOException, InterruptedException {
    if (!kind.equals("stream") && !kind.equals("table")) {
      throw new Problem("\"" + kind + "\" is neither stream nor table", null, 2);
    }
    Map<String, Object> body = new LinkedHashMap<>();
    body.put("name", name);
    body.put("kind", kind);
    body.put("options", options);
    body.put("format", format);
    body.put("flat", flat);
    Map<String, Object> answer =
        drip.service().post("/api/v1/connections/" + Service.encode(connection) + "/propose", body);
    String sql = (String) answer.get("sql");
    print(answer);
    System.out.println();
    if (edit) {
      sql = edited(sql);
    }
    System.out.println(sql + ";");
    if (edit || keep) {
      for (Map<String, Object> result : drip.service().sql(sql, Map.of())) {
        System.out.println(result.get("message"));
      }
    }
    return 0;
  }

  private static void print(Map<String, Object> answer) {
    TextTable table =
        new TextTable(
            List.of(
                Map.of("name", "column", "type", "VARCHAR"),
                Map.of("name", "type", "type", "VARCHAR"),
                Map.of("name", "missing", "type", "BIGINT"),
                Map.of("name", "example", "type", "VARCHAR"),
                Map.of("name", "conflict", "type", "VARCHAR")));
    List<List<Object>> rows = new ArrayList<>();
    for (Object column : (List<?>) answer.get("columns")) {
      Map<?, ?> c = (Map<?, ?>) column;
      List<Object> row = new ArrayList<>();
      boolean nullable = Boolean.TRUE.equals(c.get("nullable"));
      row.add(c.get("name"));
      row.add(c.get("type") + (nullable ? "" : " NOT NULL"));
      row.add(c.get("missing"));
      row.add(c.get("example"));
      row.add(c.get("conflict"));
      rows.add(row);
    }
    table.print(System.out, rows);
    System.out.println(
        answer.get("sampled")
            + " messages looked at, "
            + answer.get("unread")
            + " of them could not be read");
  }

  private static String edited(String sql) throws IOException, InterruptedException {
    String editor = System.getenv().getOrDefault("EDITOR", "vi");
    Path file = Files.createTempFile("drip-", ".sql");
    try {
      Files.writeString(file, sql);
      List<String> command = new ArrayList<>(List.of(editor.split(" ")));
      command.add(file.toString());
      if (new ProcessBuilder(command).inheritIO().start().waitFor() != 0) {
        throw new Problem("the editor failed; nothing was kept", null, 1);
      }
      return Files.readString(file).strip();
    } finally {
      Files.delete(file);
    }
  }
}
