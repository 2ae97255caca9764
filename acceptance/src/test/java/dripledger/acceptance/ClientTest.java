package dripledger.acceptance;

import static java.util.stream.Collectors.joining;
import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.ScanGenerator;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.attribute.PosixFilePermissions;
import java.time.Instant;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import java.util.stream.IntStream;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;

/** The client as a process, against the real service. */
class ClientTest {
  private static LiveService service;

  @BeforeAll
  static void start() throws Exception {
    service = new LiveService();
    LiveService.Run run =
        service.drip(
            """
            CREATE STREAM scan (parcel BIGINT NOT NULL, gate VARCHAR NOT NULL, at TIMESTAMP, grams INTEGER,
              scanner ROW(id VARCHAR, battery DOUBLE));
            CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR);
            INSERT INTO gate VALUES ('G01', 'North'), ('G02', NULL);
            CREATE MATERIALIZED VIEW per_gate AS SELECT gate, COUNT(*) AS scans FROM scan GROUP BY gate;
            """,
            "sql",
            "-");
    assertThat(run.exit()).as(run.err()).isZero();
  }

  @AfterAll
  static void stop() throws Exception {
    service.close();
  }

  @Test
  void answersAreTablesForPeopleAndJsonAndCsvForPrograms() throws Exception {
    String query = "SELECT gate, hall, CHAR_LENGTH(gate) AS size FROM gate ORDER BY gate";
    assertThat(service.drip("", "sql", query).out())
        .startsWith(
            """
            gate  hall   size
            ─────────────────
            G01   North     3
            G02   ·         3

            2 rows · epoch""");
    assertThat(service.drip("", "sql", "--format", "json", query).out())
        .isEqualTo(
            """
            {"gate":"G01","hall":"North","size":3}
            {"gate":"G02","hall":null,"size":3}
            """);
    assertThat(service.drip("", "sql", "--format", "csv", query).out())
        .isEqualTo("gate,hall,size\nG01,North,3\nG02,,3\n");
  }

  @Test
  void aQueryEndsWithWhoeverAskedIt() throws Exception {
    String parcels = "(SELECT x FROM generate_series(1, 5000) AS g (x))";
    String query =
        "SELECT COUNT(*) AS n FROM %1$s AS a, %1$s AS b, %1$s AS c WHERE a.x + b.x < c.x"
            .formatted(parcels);
    LiveService.Run run = service.endedWhen(() -> running().contains("a.x + b.x"), "sql", query);
    assertThat(run.out()).isEmpty();
    for (int i = 0; i < 600 && running().contains("a.x + b.x"); i++) {
      Thread.sleep(50);
    }
    assertThat(running()).doesNotContain("a.x + b.x");
  }

  @Test
  void anIndexOutlivesTheService() throws Exception {
    LiveService.Run made = service.drip("", "sql", "CREATE INDEX ON gate (hall)");
    assertThat(made.out()).as(made.err()).startsWith("created index on gate (hall)");
    service.kill();
    service.start();
    assertThat(service.drip("", "sql", "SHOW CREATE gate").out())
        .contains("CREATE INDEX ON gate (hall);");
    assertThat(
            service
                .drip("", "sql", "--format", "csv", "SELECT gate FROM gate WHERE hall = 'North'")
                .out())
        .isEqualTo("gate\nG01\n");
    assertThat(service.drip("", "sql", "EXPLAIN SELECT gate FROM gate WHERE hall = 'North'").out())
        .contains("asked once")
        .contains("by index on hall");
    assertThat(service.drip("", "sql", "DROP INDEX ON gate (hall)").exit()).isZero();
    assertThat(service.drip("", "sql", "SHOW CREATE gate").out()).doesNotContain("INDEX");
  }

  private static String running() throws java.io.IOException {
    return service.call("GET", "/api/v1/sql", null).body();
  }

  @Test
  void statementsComeFromAFileToo(@TempDir Path folder) throws Exception {
    Path file = folder.resolve("q.sql");
    Files.writeString(file, "SELECT hall FROM gate WHERE gate = :g;\nSHOW TABLES;");
    LiveService.Run run = service.drip("", "sql", "-f", file.toString(), "-a", "g=G01");
    assertThat(run.out()).contains("North").contains("gate, hall");
  }

  @Test
  void anErrorHasACaretUnderItsPlace() throws Exception {
    LiveService.Run run = service.drip("", "sql", "SELECT gate,\n       hal FROM gate");
    assertThat(run.exit()).isEqualTo(1);
    assertThat(run.out()).isEmpty();
    assertThat(run.err())
        .isEqualTo(
            """
                     hal FROM gate
                     ^
            line 2, column 8: no column "hal" here
            hint: did you mean "hall"?
            """);
  }

  @Test
  void eventsArePushedAndBrokenOnesListed() throws Exception {
    ScanGenerator generator = new ScanGenerator(7);
    StringBuilder lines = new StringBuilder();
    for (int i = 0; i < 12_000; i++) {
      lines
          .append(generator.next(Instant.parse("2026-03-02T06:00:00Z").plusMillis(i * 25L)))
          .append('\n');
    }
    LiveService.Run run = service.drip(lines.toString(), "push", "--wait", "scan", "-");
    assertThat(run.exit()).isEqualTo(3);
    assertThat(run.out()).matches("(?s)\\d+ accepted, \\d+ rejected, position \\d+, epoch \\d+\n");
    long accepted = Long.parseLong(run.out().split(" ")[0]);
    long rejected = Long.parseLong(run.out().split(" ")[2]);
    assertThat(accepted + rejected).isEqualTo(12_000);
    assertThat(run.err().lines().count()).isEqualTo(rejected);
    assertThat(run.err())
        .contains("broken JSON")
        .contains("is NOT NULL")
        .contains("is not of type");
    LiveService.Run sum =
        service.drip("", "sql", "--format", "csv", "SELECT SUM(scans) AS n FROM per_gate");
    assertThat(sum.out()).isEqualTo("n\n" + accepted + "\n");
    assertThat(service.drip("", "get", "per_gate", "--count").out().strip()).isEqualTo("24");
  }

  @Test
  void csvIsPushedInParts(@TempDir Path folder) throws Exception {
    service.drip("", "sql", "CREATE STREAM note (at TIMESTAMP, body VARCHAR)");
    StringBuilder lines = new StringBuilder("body,at\n");
    for (int i = 0; i < 11_000; i++) {
      lines.append("note ").append(i).append(",2026-03-02T06:00:00Z\n");
    }
    Path file = folder.resolve("notes.csv");
    Files.writeString(file, lines);
    assertThat(service.drip("", "push", "--wait", "note", file.toString()).out())
        .startsWith("11000 accepted, 0 rejected, position 11000");
    assertThat(
            service
                .drip("", "sql", "--format", "csv", "SELECT COUNT(DISTINCT body) AS n FROM note")
                .out())
        .isEqualTo("n\n11000\n");
  }

  @Test
  void rowsAreLookedUp() throws Exception {
    assertThat(service.drip("", "get", "gate", "G01").out()).contains("North").contains("1 row");
    assertThat(service.drip("", "get", "gate", "--desc", "--limit", "1", "--format", "csv").out())
        .isEqualTo("gate,hall\nG02,\n");
    LiveService.Run missing = service.drip("", "get", "gate", "nope");
    assertThat(missing.exit()).isEqualTo(1);
    assertThat(missing.err()).contains("no row of gate has the key nope");
  }

  @Test
  void aQueryIsFollowed() throws Exception {
    service.drip(
        "",
        "sql",
        "CREATE TABLE followed (k INTEGER PRIMARY KEY, v INTEGER); INSERT INTO followed VALUES (1, 10)");
    LiveService.Run run =
        service.meanwhile(
            () -> service.sql("UPDATE followed SET v = 11"),
            "follow",
            "followed",
            "--changes",
            "2",
            "--format",
            "json");
    assertThat(run.out().lines().map(l -> l.replaceAll("\"epoch\":\\d+,", "")))
        .containsExactly(
            "{\"weight\":1,\"row\":{\"k\":1,\"v\":10}}",
            "{\"weight\":-1,\"row\":{\"k\":1,\"v\":10}}",
            "{\"weight\":1,\"row\":{\"k\":1,\"v\":11}}");
  }

  @Test
  void theShellTakesSeveralLinesAndCompletesNames() throws Exception {
    String screen =
        service.shell(
            "SELECT hall\rFROM gate\rWHERE gate = 'G01';\r",
            "SELECT COUNT(*) AS gates FROM gat\t;\r",
            "SELECT nope FROM gate;\r");
    assertThat(screen).contains("North").contains("gates").contains("no column \"nope\" here");
  }

  @Test
  void theShellKnowsWhatPeopleType() throws Exception {
    String screen = service.shell("help\r", "\\d gate\r", "\\d\r", "quit\r");
    assertThat(screen)
        .contains("A statement ends in ;")
        .contains("SHOW CREATE gate is its definition")
        .contains("per_gate");
  }

  @Test
  void aPipeThatIsClosedEndsACommand() throws Exception {
    service.drip(
        "",
        "sql",
        "CREATE TABLE many (k INTEGER PRIMARY KEY); INSERT INTO many VALUES "
            + IntStream.range(0, 2000).mapToObj(i -> "(" + i + ")").collect(joining(", ")));
    LiveService.Run run = service.piped("head -3", "follow", "many");
    assertThat(run.out().lines()).hasSize(3);
    assertThat(run.err()).contains("2,000 rows at epoch");
  }

  @Test
  void theAnswerToFollowCanBeLeftOut() throws Exception {
    service.drip("", "sql", "CREATE TABLE left_out (k INTEGER PRIMARY KEY)");
    service.drip("", "sql", "INSERT INTO left_out VALUES (1), (2)");
    LiveService.Run run =
        service.meanwhile(
            () -> service.sql("INSERT INTO left_out VALUES (3)"),
            "follow",
            "left_out",
            "--changes-only",
            "--changes",
            "1",
            "--format",
            "csv");
    assertThat(run.out().lines().skip(1).map(l -> l.replaceFirst("^\\d+", "")))
        .containsExactly(",1,3");
  }

  @Test
  void rejectsOfNothingAreNotJustNone() throws Exception {
    LiveService.Run run = service.drip("", "rejects", "nope");
    assertThat(run.exit()).isEqualTo(1);
    assertThat(run.err()).contains("no stream, table or view \"nope\"");
    assertThat(service.drip("", "help", "follow").out()).contains("--changes-only");
  }

  @Test
  void statusTellsHowEverythingDoes() throws Exception {
    assertThat(service.drip("", "status").out()).contains("answers at").contains("per_gate");
    LiveService.Run nowhere =
        service.drip("", "--service", "http://127.0.0.1:9", "sql", "SHOW VIEWS");
    assertThat(nowhere.exit()).isEqualTo(4);
    assertThat(nowhere.err()).contains("no service answers").contains("drip up");
    assertThat(service.drip("", "nonsense").exit()).isEqualTo(2);
  }

  @Test
  void theDoctorSaysWhatIsWrongAndWhatToDo() throws Exception {
    service.sql("CREATE STREAM ailing (parcel BIGINT NOT NULL)");
    service.drip("{\"parcel\":", "push", "ailing", "-");
    LiveService.Run run = service.drip("", "doctor");
    assertThat(run.exit()).isEqualTo(1);
    assertThat(run.out()).contains("- Stream ailing has 1 reject", "drip rejects ailing shows why");
    service.sql("DROP STREAM ailing");
    assertThat(service.drip("", "doctor").out()).doesNotContain("ailing");
    LiveService.Run nobody = service.drip("", "doctor", "--service", "http://127.0.0.1:1");
    assertThat(nobody.exit()).isEqualTo(1);
    assertThat(nobody.out()).contains("does not answer at http://127.0.0.1:1", "drip up");
  }

  @Test
  void tokensAreKeptForTheNextCommandAndSharesAreFilesToSend(@TempDir Path folder)
      throws Exception {
    String owner = service.ownerToken();
    assertThat(service.drip("", "sql", "CREATE ROLE dispatch").out()).contains("drip login");
    try {
      LiveService.Run unknown = service.drip("", "sql", "SHOW VIEWS");
      assertThat(unknown.exit()).isEqualTo(1);
      assertThat(unknown.err()).contains("wants to know who you are").contains("drip login");
      assertThat(service.drip("drip_nonsense\n", "login").err()).contains("does not know");
      assertThat(service.drip(owner + "\n", "login").out()).startsWith("you are owner at");
      service.as(owner);
      service.sql("GRANT SELECT ON per_gate TO dispatch");
      service.as(null);
      Path file = folder.resolve("dispatch.token");
      LiveService.Run made =
          service.drip(
              "", "token", "make", "dispatch", "laptop", "--lasts", "30 days", "--into", "" + file);
      assertThat(made.err()).contains("of role dispatch, good until");
      assertThat(PosixFilePermissions.toString(Files.getPosixFilePermissions(file)))
          .isEqualTo("rw-------");
      service.as(Files.readString(file).strip());
      assertThat(service.drip("", "sql", "SHOW VIEWS").out()).contains("per_gate");
      assertThat(service.drip("", "sql", "TABLE gate").err())
          .contains("there is no \"gate\" that role dispatch may read");
      assertThat(service.drip("", "status").out()).contains("per_gate").doesNotContain("scan ");
      String list = service.drip("", "token", "list").out();
      assertThat(list).contains("laptop").doesNotContain("first");
      service.as(null);
      String id = list.lines().filter(l -> l.contains("laptop")).findFirst().get().strip();
      id = id.substring(0, id.indexOf(' '));
      String second = service.drip("", "token", "rotate", id, "--overlap", "0").out().strip();
      service.as(second);
      assertThat(service.drip("", "sql", "SHOW VIEWS").out()).contains("per_gate");
      service.as(Files.readString(file).strip());
      assertThat(service.drip("", "sql", "SHOW VIEWS").err()).contains("no longer good");
      service.as(null);

      Path share = folder.resolve("share.md");
      assertThat(
              service
                  .drip("", "share", "per_gate", "--with", "fernway", "--into", "" + share)
                  .out())
          .contains("per_gate is shared with fernway until");
      String text = Files.readString(share);
      Matcher token = Pattern.compile("\\| token \\| `(drip_[\\w-]+)`").matcher(text);
      assertThat(token.find()).isTrue();
      assertThat(text).contains("/api/v1/views/per_gate").contains("psql").contains("read_csv");
      assertThat(service.drip("", "share").out()).contains("fernway").contains("open");
      service.as(token.group(1));
      assertThat(service.call("GET", "/api/v1/views/per_gate.csv", null).body())
          .startsWith("gate,scans");
      service.as(null);
      service.drip("", "share", "per_gate", "--with", "fernway", "--end");
      assertThat(
              service
                  .drip(
                      "", "sql", "SELECT what, object, detail FROM drip.journal WHERE role <> 'x'")
                  .out())
          .contains("CREATE ROLE dispatch")
          .contains("with fernway for 30 days");
    } finally {
      service.as(owner);
      service.sql("DROP ROLE dispatch");
      service.as(null);
      service.drip("", "login", "--out");
    }
  }
}
