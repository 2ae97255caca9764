package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.sql.Connection;
import java.sql.Statement;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.parallel.ResourceLock;

/** What a data engineer does with connections before anything is declared. */
@ResourceLock(SourceTest.TWO)
class ConnectionsTest extends SourceTest {
  @Test
  void eachThingThatIsWrongWithAConnectionHasItsOwnSentence() throws Exception {
    assertThat(error("CREATE CONNECTION c TYPE kafka OPTIONS (bootstrap_servers '127.0.0.1:1')"))
        .isEqualTo(
            "the broker cannot be reached: nobody answers at 127.0.0.1:1 | check option"
                + " \"bootstrap_servers\", and that the broker runs");
    assertThat(error("CREATE CONNECTION c TYPE kafka OPTIONS (servers 'x')"))
        .startsWith("a connection of type kafka has no option \"servers\" @1:41 | there are");
    assertThat(error("CREATE CONNECTION c TYPE pigeon"))
        .contains("there are drip, file, kafka, postgres");
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
    String nowhere = System.getProperty("java.io.tmpdir") + "/drip-nowhere";
    assertThat(error("CREATE CONNECTION c TYPE file OPTIONS (path '" + nowhere + "')"))
        .startsWith("option \"path\": there is no folder " + nowhere + " @1:40");
    assertThat(error("CREATE STREAM s FROM hub_log (topic 'no.such') FORMAT json"))
        .startsWith("option \"topic\": there is no topic \"no.such\" @1:31 | ");
    assertThat(error("CREATE TABLE s FROM hub_ops (table 'public.nowhere')"))
        .startsWith("option \"table\": there is no table \"public.nowhere\"");
  }

  @Test
  void aConnectionIsLookedAtBeforeAnythingIsDeclared() throws Exception {
    assertThat(service.drip("", "topic", "hub_log", "look.at", "--partitions", "2").out())
        .contains("made topic look.at with 2 partitions");
    hub.send("look.at", "G07", scan(1, "G07", 1840), "{\"parcel\":");
    assertThat(service.drip("", "look", "hub_log").out())
        .containsPattern("look\\.at +topic +2 +2 +(\\d+ B|·)");
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
  void aConnectionInUseIsAlteredAndNotDropped() throws Exception {
    hub.topic("altered", 1);
    service.sql(
        "CREATE CONNECTION second TYPE kafka OPTIONS (bootstrap_servers '"
            + hub.broker().servers()
            + "');"
            + "CREATE STREAM altered (v INTEGER) FROM second (topic 'altered') FORMAT json");
    hub.send("altered", "k", "{\"v\":1}");
    expect("SELECT COUNT(*) FROM altered", "[[1]]");
    assertThat(error("DROP CONNECTION second")).contains("stream altered reads from it");
    service.sql("ALTER CONNECTION second SET (reader_group 'drip-readers')");
    hub.send("altered", "k", "{\"v\":2}");
    expect("SELECT COUNT(*) FROM altered", "[[2]]");
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
    expect("SELECT v FROM guarded", "[[7]]");
    assertThat(service.log()).doesNotContain("password=\"loopback");
  }

  @Test
  void whatIsToProtectIsNeverSilentlyLeftOut() throws Exception {
    for (String type :
        new String[] {
          "kafka OPTIONS (bootstrap_servers '127.0.0.1:1', tls 'yes')",
          "postgres OPTIONS (url 'jdbc:postgresql://127.0.0.1:1/x', user 'u', tls 'true')"
        }) {
      assertThat(error("CREATE CONNECTION c TYPE " + type))
          .startsWith("option \"tls\" is 'on' or 'off', not '");
    }
    assertThat(
            error(
                "CREATE CONNECTION c TYPE postgres OPTIONS (user 'u', tls_ca_file '/tmp/ca.pem',"
                    + " url 'jdbc:postgresql://127.0.0.1:1/x')"))
        .contains("without tls 'on' protects nothing");
    String url = service.cluster().jdbcUrl("drip");
    assertThat(
            error(
                "CREATE CONNECTION c TYPE postgres OPTIONS (url '"
                    + url
                    + "?socketFactory=org.example.Any', user 'drip')"))
        .startsWith("option \"url\": the parameter \"socketFactory\" is not allowed");
    // A server that cannot show who it is is not talked to.
    assertThat(
            error(
                "CREATE CONNECTION c TYPE postgres OPTIONS (url '"
                    + url
                    + "', user 'drip', tls 'on')"))
        .startsWith("the database");
  }

  @Test
  void onlyWhatTheOperatorListsIsReached() throws Exception {
    assertThat(error("CREATE CONNECTION c TYPE file OPTIONS (path '/etc')"))
        .startsWith("option \"path\": /etc is not below a folder that may be used");
    assertThat(error("CREATE CONNECTION c TYPE webhook OPTIONS (url 'http://169.254.169.254/')"))
        .startsWith("option \"url\": 169.254.169.254:80 is no address that may be used");
    assertThat(
            error(
                "CREATE STREAM c FROM hub_log (topic 'any') FORMAT avro (registry"
                    + " 'http://registry.example/')"))
        .contains("registry.example:80 is no address that may be used");
    assertThat(
            error(
                "CREATE STREAM c (v INTEGER) FROM hub_log (topic 'any')"
                    + " FORMAT avro (schema_file '/etc/passwd')"))
        .contains("/etc/passwd is not below a folder that may be used");
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
  void aLogInByScramAndACertificateOfTheClient() throws Exception {
    hub.topic("certified", 1);
    service.call("PUT", "/api/v1/secrets/right", "{\"value\":\"scram-loopback\"}");
    service.call("PUT", "/api/v1/secrets/wrong_one", "{\"value\":\"no\"}");
    for (String mechanism : java.util.List.of("SCRAM-SHA-256", "SCRAM-SHA-512")) {
      hub.scramUser("reader", "scram-loopback", mechanism);
      String name = "\"scram" + mechanism.substring(10) + '"';
      String door =
          "CREATE CONNECTION "
              + name
              + " TYPE kafka OPTIONS (bootstrap_servers '"
              + hub.broker().guardedServers()
              + "', tls 'on', tls_ca_file '"
              + hub.broker().certificate()
              + "', user 'reader', sasl '"
              + mechanism
              + "', password SECRET ";
      assertThat(error(door + "wrong_one)"))
          .startsWith("the broker refuses user \"reader\": wrong user or password");
      service.sql(door + "right)");
      assertThat(String.valueOf(service.sql("SHOW TOPICS FROM " + name))).contains("certified");
    }
    String certified =
        "CREATE CONNECTION certified_log TYPE kafka OPTIONS (bootstrap_servers '"
            + hub.broker().certifiedServers()
            + "', tls 'on', tls_ca_file '"
            + hub.broker().certificate()
            + "'";
    assertThat(error(certified + ")")).contains("certificate");
    service.sql(certified + ", tls_client_file '" + hub.broker().clientCertificate() + "')");
    service.sql(
        "CREATE STREAM certified (v INTEGER) FROM certified_log (topic 'certified') FORMAT json");
    hub.send("certified", "k", "{\"v\":7}");
    expect("SELECT v FROM certified", "[[7]]");
  }

  @Test
  void aTopicIsMadeWithRetentionAndReadFromATime() throws Exception {
    assertThat(
            service
                .drip("", "topic", "hub_log", "aged", "--partitions", "3", "--retain", "2 days")
                .out())
        .contains("made topic aged with 3 partitions");
    assertThat(hub.topicSetting("aged", "retention.ms")).isEqualTo("172800000");
    assertThat(service.drip("", "topic", "hub_log", "aged").err()).contains("there is a topic");
    long now = System.currentTimeMillis() / 60_000 * 60_000;
    for (int minute = 0; minute < 10; minute++) {
      hub.sendAt("aged", minute % 3, now - 600_000 + minute * 60_000, scan(minute, "G07", minute));
    }
    String from = java.time.Instant.ofEpochMilli(now - 180_000).toString();
    String peek = service.drip("", "peek", "hub_log", "aged", "--from", from).out();
    assertThat(peek.lines().filter(l -> l.contains("partition ")).count()).isEqualTo(3);
    assertThat(peek).contains("\"parcel\":7", "\"parcel\":8", "\"parcel\":9");
    // A stream can begin at a time, too; and what came before is not part of it.
    service.sql(
        "CREATE STREAM aged (parcel BIGINT) FROM hub_log (topic 'aged', start '"
            + from
            + "') FORMAT json;"
            + "CREATE MATERIALIZED VIEW aged_parcels AS SELECT parcel FROM aged");
    expect("SELECT parcel FROM aged ORDER BY parcel", "[[7], [8], [9]]");
    service.kill();
    service.start();
    hub.send("aged", "k", scan(10, "G07", 1));
    expect("SELECT parcel FROM aged_parcels ORDER BY parcel", "[[7], [8], [9], [10]]");
    assertThat(
            error(
                "CREATE STREAM a (v INTEGER) FROM hub_log (topic 'aged', start 'soon') FORMAT json"))
        .contains("start");
  }
}
