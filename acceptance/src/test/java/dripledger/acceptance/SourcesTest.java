package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardOpenOption;
import java.nio.file.attribute.PosixFilePermissions;
import java.sql.Connection;
import java.sql.Statement;
import java.util.Map;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;

/** What a data engineer does with a broker, a database and a folder, through the real service. */
class SourcesTest {
  private static Hub hub;
  private static LiveService service;

  @BeforeAll
  static void open() throws Exception {
    hub = new Hub();
    service = new LiveService("--drip.checkpoint-millis=500");
    hub.connect(service);
  }

  @AfterAll
  static void close() throws IOException {
    service.close();
    hub.close();
  }

  /** The rows of a query once they are as expected, or as they are after some seconds. */
  private static String soon(String query, String expected) throws Exception {
    String found = "";
    for (int i = 0; i < 150; i++) {
      found = String.valueOf(service.sql(query));
      if (found.equals(expected)) {
        return found;
      }
      Thread.sleep(100);
    }
    return found;
  }

  private static String error(String statement) throws IOException {
    LiveService.Answer answer =
        service.call("POST", "/api/v1/sql", Json.write(Map.of("sql", statement)));
    assertThat(answer.status()).as(statement).isGreaterThanOrEqualTo(400);
    Map<String, Object> problem = Json.read(answer.body());
    return problem.get("detail")
        + (problem.get("line") == null
            ? ""
            : " @" + problem.get("line") + ":" + problem.get("column"))
        + (problem.get("hint") == null ? "" : " | " + problem.get("hint"));
  }

  private static String scan(int parcel, String gate, int grams) {
    return "{\"parcel\":%d,\"gate\":\"%s\",\"at\":\"2026-03-02T06:14:%02dZ\",\"grams\":%d}"
        .formatted(parcel, gate, parcel % 60, grams);
  }

  @Test
  void eachThingThatIsWrongWithAConnectionHasItsOwnSentence() throws Exception {
    assertThat(error("CREATE CONNECTION c TYPE kafka OPTIONS (bootstrap_servers '127.0.0.1:1')"))
        .isEqualTo(
            "the broker cannot be reached: nobody answers at 127.0.0.1:1 | check option"
                + " \"bootstrap_servers\", and that the broker runs");
    assertThat(error("CREATE CONNECTION c TYPE kafka OPTIONS (servers 'x')"))
        .startsWith("a connection of type kafka has no option \"servers\" @1:41 | there are");
    assertThat(error("CREATE CONNECTION c TYPE pigeon"))
        .contains("there are file, kafka, postgres");
    String url = hub.operations().jdbcUrl("hub");
    assertThat(
            error(
                "CREATE CONNECTION c TYPE postgres OPTIONS (url '"
                    + url
                    + "', user 'drip', password 'loopback')"))
        .startsWith("option \"password\" would keep a secret in plain text");
    service.call("PUT", "/api/v1/secrets/wrong", "{\"value\":\"no\"}");
    assertThat(
            error(
                "CREATE CONNECTION c TYPE postgres OPTIONS (url '"
                    + url
                    + "', user 'drip', password SECRET wrong)"))
        .startsWith("the database refuses user \"drip\": wrong user or password");
    assertThat(
            error(
                "CREATE CONNECTION c TYPE postgres OPTIONS (url '"
                    + url
                    + "', user 'drip', password SECRET nowhere)"))
        .startsWith("there is no secret \"nowhere\"");
    assertThat(
            error(
                "CREATE CONNECTION c TYPE postgres OPTIONS (url '"
                    + hub.operations().jdbcUrl("nohub")
                    + "', user 'drip', password SECRET hub_ops_password)"))
        .startsWith("there is no such database");
    hub.operations().administer("CREATE ROLE clerk LOGIN PASSWORD 'loopback'");
    assertThat(
            error(
                "CREATE CONNECTION c TYPE postgres OPTIONS (url '"
                    + url
                    + "', user 'clerk', password SECRET hub_ops_password)"))
        .startsWith("user \"clerk\" may not read changes | there: ALTER ROLE clerk REPLICATION");
    assertThat(
            error(
                "CREATE CONNECTION c TYPE postgres OPTIONS (url '"
                    + service.cluster().jdbcUrl("drip")
                    + "', user 'drip', password SECRET hub_ops_password)"))
        .contains("wal_level is replica");
    assertThat(error("CREATE CONNECTION c TYPE file OPTIONS (path '/nowhere')"))
        .startsWith("option \"path\": there is no folder /nowhere @1:40");
    assertThat(error("CREATE STREAM s FROM hub_log (topic 'no.such') FORMAT json"))
        .startsWith("option \"topic\": there is no topic \"no.such\" @1:31 | ");
    assertThat(error("CREATE TABLE s FROM hub_ops (table 'public.nothing')"))
        .startsWith("option \"table\": there is no table \"public.nothing\"");
  }

  @Test
  void aConnectionIsLookedAtBeforeAnythingIsDeclared() throws Exception {
    assertThat(service.drip("", "topic", "hub_log", "look.at", "--partitions", "2").out())
        .contains("made topic look.at with 2 partitions");
    hub.send("look.at", "G07", scan(1, "G07", 1840), "{\"parcel\":");
    assertThat(service.drip("", "look", "hub_log").out())
        .containsPattern("look\\.at +topic +2 +2 +\\d+ B");
    LiveService.Run peek = service.drip("", "peek", "hub_log", "look.at", "--from", "earliest");
    assertThat(peek.out())
        .containsPattern("partition \\d, position 0, .*, key G07, json\n  \\{\"parcel\":1,")
        .contains("broken json");
    assertThat(service.drip("", "peek", "hub_log", "look.at", "-n", "1").out().lines()).hasSize(2);
    hub.execute(
        "CREATE TABLE seen (id int PRIMARY KEY, v text)", "INSERT INTO seen VALUES (1, 'x')");
    assertThat(service.drip("", "look", "hub_ops").out())
        .containsPattern("public\\.seen +table.* id ");
    assertThat(service.drip("", "peek", "hub_ops", "public.seen").out())
        .contains("{\"id\":1,\"v\":\"x\"}");
    assertThat(String.valueOf(service.sql("SHOW TOPICS FROM hub_log")))
        .contains("[look.at, topic, 2, 2,");
  }

  @Test
  void columnsAreProposedEditedAndKept() throws Exception {
    hub.topic("propose", 1);
    for (int i = 0; i < 30; i++) {
      hub.send("propose", "k" + i, scan(i, "G07", i));
    }
    hub.send(
        "propose",
        "k",
        "{\"parcel\":7,\"gate\":\"G08\",\"at\":\"2026-03-02T06:15:00Z\",\"grams\":\"heavy\"}");
    LiveService.Run proposed =
        service.drip(
            "",
            "propose",
            "stream",
            "proposed",
            "--from",
            "hub_log",
            "-o",
            "topic=propose",
            "--format",
            "json",
            "--keep");
    assertThat(proposed.out())
        .contains("a whole number in 30, but text in 1, such as \"heavy\"")
        .contains("EVENT TIME at LATENESS INTERVAL '30' SECOND")
        .contains("created stream proposed");
    assertThat(String.valueOf(service.sql("DESCRIBE proposed")))
        .contains("[grams, BIGINT, false, null]")
        .contains("[at, TIMESTAMP, false, event time, lateness 30 s]");
    assertThat(soon("SELECT COUNT(*), SUM(grams) FROM proposed", "[[30, 435]]"))
        .isEqualTo("[[30, 435]]");
    assertThat(soon("SELECT reason, raw FROM drip.rejects WHERE object = 'proposed'", ""))
        .contains("column grams: \"heavy\" is not of type BIGINT");
    service.sql("CREATE STREAM inferred FROM hub_log (topic 'propose') FORMAT json");
    assertThat(service.sql("DESCRIBE inferred")).hasSize(4);
  }

  @Test
  void rejectsAreReadRepairedAndReplayedOnce() throws Exception {
    hub.topic("broken", 2);
    service.sql(
        "CREATE STREAM broken (parcel BIGINT NOT NULL, gate VARCHAR NOT NULL, grams INTEGER)"
            + " FROM hub_log (topic 'broken') FORMAT json;"
            + "CREATE MATERIALIZED VIEW broken_sum AS SELECT COUNT(*) AS n, SUM(grams) AS g FROM broken");
    hub.send(
        "broken",
        "k",
        scan(1, "G07", 5),
        "{\"parcel\":2,\"gate\":\"G08\",\"grams\":\"heavy\"}",
        "{\"par",
        "{\"parcel\":3,\"grams\":7}");
    String query =
        "SELECT reason FROM drip.rejects WHERE object = 'broken' AND id IS NOT NULL ORDER BY id";
    assertThat(
            soon(
                "SELECT COUNT(*) FROM drip.rejects WHERE object = 'broken' AND id IS NOT NULL",
                "[[3]]"))
        .isEqualTo("[[3]]");
    assertThat(String.valueOf(service.sql(query)))
        .contains("is not of type INTEGER", "broken JSON", "column gate is NOT NULL");
    assertThat(service.drip("", "rejects", "broken").out()).contains("heavy").contains("broken-");
    LiveService.Run replay =
        service.drip("", "rejects", "broken", "--replay", "--replace", "\"heavy\"", "--by", "30");
    assertThat(replay.exit()).isEqualTo(3);
    assertThat(replay.out()).startsWith("1 taken in").contains("2 left: ");
    assertThat(String.valueOf(service.sql("SELECT n, g FROM broken_sum"))).isEqualTo("[[2, 35]]");
    assertThat(String.valueOf(service.sql("SELECT COUNT(*) FROM broken"))).isEqualTo("[[2]]");
    assertThat(service.drip("", "rejects", "broken", "--replay").out()).startsWith("0 taken in");
    Object id =
        service.sql("SELECT MAX(id) FROM drip.rejects WHERE object = 'broken'").get(0).get(0);
    assertThat(
            service
                .drip(
                    "",
                    "rejects",
                    "broken",
                    "--replay",
                    "--id",
                    "" + id,
                    "--raw",
                    "{\"parcel\":3,\"gate\":\"G01\",\"grams\":7}")
                .out())
        .startsWith("1 taken in");
    service.kill();
    service.start();
    assertThat(soon("SELECT n, g FROM broken_sum", "[[3, 42]]")).isEqualTo("[[3, 42]]");
    assertThat(String.valueOf(service.sql("SELECT COUNT(*) FROM broken"))).isEqualTo("[[3]]");
  }

  @Test
  void newFieldsAreNoticedAndCanBeTakenIn() throws Exception {
    hub.topic("drifting", 1);
    service.sql(
        "CREATE STREAM drifting (parcel BIGINT) FROM hub_log (topic 'drifting') FORMAT json;"
            + "CREATE STREAM drifting_too (parcel BIGINT) FROM hub_log (topic 'drifting') FORMAT json;"
            + "CREATE MATERIALIZED VIEW drift_count AS SELECT * FROM drifting");
    hub.send("drifting", "k", "{\"parcel\":1}", "{\"parcel\":2,\"colour\":\"red\"}");
    assertThat(
            soon(
                "SELECT field, what, messages, example, first_origin FROM drip.drift WHERE object = 'drifting'",
                "[[colour, new field, 1, \"red\", drifting-0@1]]"))
        .isEqualTo("[[colour, new field, 1, \"red\", drifting-0@1]]");
    service.sql("ALTER STREAM drifting ADD COLUMN colour VARCHAR");
    service.sql("ALTER STREAM drifting_too ADD COLUMN colour VARCHAR WITH REPLAY");
    hub.send("drifting", "k", "{\"parcel\":3,\"colour\":\"blue\"}");
    String fromNow = "[[1, null], [2, null], [3, blue]]";
    String replayed = "[[1, null], [2, red], [3, blue]]";
    assertThat(soon("SELECT parcel, colour FROM drifting ORDER BY parcel", fromNow))
        .isEqualTo(fromNow);
    assertThat(soon("SELECT parcel, colour FROM drifting_too ORDER BY parcel", replayed))
        .isEqualTo(replayed);
    assertThat(soon("SELECT * FROM drift_count ORDER BY parcel", "[[1], [2], [3]]"))
        .isEqualTo("[[1], [2], [3]]");
    service.sql(
        "CREATE MATERIALIZED VIEW colours AS SELECT colour, COUNT(*) AS n FROM drifting GROUP BY colour");
    service.kill();
    service.start();
    hub.send("drifting", "k", "{\"parcel\":4,\"colour\":\"blue\"}");
    assertThat(soon("SELECT n FROM colours WHERE colour = 'blue'", "[[2]]")).isEqualTo("[[2]]");
    assertThat(soon("SELECT COUNT(*) FROM drift_count", "[[4]]")).isEqualTo("[[4]]");
  }

  @Test
  void aTopicCanBeATable() throws Exception {
    hub.topic("gates", 2);
    service.sql(
        "CREATE TABLE gates (gate VARCHAR PRIMARY KEY, hall VARCHAR, capacity INTEGER)"
            + " FROM hub_log (topic 'gates') FORMAT json;"
            + "CREATE MATERIALIZED VIEW halls AS SELECT hall, COUNT(*) AS n, SUM(capacity) AS c FROM gates GROUP BY hall");
    hub.send(
        "gates",
        "G01",
        "{\"hall\":\"North\",\"capacity\":40}",
        "{\"hall\":\"North\",\"capacity\":60}");
    hub.send("gates", "G02", "{\"gate\":\"G02\",\"hall\":\"North\",\"capacity\":5}");
    assertThat(soon("SELECT * FROM halls", "[[North, 2, 65]]")).isEqualTo("[[North, 2, 65]]");
    hub.send("gates", "G01", (String) null);
    hub.send("gates", "G02", "{\"hall\":\"South\",\"capacity\":7}");
    assertThat(soon("SELECT * FROM halls", "[[South, 1, 7]]")).isEqualTo("[[South, 1, 7]]");
    assertThat(error("INSERT INTO gates VALUES ('x', 'y', 1)")).contains("follows its source");
    service.kill();
    service.start();
    hub.send("gates", "G02", (String) null);
    assertThat(soon("SELECT COUNT(*) FROM gates", "[[0]]")).isEqualTo("[[0]]");
  }

  @Test
  void changesWrappedByACaptureToolAreUnwrapped() throws Exception {
    hub.topic("wrapped", 1);
    service.sql(
        "CREATE TABLE wrapped (id BIGINT PRIMARY KEY, v VARCHAR) FROM hub_log (topic 'wrapped',"
            + " operation 'payload.kind', before 'payload.old', after 'payload.new', delete_words 'gone') FORMAT json");
    hub.send(
        "wrapped",
        "k",
        "{\"payload\":{\"kind\":\"new\",\"old\":null,\"new\":{\"id\":1,\"v\":\"a\"}}}",
        "{\"payload\":{\"kind\":\"new\",\"new\":{\"id\":2,\"v\":\"b\"}}}",
        "{\"payload\":{\"kind\":\"is\",\"old\":{\"id\":1,\"v\":\"a\"},\"new\":{\"id\":9,\"v\":\"c\"}}}",
        "{\"payload\":{\"kind\":\"gone\",\"old\":{\"id\":2},\"new\":null}}");
    assertThat(soon("SELECT * FROM wrapped", "[[9, c]]")).isEqualTo("[[9, c]]");
  }

  @Test
  void whatTheTransportKnowsIsThere() throws Exception {
    hub.topic("meta", 1);
    service.sql(
        "CREATE STREAM meta (v INTEGER, p INTEGER META partition, o BIGINT META position, k VARCHAR META key,"
            + " t TIMESTAMP META record_time, h VARCHAR META headers) FROM hub_log (topic 'meta', start 'latest') FORMAT json");
    var record =
        new org.apache.kafka.clients.producer.ProducerRecord<>(
            "meta", 0, 1_772_431_200_000L, "key", "{\"v\":1}");
    record.headers().add("site", Hub.bytes("quillhaven"));
    var ignored = hub.producer().send(record);
    hub.producer().flush();
    String expected = "[[1, 0, 0, key, 2026-03-02T06:00:00Z, {\"site\":\"quillhaven\"}]]";
    assertThat(soon("SELECT * FROM meta", expected)).isEqualTo(expected);
  }

  @Test
  void aRetainedStreamIsReadWithoutItsBroker() throws Exception {
    hub.topic("kept", 2);
    service.sql(
        "CREATE STREAM kept (parcel BIGINT, grams INTEGER) FROM hub_log (topic 'kept', retain '30 days') FORMAT json");
    hub.send("kept", "a", scan(1, "G1", 10), scan(2, "G1", 20), "{");
    assertThat(soon("SELECT COUNT(*), SUM(grams) FROM kept", "[[2, 30]]")).isEqualTo("[[2, 30]]");
    service.sql("ALTER STREAM kept SET (retain 'forever')");
    hub.broker().kill();
    try {
      service.sql("CREATE MATERIALIZED VIEW kept_sum AS SELECT SUM(grams) AS g FROM kept");
      assertThat(String.valueOf(service.sql("SELECT g FROM kept_sum"))).isEqualTo("[[30]]");
      assertThat(soon("SELECT COUNT(*) FROM drip.inputs WHERE name = 'kept'", "[[1]]"))
          .isEqualTo("[[1]]");
    } finally {
      hub.broker().start();
    }
    service.kill();
    service.start();
    hub.send("kept", "a", scan(3, "G1", 30));
    assertThat(soon("SELECT g FROM kept_sum", "[[60]]")).isEqualTo("[[60]]");
    assertThat(soon("SELECT COUNT(*) FROM kept", "[[3]]")).isEqualTo("[[3]]");
  }

  @Test
  void partitionsThatComeLaterAreRead() throws Exception {
    hub.topic("growing", 1);
    service.sql("CREATE STREAM growing (v INTEGER) FROM hub_log (topic 'growing') FORMAT json");
    hub.send("growing", "a", "{\"v\":1}");
    assertThat(soon("SELECT COUNT(*) FROM growing", "[[1]]")).isEqualTo("[[1]]");
    try (var admin =
        org.apache.kafka.clients.admin.Admin.create(
            Map.of("bootstrap.servers", hub.broker().servers()))) {
      admin
          .createPartitions(
              Map.of("growing", org.apache.kafka.clients.admin.NewPartitions.increaseTo(3)))
          .all()
          .get();
    }
    var ignored =
        hub.producer()
            .send(
                new org.apache.kafka.clients.producer.ProducerRecord<>(
                    "growing", 2, "k", "{\"v\":2}"));
    hub.producer().flush();
    Thread.sleep(20_000);
    assertThat(soon("SELECT SUM(v) FROM growing", "[[3]]")).isEqualTo("[[3]]");
  }

  @Test
  void aTableFollowsItsDatabase() throws Exception {
    hub.execute(
        "CREATE TYPE mood AS ENUM ('calm', 'busy')",
        "CREATE TABLE many (id bigint PRIMARY KEY, b boolean, s smallint, i integer, r real, d double precision,"
            + " n numeric(10,3), t text, c varchar(5), day date, tm time, ts timestamp, tz timestamptz,"
            + " bin bytea, u uuid, j jsonb, a integer[], m mood)",
        "INSERT INTO many VALUES (1, true, 2, 3, 1.5, 2.25, 12.345, E'tab\\tä', 'abc', '2026-03-02', '06:14:09.5',"
            + " '2026-03-02 06:14:09.123456', '2026-03-02 07:00:00+01', '\\x00ff', '00000000-0000-0000-0000-000000000001',"
            + " '{\"k\": 1}', '{1,NULL,3}', 'busy')",
        "INSERT INTO many (id) VALUES (2)");
    service.sql("CREATE TABLE many FROM hub_ops (table 'public.many')");
    String first =
        "[[1, true, 2, 3, 1.5, 2.25, 12.345, tab\tä, abc, 2026-03-02, 06:14:09.500, 2026-03-02T06:14:09.123456Z,"
            + " 2026-03-02T06:00:00Z, AP8=, 00000000-0000-0000-0000-000000000001, {\"k\": 1}, [1, null, 3], busy]]";
    String loaded = String.valueOf(service.sql("SELECT * FROM many WHERE id = 1"));
    hub.execute("UPDATE many SET id = 3 WHERE id = 1", "DELETE FROM many WHERE id = 2");
    String changed = first.replace("[[1,", "[[3,");
    assertThat(soon("SELECT * FROM many", changed).replace("06:14:09.500", "06:14:09.500"))
        .isEqualTo(changed);
    assertThat(loaded).as("as loaded").isEqualTo(first);
    hub.execute("TRUNCATE many");
    assertThat(soon("SELECT COUNT(*) FROM many", "[[0]]")).isEqualTo("[[0]]");
  }

  @Test
  void replicaIdentityIsExplained() throws Exception {
    hub.execute(
        "CREATE TABLE nokey (v integer)",
        "CREATE TABLE nothing (id integer PRIMARY KEY)",
        "ALTER TABLE nothing REPLICA IDENTITY NOTHING",
        "CREATE TABLE byindex (k integer NOT NULL, v text)",
        "CREATE UNIQUE INDEX byindex_k ON byindex (k)",
        "ALTER TABLE byindex REPLICA IDENTITY USING INDEX byindex_k",
        "CREATE TABLE fully (id integer PRIMARY KEY, v text)",
        "ALTER TABLE fully REPLICA IDENTITY FULL",
        "INSERT INTO byindex VALUES (1, 'a')",
        "INSERT INTO fully VALUES (1, 'a')");
    assertThat(error("CREATE TABLE nokey FROM hub_ops (table 'public.nokey')"))
        .contains("it has no primary key")
        .contains("ADD PRIMARY KEY");
    assertThat(error("CREATE TABLE nothing FROM hub_ops (table 'public.nothing')"))
        .contains("REPLICA IDENTITY is NOTHING");
    service.sql("CREATE TABLE byindex FROM hub_ops (table 'public.byindex')");
    service.sql("CREATE TABLE fully FROM hub_ops (table 'public.fully')");
    hub.execute("UPDATE byindex SET k = 2", "UPDATE fully SET id = 2", "UPDATE fully SET v = 'b'");
    assertThat(soon("SELECT * FROM byindex", "[[2, a]]")).isEqualTo("[[2, a]]");
    assertThat(soon("SELECT * FROM fully", "[[2, b]]")).isEqualTo("[[2, b]]");
    assertThat(error("CREATE STREAM s FROM hub_ops (table 'public.fully')"))
        .contains("write CREATE TABLE");
  }

  @Test
  void aChangedSchemaStopsWhatCannotGoOn() throws Exception {
    hub.execute(
        "CREATE TABLE wide (id integer PRIMARY KEY, v text, w integer)",
        "CREATE TABLE calm (id integer PRIMARY KEY)",
        "INSERT INTO wide VALUES (1, 'a', 1)");
    service.sql(
        "CREATE TABLE wide FROM hub_ops (table 'public.wide'); CREATE TABLE calm FROM hub_ops (table 'public.calm')");
    hub.execute(
        "ALTER TABLE wide ADD COLUMN extra text", "INSERT INTO wide VALUES (2, 'b', 2, 'more')");
    assertThat(soon("SELECT id, v, w FROM wide ORDER BY id", "[[1, a, 1], [2, b, 2]]"))
        .isEqualTo("[[1, a, 1], [2, b, 2]]");
    assertThat(
            String.valueOf(service.sql("SELECT field, what FROM drip.drift WHERE object = 'wide'")))
        .isEqualTo("[[extra, new field]]");
    hub.execute(
        "ALTER TABLE wide DROP COLUMN w",
        "INSERT INTO wide VALUES (3, 'c')",
        "INSERT INTO calm VALUES (5)");
    assertThat(soon("SELECT COUNT(*) FROM calm", "[[1]]"))
        .as("the others go on")
        .isEqualTo("[[1]]");
    LiveService.Answer wide = service.call("GET", "/api/v1/objects/wide", null);
    assertThat(wide.body()).contains("stopped: column \\\"w\\\" is no longer there at the source");
    assertThat(String.valueOf(service.sql("SELECT COUNT(*) FROM wide"))).isEqualTo("[[2]]");
    service.sql("DROP TABLE wide; CREATE TABLE wide FROM hub_ops (table 'public.wide')");
    assertThat(soon("SELECT * FROM wide WHERE id = 3", "[[3, c, null]]"))
        .isEqualTo("[[3, c, null]]");
  }

  @Test
  void aTableLoadedUnderWorkMissesNothing() throws Exception {
    hub.execute(
        "CREATE TABLE busy (id integer PRIMARY KEY, n integer)",
        "INSERT INTO busy SELECT g, 0 FROM generate_series(1, 20000) g");
    boolean[] working = {true};
    Thread worker =
        new Thread(
            () -> {
              try (Connection c = hub.connect();
                  Statement s = c.createStatement()) {
                for (int i = 0; working[0]; i++) {
                  s.execute("UPDATE busy SET n = n + 1 WHERE id % 50 = " + i % 50);
                  s.execute("INSERT INTO busy VALUES (" + (30_000 + i) + ", 0)");
                }
              } catch (java.sql.SQLException e) {
                throw new IllegalStateException(e);
              }
            });
    worker.start();
    Thread.sleep(300);
    service.sql("CREATE TABLE busy FROM hub_ops (table 'public.busy')");
    service.sql("REFRESH TABLE busy");
    working[0] = false;
    worker.join();
    try (Connection c = hub.connect();
        Statement s = c.createStatement();
        var r = s.executeQuery("SELECT count(*), sum(n), sum(id::bigint * n) FROM busy")) {
      r.next();
      String expected = "[[" + r.getLong(1) + ", " + r.getLong(2) + ", " + r.getLong(3) + "]]";
      assertThat(soon("SELECT COUNT(*), SUM(n), SUM(CAST(id AS BIGINT) * n) FROM busy", expected))
          .isEqualTo(expected);
    }
  }

  @Test
  void filesAreReadOnceAndAsTheyGrow() throws Exception {
    Path folder = Files.createTempDirectory("drip-spool");
    Files.setPosixFilePermissions(folder, PosixFilePermissions.fromString("rwxr-xr-x"));
    Files.writeString(
        folder.resolve("a.ndjson"), scan(1, "G1", 1) + "\n" + scan(2, "G1", 2) + "\n{\"par");
    Files.writeString(
        folder.resolve("a.csv"), "parcel,note\r\n1,\"two\r\nlines\"\r\n2,x\r\nbad,y\r\n");
    service.sql("CREATE CONNECTION spool TYPE file OPTIONS (path '" + folder + "')");
    service.sql(
        "CREATE STREAM watched (parcel BIGINT, grams INTEGER) FROM spool (files '*.ndjson') FORMAT json;"
            + "CREATE STREAM sheet (parcel BIGINT, note VARCHAR) FROM spool (files '*.csv', read 'once') FORMAT csv;"
            + "CREATE MATERIALIZED VIEW watched_sum AS SELECT COUNT(*) AS n, SUM(grams) AS g FROM watched");
    assertThat(soon("SELECT n, g FROM watched_sum", "[[2, 3]]")).isEqualTo("[[2, 3]]");
    assertThat(soon("SELECT * FROM sheet ORDER BY parcel", "[[1, two\r\nlines], [2, x]]"))
        .isEqualTo("[[1, two\r\nlines], [2, x]]");
    assertThat(soon("SELECT COUNT(*) FROM drip.rejects WHERE object = 'sheet'", "[[1]]"))
        .isEqualTo("[[1]]");
    service.kill();
    service.start();
    Files.writeString(
        folder.resolve("a.ndjson"), "cel\":3,\"grams\":10}\n", StandardOpenOption.APPEND);
    Files.writeString(folder.resolve("b.ndjson"), scan(4, "G1", 20) + "\n");
    assertThat(soon("SELECT n, g FROM watched_sum", "[[4, 33]]")).isEqualTo("[[4, 33]]");
    assertThat(String.valueOf(service.sql("SELECT COUNT(*) FROM watched"))).isEqualTo("[[4]]");
    assertThat(String.valueOf(service.sql("SHOW FILES FROM spool"))).contains("[a.csv, file,");
    service.sql("CREATE STREAM sheet_too FROM spool (files '*.csv') FORMAT csv");
    assertThat(String.valueOf(service.sql("DESCRIBE sheet_too"))).contains("[parcel, VARCHAR");
  }

  @Test
  void aConnectionInUseIsAlteredAndNotDropped() throws Exception {
    hub.topic("altered", 1);
    service.sql(
        "CREATE CONNECTION second TYPE kafka OPTIONS (bootstrap_servers '"
            + hub.broker().servers()
            + "');"
            + "CREATE STREAM altered (v INTEGER) FROM second (topic 'altered') FORMAT json");
    hub.send("altered", "k", "{\"v\":1}");
    assertThat(soon("SELECT COUNT(*) FROM altered", "[[1]]")).isEqualTo("[[1]]");
    assertThat(error("DROP CONNECTION second")).contains("stream altered reads from it");
    service.sql("ALTER CONNECTION second SET (reader_group 'drip-readers')");
    hub.send("altered", "k", "{\"v\":2}");
    assertThat(soon("SELECT COUNT(*) FROM altered", "[[2]]")).isEqualTo("[[2]]");
    assertThat(error("ALTER CONNECTION second SET (bootstrap_servers '127.0.0.1:1')"))
        .startsWith("the broker cannot be reached");
    service.sql("DROP CONNECTION second CASCADE");
    assertThatThrownBy(() -> service.sql("SELECT * FROM altered")).hasMessageContaining("altered");
  }

  @Test
  void aBrokerMayAskForALogInAndShowACertificate() throws Exception {
    hub.topic("guarded", 1);
    service.call("PUT", "/api/v1/secrets/good_one", "{\"value\":\"loopback\"}");
    service.call("PUT", "/api/v1/secrets/bad_one", "{\"value\":\"no\"}");
    String door =
        "CREATE CONNECTION guarded_log TYPE kafka OPTIONS (bootstrap_servers '"
            + hub.broker().guardedServers()
            + "', sasl 'PLAIN', user 'drip', ";
    String trust = "tls 'on', tls_ca_file '" + hub.broker().certificate() + "', ";
    assertThat(error(door + trust + "password SECRET bad_one)"))
        .startsWith("the broker refuses user \"drip\": wrong user or password");
    assertThat(error(door + "tls 'on', password SECRET good_one)"))
        .startsWith("the broker's certificate is not trusted");
    service.sql(door + trust + "password SECRET good_one)");
    service.sql("CREATE STREAM guarded (v INTEGER) FROM guarded_log (topic 'guarded') FORMAT json");
    hub.send("guarded", "k", "{\"v\":7}");
    assertThat(soon("SELECT v FROM guarded", "[[7]]")).isEqualTo("[[7]]");
    assertThat(service.log()).doesNotContain("password=\"loopback");
  }

  @Test
  void secretsAreNeverShown() throws Exception {
    assertThat(service.drip("s3cr3t-value\n", "secret", "set", "hidden").out())
        .isEqualTo("set secret hidden\n");
    assertThat(service.drip("", "secret", "list").out()).contains("hidden");
    assertThat(service.log()).doesNotContain("s3cr3t-value");
    try (Connection c =
            java.sql.DriverManager.getConnection(
                service.cluster().jdbcUrl("drip"), "drip", "loopback");
        Statement s = c.createStatement();
        var r =
            s.executeQuery("SELECT encode(sealed, 'escape') FROM secret WHERE name = 'hidden'")) {
      r.next();
      assertThat(r.getString(1)).doesNotContain("s3cr3t");
    }
    assertThat(service.drip("", "secret", "remove", "hidden").exit()).isZero();
  }

  @Test
  void aLostSlotIsToldAndALoadBeginsAnew() throws Exception {
    hub.execute("CREATE TABLE slotted (id integer PRIMARY KEY)", "INSERT INTO slotted VALUES (1)");
    service.sql(
        "CREATE CONNECTION apart TYPE postgres OPTIONS (url '"
            + hub.operations().jdbcUrl("hub")
            + "', user 'drip', password SECRET hub_ops_password);"
            + "CREATE TABLE slotted FROM apart (table 'public.slotted')");
    service.stop();
    hub.execute("SELECT pg_drop_replication_slot('drip_apart')", "INSERT INTO slotted VALUES (2)");
    service.start();
    String state = "SELECT state FROM drip.inputs WHERE connection = 'apart'";
    assertThat(soon(state, "[[stopped]]")).isEqualTo("[[stopped]]");
    assertThat(String.valueOf(service.sql("SELECT COUNT(*) FROM slotted"))).isEqualTo("[[1]]");
    service.sql("REFRESH TABLE slotted");
    assertThat(soon("SELECT COUNT(*) FROM slotted", "[[2]]")).isEqualTo("[[2]]");
    hub.execute("INSERT INTO slotted VALUES (3)");
    assertThat(soon("SELECT COUNT(*) FROM slotted", "[[3]]")).isEqualTo("[[3]]");
    service.sql("DROP TABLE slotted; CREATE TABLE slotted FROM apart (table 'public.slotted')");
    hub.execute("DELETE FROM slotted WHERE id = 1");
    assertThat(soon("SELECT COUNT(*) FROM slotted", "[[2]]")).as("begun anew").isEqualTo("[[2]]");
    service.sql("DROP TABLE slotted; DROP CONNECTION apart");
    try (Connection c = hub.connect();
        Statement s = c.createStatement();
        var r =
            s.executeQuery(
                "SELECT count(*) FROM pg_replication_slots WHERE slot_name = 'drip_apart'")) {
      r.next();
      assertThat(r.getLong(1)).as("nothing is left at the source").isZero();
    }
  }
}
