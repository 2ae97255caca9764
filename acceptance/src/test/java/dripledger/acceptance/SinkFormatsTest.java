package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.RegistryStandIn;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.attribute.PosixFilePermissions;
import java.util.List;
import java.util.Map;
import java.util.stream.Stream;
import org.apache.avro.Schema;
import org.apache.avro.SchemaCompatibility;
import org.apache.avro.SchemaCompatibility.SchemaCompatibilityType;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;
import org.junit.jupiter.api.parallel.ResourceLock;

/** Deliveries in forms that say their types: what is read back is what the view says. */
@ResourceLock(SourceTest.ONE)
class SinkFormatsTest extends SourceTest {
  private static final String MANY =
      "(id BIGINT PRIMARY KEY, b BOOLEAN, s SMALLINT, i INTEGER, r REAL, d DOUBLE, n DECIMAL(10,3),"
          + " w DECIMAL(38,2), t VARCHAR, day DATE, tm TIME, ts TIMESTAMP, bin VARBINARY,"
          + " a INTEGER ARRAY)";
  private static final String ROWS =
      "(1, true, -2, 3, 1.5, 2.25, 12.345, 123456789012345678901234567890.12, 'tab\tä',"
          + " DATE '2026-03-02', TIME '06:14:09.5', TIMESTAMP '2026-03-02 06:14:09.123456', DECODE('00ff', 'hex'),"
          + " ARRAY[1, NULL, 3]),"
          + " (2, NULL, NULL, NULL, NULL, NULL, -0.001, -7.25, '', NULL, NULL, NULL, NULL, NULL),"
          + " (3, false, 0, 0, 0, 0, 0, 0, NULL, DATE '1969-12-31', TIME '00:00:00',"
          + " TIMESTAMP '1969-12-31 23:59:59.999999', DECODE('', 'hex'), ARRAY[7])";
  private static final String QUERY =
      "SELECT id, b, s, i, r, d, n, w, t, day, tm, ts, bin, a FROM ";

  private static boolean reads(String before, String now) {
    return SchemaCompatibility.checkReaderWriterCompatibility(
                new Schema.Parser().parse(now), new Schema.Parser().parse(before))
            .getType()
        == SchemaCompatibilityType.COMPATIBLE;
  }

  private String message(String statement) throws IOException {
    return service.call("POST", "/api/v1/sql", Json.write(Map.of("sql", statement))).body();
  }

  @Test
  void avroMessagesAreReadBackAsTheyWere() throws Exception {
    service.sql("CREATE TABLE form_many " + MANY + "; INSERT INTO form_many VALUES " + ROWS);
    String rows = String.valueOf(service.sql(QUERY + "form_many ORDER BY id"));
    try (RegistryStandIn registry = new RegistryStandIn()) {
      registry.accepts(SinkFormatsTest::reads);
      String sink =
          "CREATE SINK %s TO hub_log (topic '%s', partitions 1) FORMAT avro (registry '%s') KEY (id) AS ";
      String first = sink.formatted("form_topic", "form.topic", registry.url());
      assertThat(String.valueOf(service.sql("EXPLAIN " + first + QUERY + "form_many")))
          .contains("schema: {", "\"name\":\"form_topic\"", "timestamp-micros");
      assertThat(registry.newest("form.topic-value")).as("a look registers nothing").isNull();
      service.sql(first + QUERY + "form_many");
      service.sql(
          "CREATE TABLE form_again "
              + MANY
              + " FROM hub_log (topic 'form.topic') FORMAT avro (registry '"
              + registry.url()
              + "')");
      expect(QUERY + "form_again ORDER BY id", rows);
      service.sql("DELETE FROM form_many WHERE id = 2; UPDATE form_many SET i = 33 WHERE id = 1");
      service.kill();
      service.start();
      expect("SELECT id, i FROM form_again ORDER BY id", "[[1, 33], [3, 0]]");
    }
    service.sql("DROP SINK form_topic; DROP TABLE form_again; DROP TABLE form_many");
  }

  @Test
  void aSchemaThatBreaksItsReadersIsRefused() throws Exception {
    service.sql("CREATE TABLE form_steps (id BIGINT PRIMARY KEY, grams INTEGER, gate VARCHAR)");
    try (RegistryStandIn registry = new RegistryStandIn()) {
      registry.accepts(SinkFormatsTest::reads);
      String sink =
          "CREATE SINK %s TO hub_log (topic 'form.steps', partitions 1) FORMAT avro (registry '"
              + registry.url()
              + "') OPTIONS (rows 'changes') AS SELECT %s FROM form_steps";
      service.sql(sink.formatted("form_one", "id, grams"));
      assertThat(error(sink.formatted("form_two", "id, grams, 1 AS more")))
          .contains("the schema would break those who read \"form.steps-value\"")
          .contains("new columns must be able to be NULL");
      service.sql(sink.formatted("form_one_more", "id, grams, gate"));
      assertThat(registry.newest("form.steps-value")).contains("\"gate\"");
      service.sql("DROP SINK form_one; DROP SINK form_one_more");
      assertThat(error(sink.formatted("form_bad", "id AS \"i d\"")))
          .contains("\"i d\" cannot be a name in Avro");
    }
    assertThat(
            error(
                "CREATE SINK form_gone TO hub_log (topic 'form.steps') FORMAT avro"
                    + " (registry 'http://127.0.0.1:9') AS SELECT id FROM form_steps"))
        .contains("the schema registry cannot be reached");
    service.sql("DROP TABLE form_steps");
  }

  /** A schema that others have agreed on is written as it is, or the delivery is refused. */
  @Test
  void aSchemaFileIsKeptTo(@TempDir Path folder) throws Exception {
    Files.setPosixFilePermissions(folder, PosixFilePermissions.fromString("rwxr-xr-x"));
    Path file = folder.resolve("scan.avsc");
    Files.writeString(
        file,
        Samples.AVRO
            .replace("\"type\":\"string\"}", "\"type\":[\"null\",\"string\"]}")
            .replace("\"type\":\"double\"}", "\"type\":[\"null\",\"double\"]}")
            .replace(
                "{\"name\":\"scanner\"",
                "{\"name\":\"hall\",\"type\":\"string\",\"default\":\"A\"},{\"name\":\"scanner\""));
    service.sql(
        "CREATE STREAM form_scan (parcel BIGINT NOT NULL, gate VARCHAR, at TIMESTAMP NOT NULL,"
            + " scanner ROW(id VARCHAR, battery DOUBLE) NOT NULL)");
    String sink =
        "CREATE SINK form_file TO hub_log (topic 'form.file', partitions 1) FORMAT avro (schema_file '"
            + file
            + "') AS SELECT %s FROM form_scan";
    assertThat(error(sink.formatted("parcel, at")))
        .contains("field \"scanner\" of the schema has no column and no default");
    assertThat(error(sink.formatted("parcel, at, scanner, 1 AS more")))
        .contains("the schema has no field \"more\"");
    assertThat(error(sink.formatted("parcel, gate AS at, scanner")))
        .contains("column \"at\": it can be NULL");
    assertThat(error(sink.formatted("gate || 'x' AS parcel, at, scanner"))).contains("\"parcel\"");
    service.sql(sink.formatted("parcel, gate, at, scanner"));
    service.call(
        "POST",
        "/api/v1/streams/form_scan/events",
        "{\"parcel\":7,\"at\":\"2026-03-02T06:00:00.123Z\",\"scanner\":{\"id\":\"S-1\",\"battery\":0.5}}");
    service.sql(
        "CREATE STREAM form_seen (parcel BIGINT, hall VARCHAR, at TIMESTAMP, battery DOUBLE PATH"
            + " '$.scanner.battery') FROM hub_log (topic 'form.file') FORMAT avro (schema_file '"
            + file
            + "')");
    expect(
        "SELECT parcel, hall, at, battery FROM form_seen",
        "[[7, A, 2026-03-02T06:00:00.123Z, 0.5]]");
    service.sql("DROP STREAM form_seen; DROP SINK form_file");
    service.sql("DROP STREAM form_scan");
  }

  private static List<Path> files(Path folder, String suffix) throws IOException {
    try (Stream<Path> all = Files.list(folder)) {
      return all.filter(f -> !f.getFileName().toString().startsWith("."))
          .filter(f -> f.toString().endsWith(suffix))
          .sorted()
          .toList();
    }
  }

  @Test
  void filesAreReadBackAsTheyWere(@TempDir Path folder) throws Exception {
    Files.setPosixFilePermissions(folder, PosixFilePermissions.fromString("rwxrwxrwx"));
    service.sql("CREATE TABLE form_kept " + MANY + "; INSERT INTO form_kept VALUES " + ROWS);
    service.sql("CREATE CONNECTION form_spool TYPE file OPTIONS (path '" + folder + "')");
    String rows = String.valueOf(service.sql(QUERY + "form_kept ORDER BY id"));
    for (String format : List.of("avro", "parquet")) {
      service.sql(
          ("CREATE SINK form_%1$s TO form_spool (files '%1$s') FORMAT %1$s"
                  + " OPTIONS (rows 'changes', start 'with snapshot', upkeep 'on demand') AS "
                  + QUERY
                  + "form_kept; REFRESH SINK form_%1$s")
              .formatted(format));
      assertThat(files(folder, "." + format)).hasSize(1);
      String columns = MANY.replace(" PRIMARY KEY", "").replaceAll("^\\(|\\)$", "");
      service.sql(
          "CREATE STREAM form_back_%1$s (operation VARCHAR, epoch BIGINT, after ROW(%2$s))"
                  .formatted(format, columns)
              + " FROM form_spool (files '*.%1$s') FORMAT %1$s".formatted(format));
      String fields = QUERY.substring(7).replace(" FROM ", "").replaceAll("(\\w+)", "s.after.$1");
      expect("SELECT " + fields + " FROM form_back_" + format + " AS s ORDER BY s.after.id", rows);
      service.sql(
          "UPDATE form_kept SET i = 44 WHERE id = 3; REFRESH SINK form_"
              + format
              + "; UPDATE form_kept SET i = 0 WHERE id = 3");
      expect(
          "SELECT operation, s.after.i FROM form_back_" + format + " AS s WHERE s.after.i = 44",
          "[[update, 44]]");
      service.sql("DROP STREAM form_back_" + format + "; DROP SINK form_" + format);
    }
    service.sql("DROP TABLE form_kept; DROP CONNECTION form_spool");
  }

  /** Files end at a size too, and not only at a number of rows. */
  @Test
  void filesAreRolledBySize(@TempDir Path folder) throws Exception {
    Files.setPosixFilePermissions(folder, PosixFilePermissions.fromString("rwxrwxrwx"));
    service.sql(
        "CREATE STREAM form_wide (id BIGINT, pad VARCHAR);"
            + " CREATE CONNECTION form_sizes TYPE file OPTIONS (path '"
            + folder
            + "');"
            + " CREATE SINK form_rolled TO form_sizes (file_mb 1, file_rows 100000) FORMAT parquet"
            + " OPTIONS (upkeep 'on demand') AS SELECT id, pad FROM form_wide");
    StringBuilder body = new StringBuilder();
    for (int i = 0; i < 6000; i++) {
      body.append("{\"id\":")
          .append(i)
          .append(",\"pad\":\"")
          .append("x".repeat(800))
          .append("\"}\n");
    }
    service.call("POST", "/api/v1/streams/form_wide/events?wait=applied", body.toString());
    assertThat(message("REFRESH SINK form_rolled")).contains("6000");
    assertThat(files(folder, ".parquet")).hasSizeBetween(2, 12);
    service.sql("CREATE STREAM form_read (id BIGINT) FROM form_sizes FORMAT parquet");
    expect("SELECT COUNT(*), COUNT(DISTINCT id) FROM form_read", "[[6000, 6000]]");
    service.sql(
        "DROP STREAM form_read; DROP SINK form_rolled; DROP STREAM form_wide;"
            + " DROP CONNECTION form_sizes");
  }
}
