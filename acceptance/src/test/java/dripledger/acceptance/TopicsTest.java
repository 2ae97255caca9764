package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.Map;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.parallel.ResourceLock;

/** Streams and tables from topics of a real broker. */
@ResourceLock(SourceTest.TWO)
class TopicsTest extends SourceTest {
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
    expect("SELECT COUNT(*), SUM(grams) FROM proposed", "[[30, 435]]");
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
    expect("SELECT COUNT(*) FROM drip.rejects WHERE object = 'broken' AND id IS NOT NULL", "[[3]]");
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
    expect("SELECT n, g FROM broken_sum", "[[3, 42]]");
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
    expect(
        "SELECT field, what, messages, example, first_origin FROM drip.drift WHERE object = 'drifting'",
        "[[colour, new field, 1, \"red\", drifting-0@1]]");
    Thread.sleep(11_000); // it is saved every 10 seconds
    service.kill();
    service.start();
    expect(
        "SELECT field, messages, example FROM drip.drift WHERE object = 'drifting'",
        "[[colour, 1, \"red\"]]");
    service.sql("ALTER STREAM drifting ADD COLUMN colour VARCHAR");
    expect("SELECT COUNT(*) FROM drip.drift WHERE object = 'drifting'", "[[0]]");
    service.sql("ALTER STREAM drifting_too ADD COLUMN colour VARCHAR WITH REPLAY");
    hub.send("drifting", "k", "{\"parcel\":3,\"colour\":\"blue\"}");
    String fromNow = "[[1, null], [2, null], [3, blue]]";
    String replayed = "[[1, null], [2, red], [3, blue]]";
    expect("SELECT parcel, colour FROM drifting ORDER BY parcel", fromNow);
    expect("SELECT parcel, colour FROM drifting_too ORDER BY parcel", replayed);
    expect("SELECT * FROM drift_count ORDER BY parcel", "[[1], [2], [3]]");
    service.sql(
        "CREATE MATERIALIZED VIEW colours AS SELECT colour, COUNT(*) AS n FROM drifting GROUP BY colour");
    service.kill();
    service.start();
    hub.send("drifting", "k", "{\"parcel\":4,\"colour\":\"blue\"}");
    expect("SELECT n FROM colours WHERE colour = 'blue'", "[[2]]");
    expect("SELECT COUNT(*) FROM drift_count", "[[4]]");
    service.sql("DROP STREAM drifting_too");
    assertThat(
            String.valueOf(
                service.sql(
                    "SELECT kind, dropped_at IS NULL, statement FROM drip.history"
                        + " WHERE name = 'drifting_too' ORDER BY defined_at")))
        .isEqualTo(
            "[[stream, false, CREATE STREAM drifting_too (parcel BIGINT) FROM hub_log (topic"
                + " 'drifting') FORMAT json], [alter, true, ALTER STREAM drifting_too ADD COLUMN"
                + " colour VARCHAR WITH REPLAY]]");
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
    expect("SELECT * FROM halls", "[[North, 2, 65]]");
    hub.send("gates", "G01", (String) null);
    hub.send("gates", "G02", "{\"hall\":\"South\",\"capacity\":7}");
    expect("SELECT * FROM halls", "[[South, 1, 7]]");
    assertThat(error("INSERT INTO gates VALUES ('x', 'y', 1)")).contains("follows its source");
    service.kill();
    service.start();
    hub.send("gates", "G02", (String) null);
    expect("SELECT COUNT(*) FROM gates", "[[0]]");
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
    expect("SELECT * FROM wrapped", "[[9, c]]");
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
    expect("SELECT * FROM meta", expected);
  }

  @Test
  void aRetainedStreamIsReadWithoutItsBroker() throws Exception {
    hub.topic("kept", 2);
    service.sql(
        "CREATE STREAM kept (parcel BIGINT, grams INTEGER) FROM hub_log (topic 'kept', retain '30 days') FORMAT json");
    hub.send("kept", "a", scan(1, "G1", 10), scan(2, "G1", 20), "{");
    expect("SELECT COUNT(*), SUM(grams) FROM kept", "[[2, 30]]");
    service.sql("ALTER STREAM kept SET (retain 'forever')");
    hub.broker().kill();
    try {
      service.sql("CREATE MATERIALIZED VIEW kept_sum AS SELECT SUM(grams) AS g FROM kept");
      assertThat(String.valueOf(service.sql("SELECT g FROM kept_sum"))).isEqualTo("[[30]]");
      expect("SELECT COUNT(*) FROM drip.inputs WHERE name = 'kept'", "[[1]]");
    } finally {
      hub.startBroker();
    }
    service.kill();
    service.start();
    hub.send("kept", "a", scan(3, "G1", 30));
    expect("SELECT g FROM kept_sum", "[[60]]");
    expect("SELECT COUNT(*) FROM kept", "[[3]]");
  }

  @Test
  void partitionsThatComeLaterAreRead() throws Exception {
    hub.topic("growing", 1);
    service.sql("CREATE STREAM growing (v INTEGER) FROM hub_log (topic 'growing') FORMAT json");
    hub.send("growing", "a", "{\"v\":1}");
    expect("SELECT COUNT(*) FROM growing", "[[1]]");
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
    String sum = soon(service, "SELECT SUM(v) FROM growing", "[[3]]", 60);
    assertThat(sum).as("partitions are looked for every 20 seconds").isEqualTo("[[3]]");
  }

  @Test
  void fieldsInsideOfObjectsBecomeColumns() throws Exception {
    hub.topic("inner", 1);
    hub.send(
        "inner",
        "k",
        "{\"parcel\":1,\"scanner\":{\"id\":\"S-31\",\"power\":{\"left\":0.5}}}",
        "{\"parcel\":2,\"scanner\":null}");
    LiveService.Run flat =
        service.drip(
            "",
            "propose",
            "stream",
            "inner_flat",
            "--from",
            "hub_log",
            "-o",
            "topic=inner",
            "--format",
            "json",
            "--flat",
            "--keep");
    assertThat(flat.out())
        .contains("scanner_id VARCHAR PATH '$.scanner.id'")
        .contains("scanner_power_left DOUBLE PATH '$.scanner.power.left'");
    expect("SELECT * FROM inner_flat ORDER BY parcel", "[[1, S-31, 0.5], [2, null, null]]");
    assertThat(String.valueOf(service.sql("DESCRIBE inner_flat")))
        .contains("[scanner_id, VARCHAR, true, PATH $.scanner.id]");
    hub.send(
        "inner",
        "k",
        "{\"parcel\":3,\"scanner\":{\"id\":\"S-2\",\"site\":\"east\"}}",
        "{\"scanner\":7}");
    expect(
        "SELECT field, example FROM drip.drift WHERE object = 'inner_flat'",
        "[[scanner.site, \"east\"]]");
    service.sql(
        "ALTER STREAM inner_flat ADD COLUMN site VARCHAR PATH '$.scanner.site' WITH REPLAY");
    expect("SELECT parcel, site FROM inner_flat WHERE site IS NOT NULL", "[[3, east]]");
    expect(
        "SELECT reason FROM drip.rejects WHERE object = 'inner_flat'",
        "[[field scanner: 7 is not an object]]");
    service.kill();
    service.start();
    hub.send("inner", "k", "{\"parcel\":4,\"scanner\":{\"site\":\"west\"}}");
    expect("SELECT site FROM inner_flat WHERE parcel = 4", "[[west]]");
    String from = " FROM hub_log (topic 'inner') FORMAT json";
    assertThat(error("CREATE STREAM p (a VARCHAR PATH 'scanner.id')" + from))
        .startsWith("'scanner.id' is not a path to a field @1:33 | a path is names after dots");
    assertThat(
            error(
                "CREATE STREAM p (scanner ROW(id VARCHAR), a VARCHAR PATH '$.scanner.id')" + from))
        .startsWith("column \"a\" reads $.scanner.id, which column \"scanner\" has already @1:43");
    assertThat(error("CREATE TABLE p (a VARCHAR PRIMARY KEY, b VARCHAR PATH '$.x')"))
        .contains("PATH is for messages");
  }

  @Test
  void aTablesRejectIsReplayedUnlessALaterMessageHasOvertakenIt() throws Exception {
    hub.topic("prices", 1);
    service.sql(
        "CREATE TABLE prices (service VARCHAR PRIMARY KEY, cents INTEGER)"
            + " FROM hub_log (topic 'prices') FORMAT json;"
            + "CREATE MATERIALIZED VIEW price_sum AS SELECT COUNT(*) AS n, SUM(cents) AS c FROM prices");
    hub.send("prices", "standard", "{\"cents\":100}", "{\"cents\":\"ten\"}");
    hub.send("prices", "next_day", "{\"cents\":\"ten\"}", "{\"cents\":300}");
    hub.send("prices", "express", "{\"cents\":500}", "{\"cents\":\"ten\"}", (String) null);
    hub.send("prices", "slow", "{\"cents\":\"ten\"}", "{\"cents\":\"eleven\"}");
    String waiting = "SELECT COUNT(*) FROM drip.rejects WHERE object = 'prices' AND id IS NOT NULL";
    expect(waiting, "[[5]]");
    // What cannot be read is not there: an older form of the row would be wrong.
    expect("SELECT * FROM prices ORDER BY service", "[[next_day, 300]]");
    LiveService.Run replay =
        service.drip("", "rejects", "prices", "--replay", "--replace", "\"ten\"", "--by", "10");
    assertThat(replay.out())
        .startsWith("1 taken in (epoch ")
        .contains("3 overtaken by a later message for the same row, 1 left: column cents");
    assertThat(String.valueOf(service.sql("SELECT * FROM prices ORDER BY service")))
        .isEqualTo("[[next_day, 300], [standard, 10]]");
    service.kill();
    service.start();
    expect("SELECT n, c FROM price_sum", "[[2, 310]]");
    expect(waiting, "[[1]]");
    service.drip("", "rejects", "prices", "--replay", "--replace", "\"eleven\"", "--by", "11");
    expect("SELECT cents FROM prices WHERE service = 'slow'", "[[11]]");
    hub.send("prices", "slow", "{\"cents\":12}");
    expect("SELECT cents FROM prices WHERE service = 'slow'", "[[12]]");
    expect(waiting, "[[0]]");
    expect(
        "SELECT * FROM prices ORDER BY service", "[[next_day, 300], [slow, 12], [standard, 10]]");
  }

  @Test
  void aMessagesKeyIsCheckedAgainstItsRow() throws Exception {
    hub.topic("keyed", 1);
    service.sql(
        "CREATE TABLE keyed (gate VARCHAR PRIMARY KEY, hall VARCHAR) FROM hub_log (topic 'keyed') FORMAT json");
    hub.send("keyed", "\"G0", "{\"hall\":\"North\"}");
    hub.send("keyed", "\"G0\\q\"", "{\"hall\":\"North\"}");
    hub.send("keyed", "\"G01\"", "{\"gate\":\"G01\",\"hall\":\"North\"}");
    hub.send("keyed", "{\"gate\":\"G02\"}", "{\"hall\":\"South\"}");
    hub.send("keyed", "North", "{\"gate\":\"G03\",\"hall\":\"North\"}");
    expect(
        "SELECT * FROM keyed ORDER BY gate",
        "[[\"G0, North], [G01, North], [G02, South], [G03, North]]");
    expect(
        "SELECT reason FROM drip.rejects WHERE object = 'keyed'",
        "[[the message's key \"G0\\q\" is broken JSON]]");
    expect(
        "SELECT field, what, messages, example FROM drip.drift WHERE object = 'keyed'",
        "[[message key, not the row's key, 1, North]]");
  }
}
