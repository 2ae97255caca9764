package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import com.google.protobuf.Descriptors.Descriptor;
import dripledger.demo.RegistryStandIn;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.attribute.PosixFilePermissions;
import java.util.Base64;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.parallel.ResourceLock;

/** Formats other than JSON and CSV, from broker and folder to the answer of a query. */
@ResourceLock(SourceTest.ONE)
class MessageFormatsTest extends SourceTest {
  @Test
  void avroMessagesComeWithTheirRegistry() throws Exception {
    hub.topic("avro.scan", 2);
    try (RegistryStandIn registry = new RegistryStandIn()) {
      int first = registry.register("avro.scan-value", Samples.AVRO);
      for (int i = 1; i <= 5; i++) {
        hub.send("avro.scan", Samples.avro(Samples.AVRO, first, i));
      }
      String format = " FORMAT avro (registry '" + registry.url() + "')";
      service.sql("CREATE STREAM avro_scan FROM hub_log (topic 'avro.scan')" + format);
      assertThat(String.valueOf(service.sql("DESCRIBE avro_scan")))
          .isEqualTo(
              "[[parcel, BIGINT, false, null], [gate, VARCHAR, true, null],"
                  + " [at, TIMESTAMP, false, event time, lateness 30 s],"
                  + " [scanner, ROW(id VARCHAR, battery DOUBLE), false, null]]");
      expect(
          "SELECT parcel, gate, at, scanner.id FROM avro_scan WHERE parcel >= 4 ORDER BY parcel",
          "[[4, G04, 2026-03-02T06:00:00.004Z, S-4], [5, null, 2026-03-02T06:00:00.005Z, S-5]]");
      LiveService.Run flat =
          service.drip(
              "",
              "propose",
              "stream",
              "avro_flat",
              "--from",
              "hub_log",
              "-o",
              "topic=avro.scan",
              "-o",
              "registry=" + registry.url(),
              "--format",
              "avro",
              "--flat",
              "--keep");
      assertThat(flat.out()).contains("scanner_id VARCHAR PATH '$.scanner.id'");
      expect("SELECT scanner_id, scanner_battery FROM avro_flat WHERE parcel = 3", "[[S-3, 0.5]]");
      // The producer moves on: the new field is noticed, and taken in from what is read again.
      int later = registry.register("avro.scan-value", Samples.AVRO_LATER);
      hub.send("avro.scan", Samples.avro(Samples.AVRO_LATER, later, 6));
      hub.send("avro.scan", new byte[] {0, 0, 0, 0, 1, 7});
      hub.send("avro.scan", "hello".getBytes(StandardCharsets.UTF_8));
      hub.send("avro.scan", Samples.avro(Samples.AVRO_LATER, 77, 7)); // nobody knows this schema
      hub.send("avro.scan", Samples.avro(Samples.AVRO_LATER, later, 8));
      expect("SELECT field, example FROM drip.drift WHERE object = 'avro_scan'", "[[grams, 60]]");
      service.sql("ALTER STREAM avro_scan ADD COLUMN grams INTEGER WITH REPLAY");
      expect(
          "SELECT parcel, grams FROM avro_scan WHERE parcel > 4 ORDER BY parcel",
          "[[5, null], [6, 60], [8, 80]]");
      expect(
          "SELECT COUNT(*) FROM drip.rejects WHERE object = 'avro_scan' AND raw_bytes IS NOT NULL",
          "[[3]]");
      assertThat(
              String.valueOf(
                  service.sql(
                      "SELECT reason FROM drip.rejects WHERE object = 'avro_scan' ORDER BY reason")))
          .contains("broken Avro", "no schema number", "has no schema of number 77");
    }
    assertThat(error("CREATE STREAM a FROM hub_log (topic 'avro.scan') FORMAT avro"))
        .contains("FORMAT avro needs to know the schemas");
  }

  /** The registry's password or token is a secret of the broker's connection. */
  @Test
  void theRegistryIsToldWhoAsks() throws Exception {
    hub.topic("avro.asked", 1);
    try (RegistryStandIn registry = new RegistryStandIn()) {
      int number = registry.register("avro.asked-value", Samples.AVRO);
      hub.send("avro.asked", Samples.avro(Samples.AVRO, number, 3));
      service.call("PUT", "/api/v1/secrets/registry", "{\"value\":\"of the hub\"}");
      String connection =
          "CREATE CONNECTION %s TYPE kafka OPTIONS (bootstrap_servers '"
              + hub.broker().servers()
              + "', %s)";
      String stream =
          "CREATE STREAM %s FROM %s (topic 'avro.asked') FORMAT avro (registry '"
              + registry.url()
              + "')";
      registry.login("Basic " + base64("reader:of the hub"));
      assertThat(error(stream.formatted("asked", "hub_log")))
          .contains("status 401", "registry_user and registry_password, or registry_token");
      assertThat(error(connection.formatted("half", "registry_user 'reader'")))
          .contains("registry_user and registry_password, or registry_token");
      assertThat(error(connection.formatted("plain", "registry_token 'of the hub'")))
          .contains("would keep a secret in plain text");
      service.sql(
          connection.formatted(
              "named", "registry_user 'reader', registry_password SECRET registry"));
      service.sql(stream.formatted("asked", "named"));
      expect("SELECT parcel FROM asked", "[[3]]");
      registry.login("Bearer of the hub");
      service.sql(connection.formatted("by_token", "registry_token SECRET registry"));
      service.sql(stream.formatted("asked_again", "by_token"));
      expect("SELECT parcel FROM asked_again", "[[3]]");
      service.sql(
          "CREATE SINK told TO by_token (topic 'avro.told', partitions 1) FORMAT avro (registry '"
              + registry.url()
              + "') OPTIONS (start 'with snapshot') AS SELECT parcel FROM asked_again");
      assertThat(registry.newest("avro.told-value")).contains("parcel");
      assertThat(String.valueOf(service.sql("SHOW CREATE by_token"))).doesNotContain("of the hub");
      service.sql("DROP SINK told; DROP STREAM asked; DROP STREAM asked_again");
    }
  }

  private static String base64(String text) {
    return Base64.getEncoder().encodeToString(text.getBytes(StandardCharsets.UTF_8));
  }

  @Test
  void protobufMessagesAreReadByTheirDescriptor() throws Exception {
    hub.topic("proto.scan", 1);
    Path file = Files.createTempFile("hub", ".desc");
    Files.setPosixFilePermissions(file, PosixFilePermissions.fromString("rw-r--r--"));
    Descriptor scan = Samples.protobuf(file);
    hub.send("proto.scan", Samples.protobuf(scan, 7));
    hub.send("proto.scan", new byte[] {10, 50, 1});
    hub.send("proto.scan", Samples.protobuf(scan, 8));
    String from = " FROM hub_log (topic 'proto.scan') FORMAT protobuf (descriptor '" + file + "'";
    assertThat(error("CREATE STREAM p" + from + ", message 'hub.Parcel')"))
        .contains("no message \"hub.Parcel\"", "hub.Scan");
    service.sql("CREATE STREAM proto_scan" + from + ", message 'hub.Scan')");
    expect(
        "SELECT parcel, gate, scanner.id FROM proto_scan ORDER BY parcel",
        "[[7, G07, S-31], [8, G07, S-31]]");
    service.sql(
        "CREATE STREAM proto_flat (parcel BIGINT, who VARCHAR PATH '$.scanner.id')"
            + from
            + ", message 'hub.Scan')");
    expect("SELECT * FROM proto_flat ORDER BY parcel", "[[7, S-31], [8, S-31]]");
    expect(
        "SELECT COUNT(*) FROM drip.rejects WHERE object = 'proto_scan' AND reason LIKE '%Protobuf%'",
        "[[1]]");
  }

  @Test
  void recordFilesAreReadAndGoneOnWithAfterAKill() throws Exception {
    Path folder = Files.createTempDirectory("drip-records");
    Files.setPosixFilePermissions(folder, PosixFilePermissions.fromString("rwxr-xr-x"));
    Samples.avroFile(folder.resolve("a.avro"), 10);
    Samples.parquetFile(folder.resolve("a.parquet"), 10);
    service.sql("CREATE CONNECTION records TYPE file OPTIONS (path '" + folder + "')");
    service.sql(
        "CREATE STREAM avro_file FROM records (files '*.avro') FORMAT avro;"
            + "CREATE STREAM parquet_file FROM records (files '*.parquet') FORMAT parquet;"
            + "CREATE MATERIALIZED VIEW avro_sum AS SELECT COUNT(*) AS n, SUM(parcel) AS s FROM avro_file;"
            + "CREATE MATERIALIZED VIEW parquet_sum AS SELECT COUNT(*) AS n, SUM(parcel) AS s, SUM(price) AS p"
            + " FROM parquet_file");
    assertThat(String.valueOf(service.sql("DESCRIBE parquet_file")))
        .contains("[price, DECIMAL(8, 2), true, null]");
    expect("SELECT * FROM avro_sum", "[[10, 55]]");
    expect("SELECT * FROM parquet_sum", "[[10, 55, 0.40]]");
    Samples.avroFile(folder.resolve("b.avro"), 400_000);
    Samples.parquetFile(folder.resolve("b.parquet"), 200_000);
    boolean midway = false;
    for (int i = 0; i < 400 && !midway; i++) {
      long n = ((Number) service.sql("SELECT n FROM avro_sum").get(0).get(0)).longValue();
      long p = ((Number) service.sql("SELECT n FROM parquet_sum").get(0).get(0)).longValue();
      midway = n > 20_000 && p > 20_000;
    }
    assertThat(midway).as("both are being read").isTrue();
    service.kill();
    service.start();
    expect("SELECT * FROM avro_sum", "[[400010, 80000200055]]");
    expect("SELECT n, s FROM parquet_sum", "[[200010, 20000100055]]");
    expect("SELECT COUNT(*), SUM(parcel) FROM avro_file", "[[400010, 80000200055]]");
  }

  @Test
  void wholeMessagesAreTextOrBytes() throws Exception {
    hub.topic("raw.scan", 1);
    hub.send("raw.scan", "G07;größer".getBytes(StandardCharsets.UTF_8));
    hub.send("raw.scan", new byte[] {(byte) 0xFF, 0, 1});
    String from = " FROM hub_log (topic 'raw.scan') FORMAT ";
    service.sql("CREATE STREAM raw_text (body VARCHAR, o BIGINT META position)" + from + "text");
    service.sql(
        "CREATE STREAM raw_bytes (body VARBINARY, o BIGINT META position)" + from + "bytes");
    service.sql("CREATE STREAM raw_found" + from + "text");
    expect("SELECT o, body FROM raw_text", "[[0, G07;größer]]");
    expect(
        "SELECT reason FROM drip.rejects WHERE object = 'raw_text'",
        "[[the message is not UTF-8 text]]");
    expect("SELECT o, body FROM raw_bytes ORDER BY o", "[[0, RzA3O2dyw7bDn2Vy], [1, /wAB]]");
    expect("SELECT SUBSTRING(body FROM 1 FOR 3) FROM raw_found", "[[G07]]");
    assertThat(error("CREATE STREAM a (b VARCHAR, c VARCHAR)" + from + "text"))
        .contains("a raw message has one column; there are more");
  }
}
