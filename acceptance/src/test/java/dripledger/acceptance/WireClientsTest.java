package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.concurrent.TimeUnit;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;

/** SQL from standard clients, as processes of their own: each reads, fetches, follows, cancels. */
class WireClientsTest extends WireService {
  private static String run(String... command) throws IOException, InterruptedException {
    return run(0, command);
  }

  private static String run(int exit, String... command) throws IOException, InterruptedException {
    Path out = Files.createTempFile("drip-client", ".out");
    ProcessBuilder builder =
        new ProcessBuilder(command).redirectErrorStream(true).redirectOutput(out.toFile());
    builder.environment().put("PGPORT", "" + service.wirePort());
    builder.environment().put("PGHOST", "127.0.0.1");
    builder.environment().put("DRIP_URL", service.url());
    builder.environment().put("PGUSER", "dispatch");
    builder.environment().put("PGDATABASE", "ledger");
    Process process = builder.start();
    process.getOutputStream().close();
    if (!process.waitFor(60, TimeUnit.SECONDS)) {
      process.destroyForcibly();
      throw new IOException("it does not end:\n" + Files.readString(out));
    }
    String text = Files.readString(out);
    Files.delete(out);
    assertThat(process.exitValue()).as(Arrays.toString(command) + "\n" + text).isEqualTo(exit);
    return text;
  }

  private static String psql(String... commands) throws IOException, InterruptedException {
    List<String> all = new ArrayList<>(List.of("psql", "-X", "-A", "-t", "-v", "ON_ERROR_STOP=1"));
    for (String command : commands) {
      all.addAll(List.of("-c", command));
    }
    return run(all.toArray(String[]::new));
  }

  @Test
  void psqlAsksAndLooksAround() throws Exception {
    assertThat(psql("SELECT hall, COUNT(*) FROM gate GROUP BY hall ORDER BY hall"))
        .isEqualTo("North|10\nSouth|10\n");
    assertThat(psql("\\d gate_load"))
        .contains("gate|text|", "minute|timestamp without time zone|", "grams|bigint");
    assertThat(psql("\\dt+")).contains("public|gate_load|table|").contains("materialized view");
    assertThat(
            psql(
                "\\d",
                "\\d+ gate",
                "\\di",
                "\\dv",
                "\\dm",
                "\\dn+",
                "\\df",
                "\\l",
                "\\du",
                "\\dp",
                "\\dT",
                "\\ds",
                "\\dC",
                "\\dd",
                "\\dx",
                "\\det",
                "\\conninfo"))
        .contains("gate_pkey");
    String rows = "";
    for (int i = 0; i < 100 && !rows.equals("20\n"); i++) {
      rows = psql("SELECT reltuples FROM pg_catalog.pg_class WHERE relname = 'gate'");
      Thread.sleep(100);
    }
    assertThat(rows).as("estimated").isEqualTo("20\n");
    // what completion asks when the tabulator is pressed behind SELECT * FROM gat
    assertThat(
            psql(
                "SELECT c.relname, NULL::pg_catalog.text FROM pg_catalog.pg_class c WHERE c.relkind IN"
                    + " ('r', 'v') AND (c.relname) LIKE 'gat%' AND pg_catalog.pg_table_is_visible(c.oid)"
                    + " AND c.relnamespace <> (SELECT oid FROM pg_catalog.pg_namespace WHERE nspname ="
                    + " 'pg_catalog') ORDER BY 1 LIMIT 1000"))
        .isEqualTo("gate|\ngate_load|\n");
    assertThat(psql("\\copy (SELECT gate FROM gate WHERE gate < 'G03' ORDER BY 1) TO STDOUT CSV"))
        .isEqualTo("G01\nG02\n");
    String watch =
        "echo 'SELECT COUNT(*) AS n FROM gate \\watch 0.3' | timeout 2 psql -X -A -t; true";
    assertThat(run("bash", "-c", watch)).containsPattern("20\n+.*\n*20");
    // rows as they come, on a terminal
    String follow = "COPY (FOLLOW SELECT gate FROM gate WHERE gate = 'G01') TO STDOUT";
    String terminal = "timeout 3 script -qec \"psql -X -c \\\"" + follow + "\\\"\" /dev/null; true";
    assertThat(run("bash", "-c", terminal)).containsPattern("1\t\\d+\tG01\r?\n");
    String bad = run(1, "psql", "-X", "-v", "ON_ERROR_STOP=1", "-c", "SELECT gatee FROM gate");
    assertThat(bad)
        .contains(
            "ERROR:  no column \"gatee\"", "LINE 1: SELECT gatee FROM gate", "^", "did you mean");
    assertThat(run(2, "psql", "-X", "elsewhere", "-c", "SELECT 1"))
        .contains("there is no database \"elsewhere\"");
  }

  @Test
  void pythonReadsAndFollows() throws Exception {
    assertThat(run("/usr/bin/python3", script("read.py"), "psycopg2")).endsWith("done\n");
    assertThat(run("/usr/bin/python3", script("read.py"), "psycopg")).endsWith("done\n");
  }

  @Test
  void nodeReadsAndFollows() throws Exception {
    assertThat(run("node", script("read.mjs"))).endsWith("done\n");
  }

  /** One line of a notebook, by the libraries that people have there. */
  @Test
  void notebooksReadAViewInOneLine() throws Exception {
    assertThat(run("/usr/bin/python3", script("files.py"))).endsWith("done\n");
    assertThat(run("node", script("files.mjs"))).endsWith("done\n");
  }

  /** A view as a sheet, by the converter of a spreadsheet program, and what the sheet says then. */
  @Test
  void aSpreadsheetReadsAViewInOneLine(@TempDir Path folder) throws Exception {
    String sheet = folder.resolve("gate.xlsx").toString();
    run("bash", "-c", "curl -s $DRIP_URL/api/v1/views/gate.csv | ssconvert fd://0 " + sheet);
    String back = run("ssconvert", "-O", "format=raw separator=;", sheet, folder + "/gate.txt");
    assertThat(Files.readString(folder.resolve("gate.txt")))
        .as(back)
        .startsWith("gate;hall;capacity_per_minute\nG01;South;41\nG02;North;42\n")
        .endsWith("G20;North;60\n");
  }

  @Test
  void odbcReadsAndLooksAround() throws Exception {
    Path driver;
    try (var all = Files.walk(Path.of("/usr/lib"))) {
      driver = all.filter(p -> p.endsWith("psqlodbcw.so")).findFirst().orElseThrow();
    }
    String source =
        "Driver=%s;Servername=127.0.0.1;Port=%d;Database=ledger;UserName=dispatch;UseDeclareFetch=1;Fetch=7"
            .formatted(driver, service.wirePort());
    Path statements = Files.createTempFile("drip", ".sql");
    Files.writeString(
        statements, "SELECT gate FROM gate ORDER BY gate\nhelp gate\nSELECT 1/0\nSELECT 2\n");
    for (String locale : List.of("C.UTF-8", "C")) { // a new Debian has no other than C
      String ask = "LC_ALL=" + locale + " isql -v -k -b '" + source + "' < " + statements;
      assertThat(run("bash", "-c", ask))
          .as(locale)
          .contains("G01", "G20", "capacity_per_minute", "2");
    }
    Files.delete(statements);
  }

  private static String script(String name) throws IOException {
    Path file = Path.of("clients", name);
    assertThat(file).exists();
    return file.toAbsolutePath().toString();
  }
}
