package dripledger.client;

import java.io.IOException;
import java.net.URI;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "share",
    mixinStandardHelpOptions = true,
    description = {
      "Gives somebody outside one view for a while: makes a file to send, with address, token and"
          + " examples. Without a view it lists what is shared; --end ends a share."
    })
final class ShareCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  @Parameters(paramLabel = "VIEW", arity = "0..1", description = "what to share")
  private String view;

  @Option(names = "--with", paramLabel = "NAME", description = "whom, such as fernway")
  private String with;

  @Option(names = "--days", paramLabel = "N", description = "for how long", defaultValue = "30")
  private int days;

  @Option(
      names = "--address",
      paramLabel = "URL",
      description = "by which the service is reached from there (default: the service's)")
  private String address;

  @Option(names = "--into", paramLabel = "FILE", description = "the file to write")
  private Path into;

  @Option(names = "--end", description = "end the share instead")
  private boolean end;

  @Override
  public Integer call() throws IOException {
    if (view == null) {
      list();
      return 0;
    }
    if (with == null) {
      throw new Problem("with whom?", "drip share " + view + " --with NAME", 2);
    }
    if (end) {
      drip.service().delete("/api/v1/shares/" + Service.encode(view) + "/" + Service.encode(with));
      System.out.println(view + " is no longer shared with " + with);
      return 0;
    }
    Path file = into == null ? Path.of(view + "-for-" + with + ".md") : into;
    Map<String, Object> made =
        share(drip, view, with, days, address == null ? drip.url() : address, file);
    System.out.println(
        view + " is shared with " + with + " until " + made.get("expires_at") + ": send " + file);
    System.out.println("The token is in that file and nowhere else; send it by a safe way.");
    return 0;
  }

  /**
   * Shares a view, and writes a file about it that only this user can read.
   *
   * @param url by which the service is reached from there
   */
  static Map<String, Object> share(
      Drip drip, String view, String with, int days, String url, Path file) throws IOException {
    Map<String, Object> wanted = Map.of("view", view, "with", with, "days", days);
    Map<String, Object> made = drip.service().post("/api/v1/shares", wanted);
    Files.writeString(Logins.privately(file), text(made, url));
    return made;
  }

  private void list() throws IOException {
    List<String> columns = List.of("view", "with", "state", "expires_at", "used_at");
    TextTable.print(
        System.out, columns, (List<?>) drip.service().get("/api/v1/shares").get("shares"));
  }

  private static String text(Map<String, Object> made, String url) {
    Object view = made.get("view");
    Object with = made.get("with");
    URI uri = URI.create(url);
    boolean endpoint = "endpoint".equals(made.get("kind"));
    String path = url + "/api/v1/" + (endpoint ? "endpoints/" : "views/") + made.get("view");
    int port = ((Number) made.get("wire_port")).intValue();
    String encrypted = uri.getScheme().equals("https") ? "?sslmode=verify-full" : "";
    StringBuilder text = new StringBuilder();
    text.append("# ").append(view).append(", for ").append(with).append("\n\n");
    text.append("Good until ").append(made.get("expires_at"));
    text.append(". Whoever has this file can read `").append(view);
    text.append("`, and nothing else; each read is noted.\n\n");
    text.append("| | |\n|---|---|\n| address | ").append(path).append(" |\n");
    text.append("| token | `").append(made.get("token")).append("` |\n\n");
    text.append("In a notebook:\n\n```python\nimport io, urllib.request\nimport pandas as pd\n\n");
    text.append("token = \"").append(made.get("token")).append("\"\n\n");
    text.append("def read(ending):\n    request = urllib.request.Request(\n        \"");
    text.append(path).append(".\" + ending,\n");
    text.append("        headers={\"Authorization\": \"Bearer \" + token})\n");
    text.append("    return io.BytesIO(urllib.request.urlopen(request).read())\n\n");
    text.append("pd.read_csv(read(\"csv\"))\n");
    text.append(
        "# pd.read_parquet(read(\"parquet\"))\n# pd.read_feather(read(\"arrow\"))\n```\n\n");
    text.append("On a command line:\n\n```\ncurl -H \"Authorization: Bearer $TOKEN\" ");
    text.append(path).append(".csv\n```\n");
    if (port > 0 && !endpoint) {
      text.append(
          "\nBy SQL, with any PostgreSQL client; the token is the password:\n\n```\npsql \"");
      text.append("postgresql://").append(with).append('@').append(uri.getHost());
      text.append(':').append(port).append('/').append(made.get("database")).append(encrypted);
      text.append("\" -c \"SELECT * FROM ").append(view).append(" LIMIT 10\"\n```\n");
    }
    return text.toString();
  }
}
