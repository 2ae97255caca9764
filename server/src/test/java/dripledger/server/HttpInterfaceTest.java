package dripledger.server;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.demo.PostgresCluster;
import java.io.BufferedReader;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.InputStream;
import java.io.InputStreamReader;
import java.net.URI;
import java.net.URLEncoder;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.zip.GZIPOutputStream;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;
import org.springframework.boot.builder.SpringApplicationBuilder;
import org.springframework.context.ConfigurableApplicationContext;
import tools.jackson.databind.JsonNode;
import tools.jackson.databind.json.JsonMapper;

/** The network interface, on the real service on loopback. */
class HttpInterfaceTest {
  private static PostgresCluster cluster;
  private static ConfigurableApplicationContext service;
  private static final HttpClient HTTP = HttpClient.newHttpClient();
  private static final JsonMapper JSON = new JsonMapper();

  @BeforeAll
  static void start() throws Exception {
    cluster = PostgresCluster.temporary();
    service = run();
  }

  private static final java.nio.file.Path KEY_FILE =
      java.nio.file.Path.of("target", "test-secrets-" + ProcessHandle.current().pid() + ".key");

  private static ConfigurableApplicationContext run() {
    return new SpringApplicationBuilder(DripLedger.class)
        .run(
            "--server.port=0",
            "--drip.wire-port=0",
            "--drip.secret-key-file=" + KEY_FILE,
            "--spring.datasource.url=" + cluster.jdbcUrl("drip"),
            "--spring.datasource.password=loopback");
  }

  @AfterAll
  static void stop() {
    service.close();
    cluster.close();
  }

  @BeforeEach
  void clear() throws Exception {
    for (String object : List.of("STREAM scan", "TABLE gate")) {
      sql("DROP " + object.split(" ")[0] + " IF EXISTS " + object.split(" ")[1] + " CASCADE");
    }
    sql(
        """
        CREATE STREAM scan (parcel BIGINT NOT NULL, gate VARCHAR, at TIMESTAMP, grams INTEGER,
          seen_at TIMESTAMP META arrived_at, EVENT TIME at LATENESS INTERVAL '30' SECOND);
        CREATE MATERIALIZED VIEW gate_load AS
          SELECT gate, date_trunc('minute', at) AS minute, COUNT(*) AS scans, SUM(grams) AS grams
          FROM scan GROUP BY gate, date_trunc('minute', at);
        CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, price DECIMAL(8, 2));
        """);
  }

  /** It asks for what is there, whatever it is called, and is answered. */
  @Test
  void theServiceAsksItselfWhatUsersWill() throws Exception {
    WarmUp warmUp = service.getBean(WarmUp.class);
    String base = uri("").toString();
    sql("INSERT INTO gate VALUES ('G 07 ä', 'North', 1.5)");
    assertThat(warmUp.ask(base, 500)).as("a look-up and a statement at least").isGreaterThan(1);
    assertThat(warmUp.ask("http://127.0.0.1:1", 500)).as("nobody answers").isZero();
  }

  private static URI uri(String path) {
    return URI.create(
        "http://127.0.0.1:" + service.getEnvironment().getProperty("local.server.port") + path);
  }

  private static HttpResponse<String> post(String path, String type, String body)
      throws IOException, InterruptedException {
    return HTTP.send(
        HttpRequest.newBuilder(uri(path))
            .header("Content-Type", type)
            .POST(HttpRequest.BodyPublishers.ofString(body))
            .build(),
        HttpResponse.BodyHandlers.ofString());
  }

  private static HttpResponse<String> get(String path) throws IOException, InterruptedException {
    return HTTP.send(
        HttpRequest.newBuilder(uri(path)).build(), HttpResponse.BodyHandlers.ofString());
  }

  private static JsonNode sql(String sql) throws IOException, InterruptedException {
    HttpResponse<String> response =
        post("/api/v1/sql", "application/json", JSON.writeValueAsString(Map.of("sql", sql)));
    return JSON.readTree(response.body());
  }

  private static JsonNode push(String body) throws IOException, InterruptedException {
    return JSON.readTree(
        post("/api/v1/streams/scan/events?wait=applied", "application/x-ndjson", body).body());
  }

  @Test
  void aPushWhoseAnswerWasLostIsSentAgainAndTakenOnce() throws Exception {
    sql("CREATE STREAM resent (k INTEGER)");
    String path = "/api/v1/streams/resent/events?wait=applied";
    String events = "{\"k\":1}\n{\"k\":\"x\"}\n{\"k\":2}";
    assertThat(keyed(path, "\"a\"", events, false)).contains("\"accepted\":2", "\"rejected\":1");
    assertThat(keyed(path, "\"a\"", events, false))
        .contains("\"accepted\":0", "\"rejected\":1", "\"repeated\":2", "\"position\":2");
    assertThat(keyed(path, "b", "{\"k\":3}", true)).contains("\"accepted\":1");
    assertThat(keyed(path, "a", "{\"k\":1}\n{\"k\":2}\n{\"k\":4}", true))
        .contains("\"accepted\":3"); // other events are another push
    assertThat(sql("SELECT k, COUNT(*) FROM resent GROUP BY k ORDER BY k").toString())
        .contains("[[1,2],[2,2],[3,1],[4,1]]");
    assertThat(sql("SELECT COUNT(*) FROM drip.rejects WHERE object = 'resent'").toString())
        .contains("[[1]]");
    HttpResponse<String> csv = post(path, "text/csv", "key,value\n1,2\n3,4\n");
    assertThat(csv.statusCode()).isEqualTo(400);
    assertThat(csv.body())
        .contains("the header (key, value) names none of the columns: k")
        .contains("\"accepted\":0");
    assertThat(post(path, "application/json", "[{\"k\":5},\n{\"k\":6,\n{\"k\":7}]").body())
        .contains("\"accepted\":2", "\"line\":2", "it has no end");
    assertThat(sql("SELECT raw FROM drip.rejects WHERE object = 'resent' AND id > 1").toString())
        .contains("{\\\"k\\\":6,");
    assertThat(keyed(path, "", events, false)).contains("Idempotency-Key is a text of 1 to 200");
    assertThat(
            HTTP.send(
                    HttpRequest.newBuilder(uri(path))
                        .header("Content-Encoding", "gzip")
                        .POST(HttpRequest.BodyPublishers.ofString("{\"k\":9}"))
                        .build(),
                    HttpResponse.BodyHandlers.ofString())
                .body())
        .contains("the body is not in gzip, as its header says");
  }

  private String keyed(String path, String key, String body, boolean packed) throws Exception {
    byte[] bytes = body.getBytes(StandardCharsets.UTF_8);
    HttpRequest.Builder request =
        HttpRequest.newBuilder(uri(path))
            .header("Content-Type", "application/x-ndjson")
            .header("Idempotency-Key", key);
    if (packed) {
      ByteArrayOutputStream out = new ByteArrayOutputStream();
      try (GZIPOutputStream gzip = new GZIPOutputStream(out)) {
        gzip.write(bytes);
      }
      bytes = out.toByteArray();
      request.header("Content-Encoding", "gzip");
    }
    return HTTP.send(
            request.POST(HttpRequest.BodyPublishers.ofByteArray(bytes)).build(),
            HttpResponse.BodyHandlers.ofString())
        .body();
  }

  @Test
  void eachProducerHasAWatermarkOfItsOwn() throws Exception {
    sql(
        "CREATE STREAM reading (k INTEGER, at TIMESTAMP, EVENT TIME at);"
            + "CREATE MATERIALIZED VIEW reading_minutes OPTIONS (rows 'settled') AS SELECT window_end,"
            + " COUNT(*) AS n FROM TABLE(TUMBLE(TABLE reading, DESCRIPTOR(at), INTERVAL '1' MINUTE))"
            + " GROUP BY window_end");
    String path = "/api/v1/streams/reading/events?wait=applied&producer=";
    String event = "{\"k\":1,\"at\":\"2026-03-02T06:%sZ\"}";
    post(path + 1, "application/x-ndjson", event.formatted("00:10"));
    post(path + 0, "application/x-ndjson", event.formatted("30:00"));
    post(path + 1, "application/x-ndjson", event.formatted("00:20"));
    String minutes = "SELECT n FROM reading_minutes ORDER BY window_end";
    assertThat(sql(minutes).toString()).contains("\"rows\":[]");
    post(path + 1, "application/x-ndjson", event.formatted("05:00"));
    assertThat(sql(minutes).toString()).contains("\"rows\":[[2]]");
    assertThat(
            sql("SELECT partition, watermark FROM drip.partitions WHERE stream = 'reading'")
                .toString())
        .contains("[[0,\"2026-03-02T06:30:00Z\"],[1,\"2026-03-02T06:05:00Z\"]]");
    for (String wrong : new String[] {"1024", "-1", "van"}) {
      assertThat(post(path + wrong, "application/x-ndjson", event.formatted("00:10")).body())
          .contains("producer is a whole number from 0 to 1023");
    }
    sql("DROP MATERIALIZED VIEW reading_minutes; DROP STREAM reading");
  }

  @Test
  void pushedEventsAreSeenOnceTheAnswerSaysSo() throws Exception {
    JsonNode answer =
        push(
            """
            {"parcel":1,"gate":"G07","at":"2026-03-02T06:14:09Z","grams":100}
            {"parcel":2,"gate":"G07"
            {"parcel":3,"gate":"G07","at":"2026-03-02T06:14:10Z","grams":50}
            """);
    assertThat(answer.get("accepted").asInt()).isEqualTo(2);
    assertThat(answer.get("rejected").asInt()).isEqualTo(1);
    assertThat(answer.get("position").asInt()).isEqualTo(2);
    assertThat(answer.get("rejects").get(0).get("line").asInt()).isEqualTo(2);
    JsonNode rows = sql("SELECT gate, minute, scans, grams FROM gate_load").get("results").get(0);
    assertThat(rows.get("rows").toString()).isEqualTo("[[\"G07\",\"2026-03-02T06:14:00Z\",2,150]]");
    assertThat(rows.get("epoch").asLong()).isGreaterThanOrEqualTo(answer.get("epoch").asLong());
    assertThat(sql("SELECT COUNT(seen_at) AS n FROM scan").toString()).contains("[[2]]");
  }

  @Test
  void csvAndArraysArePushedToo() throws Exception {
    HttpResponse<String> csv =
        post("/api/v1/streams/scan/events", "text/csv", "parcel,gate\n1,G01\nx,G02\n");
    assertThat(csv.body()).contains("\"accepted\":1").contains("\"line\":3");
    HttpResponse<String> array =
        post("/api/v1/streams/scan/events", "application/json", " [{\"parcel\":1},{\"parcel\":2}]");
    assertThat(array.body()).contains("\"accepted\":2").contains("\"position\":3");
  }

  @Test
  void lookUpsByKeyRangeAndPrefix() throws Exception {
    sql(
        "INSERT INTO gate VALUES ('G01', 'North', 1.50), ('G02', 'South', 2), ('G10', NULL, 3),"
            + " ('H01', 'x', 4)");
    push("{\"parcel\":1,\"gate\":\"G07\",\"at\":\"2026-03-02T06:14:09Z\",\"grams\":100}\n");
    assertThat(get("/api/v1/views/gate/rows/G01").body())
        .contains("\"row\":{\"gate\":\"G01\",\"hall\":\"North\",\"price\":\"1.50\"}");
    HttpResponse<String> missing = get("/api/v1/views/gate/rows/G99");
    assertThat(missing.statusCode()).isEqualTo(404);
    assertThat(missing.headers().firstValue("content-type").orElse(""))
        .contains("application/problem+json");
    assertThat(get("/api/v1/views/gate_load/rows/G07,2026-03-02T06:14:00Z").body())
        .contains("\"scans\":1");
    assertThat(get("/api/v1/views/gate_load/rows/G07").body())
        .contains("\"rows\":[{\"gate\":\"G07\"");
    assertThat(gates("/api/v1/views/gate/rows?prefix=G0")).containsExactly("G01", "G02");
    assertThat(gates("/api/v1/views/gate/rows?from=G02&to=H")).containsExactly("G02", "G10");
    assertThat(gates("/api/v1/views/gate/rows?order=desc&limit=2")).containsExactly("H01", "G10");
    assertThat(get("/api/v1/views/gate/rows?limit=2").body()).contains("\"more\":true");
    assertThat(get("/api/v1/views/gate/count").body()).contains("\"count\":4");
    assertThat(get("/api/v1/views/scan/count").statusCode()).isEqualTo(400);
    assertThat(get("/api/v1/views/nothing/count").statusCode()).isEqualTo(404);
  }

  private static List<String> gates(String path) throws Exception {
    List<String> gates = new ArrayList<>();
    JSON.readTree(get(path).body()).get("rows").forEach(r -> gates.add(r.get("gate").asString()));
    return gates;
  }

  @Test
  void errorsAreProblemDetailsWithPlaceAndHint() throws Exception {
    HttpResponse<String> response =
        post(
            "/api/v1/sql",
            "application/json",
            "{\"sql\": \"INSERT INTO gate VALUES ('A', 'b', 1);\\nSELECT gatee FROM scan\"}");
    assertThat(response.statusCode()).isEqualTo(404);
    JsonNode problem = JSON.readTree(response.body());
    assertThat(problem.get("type").asString()).isEqualTo("urn:drip-ledger:problem:not-found");
    assertThat(problem.get("line").asInt()).isEqualTo(2);
    assertThat(problem.get("column").asInt()).isEqualTo(8);
    assertThat(problem.get("hint").asString()).isEqualTo("did you mean \"gate\"?");
    assertThat(problem.get("statements_done").asInt()).isEqualTo(1);
    assertThat(post("/api/v1/sql", "application/json", "{\"sql\"").statusCode()).isEqualTo(400);
    assertThat(post("/api/v1/sql", "application/json", "{}").statusCode()).isEqualTo(400);
    assertThat(post("/api/v1/streams/gate/events", "text/csv", "a\n1").statusCode()).isEqualTo(400);
    assertThat(
            post(
                    "/api/v1/sql",
                    "application/json",
                    "{\"sql\":\"SELECT gate FROM scan TABLESAMPLE SYSTEM (10)\"}")
                .statusCode())
        .isEqualTo(501);
  }

  @Test
  void parametersComeBesideTheText() throws Exception {
    sql("INSERT INTO gate VALUES ('G01', 'North', 1.50), ('G02', 'South', 2)");
    HttpResponse<String> response =
        post(
            "/api/v1/sql",
            "application/json",
            "{\"sql\":\"SELECT gate FROM gate WHERE price >= :p AND hall = :h\",\"args\":{\"p\":1.5,\"h\":\"North\"}}");
    assertThat(response.body()).contains("[[\"G01\"]]");
  }

  @Test
  void followSendsTheAnswerAndThenChanges() throws Exception {
    sql("INSERT INTO gate VALUES ('G01', 'North', 1.50)");
    HttpResponse<InputStream> stream =
        HTTP.send(
            HttpRequest.newBuilder(
                    uri(
                        "/api/v1/follow?sql="
                            + URLEncoder.encode(
                                "SELECT hall, SUM(price) AS p FROM gate GROUP BY hall",
                                StandardCharsets.UTF_8)))
                .build(),
            HttpResponse.BodyHandlers.ofInputStream());
    try (BufferedReader reader =
        new BufferedReader(new InputStreamReader(stream.body(), StandardCharsets.UTF_8))) {
      assertThat(next(reader)).contains("snapshot").contains("[\"North\",\"1.50\"]");
      sql("UPDATE gate SET price = 2");
      assertThat(next(reader))
          .contains("changes")
          .contains(
              "{\"weight\":-1,\"row\":[\"North\",\"1.50\"]},{\"weight\":1,\"row\":[\"North\",\"2.00\"]}");
    }
    assertThat(get("/api/v1/follow?sql=SELECT%20nope").statusCode()).isEqualTo(404);
  }

  private static String next(BufferedReader reader) throws IOException {
    StringBuilder event = new StringBuilder();
    for (String line; (line = reader.readLine()) != null; ) {
      if (line.startsWith("event:") || line.startsWith("data:")) {
        event.append(line).append('\n');
      } else if (line.isEmpty() && event.length() > 0) {
        return event.toString();
      }
    }
    throw new IOException("the stream ended");
  }

  @Test
  void objectsTellWhatExistsAndHowItDoes() throws Exception {
    JsonNode view = JSON.readTree(get("/api/v1/objects/gate_load").body());
    assertThat(view.get("kind").asString()).isEqualTo("materialized view");
    assertThat(view.get("key").toString()).isEqualTo("[\"gate\",\"minute\"]");
    assertThat(view.get("health").asString()).isEqualTo("ok");
    assertThat(view.get("sql").asString()).startsWith("CREATE MATERIALIZED VIEW gate_load");
    JsonNode all = JSON.readTree(get("/api/v1/objects").body());
    assertThat(all.get("objects").get(0).has("watermark")).isTrue();
    assertThat(all.get("held_bytes").asLong()).isPositive();
    assertThat(all.get("held_bytes_max").asLong()).isGreaterThan(1_000_000);
    assertThat(get("/actuator/health").body()).contains("\"status\":\"UP\"");
    assertThat(get("/actuator/prometheus").body()).contains("drip_epoch");
  }

  private static HttpResponse<String> get(String path, String header, String value)
      throws IOException, InterruptedException {
    return HTTP.send(
        HttpRequest.newBuilder(uri(path)).header(header, value).build(),
        HttpResponse.BodyHandlers.ofString());
  }

  @Test
  void endpointsAreCalledByName() throws Exception {
    sql("INSERT INTO gate VALUES ('G01', 'North', 1.50), ('G02', 'South', 2), ('G03', 'North', 3)");
    String create =
        " ENDPOINT gates (hall VARCHAR OPTIONAL COMMENT 'where', above DECIMAL(8, 2) DEFAULT 0,"
            + " n INTEGER CHECK (n BETWEEN 1 AND 3)) DESCRIPTION 'Gates by price' OPTIONS (max_rows"
            + " 2) AS SELECT gate, price FROM gate WHERE hall = :hall AND price > :above"
            + " ORDER BY gate LIMIT :n";
    assertThat(sql("CREATE" + create).toString()).contains("created endpoint gates");
    JsonNode all = JSON.readTree(get("/api/v1/endpoints/gates?n=2").body());
    assertThat(all.get("rows").toString())
        .isEqualTo("[{\"gate\":\"G01\",\"price\":\"1.50\"},{\"gate\":\"G02\",\"price\":\"2.00\"}]");
    assertThat(all.get("count").intValue()).isEqualTo(2);
    assertThat(all.get("epoch").longValue()).isPositive();
    assertThat(get("/api/v1/endpoints/gates.csv?n=2&hall=North&above=1.5").body())
        .isEqualTo("gate,price\r\nG03,3.00\r\n");
    HttpResponse<String> lines =
        get("/api/v1/endpoints/gates?n=1", "Accept", "application/x-ndjson");
    assertThat(lines.body()).isEqualTo("{\"gate\":\"G01\",\"price\":\"1.50\"}\n");
    String tag = lines.headers().firstValue("ETag").orElseThrow();
    sql("INSERT INTO gate VALUES ('G09', 'South', 9)");
    HttpResponse<String> same = get("/api/v1/endpoints/gates.ndjson?n=1", "If-None-Match", tag);
    assertThat(same.statusCode()).as("the rows are the same").isEqualTo(304);
    assertThat(get("/api/v1/endpoints/gates.ndjson?n=2", "If-None-Match", tag).statusCode())
        .isEqualTo(200);
    for (String[] wrong :
        new String[][] {
          {"gates", "\"n\" of endpoint gates is missing"},
          {"gates?n=x", "parameter \"n\": 'x' is not a valid"},
          {"gates?n=4", "must be such that n BETWEEN 1 AND 3"},
          {"gates?n=1&m=2", "no parameter \"m\""},
          {"gates?n=1&n=2", "given twice"}
        }) {
      HttpResponse<String> refused = get("/api/v1/endpoints/" + wrong[0]);
      assertThat(refused.statusCode()).as(wrong[0]).isEqualTo(400);
      assertThat(JSON.readTree(refused.body()).get("detail").asString()).contains(wrong[1]);
    }
    assertThat(get("/api/v1/endpoints/gates?n=3").statusCode()).as("too many rows").isEqualTo(413);
    assertThat(get("/api/v1/endpoints/none").statusCode()).isEqualTo(404);
    assertThat(sql("CREATE" + create).get("detail").asString())
        .isEqualTo("there is an endpoint \"gates\" already");
    assertThat(sql("SELECT calls, errors FROM drip.endpoints WHERE name = 'gates'").toString())
        .contains("[[10,5]]");
    JsonNode api = JSON.readTree(get("/api/v1/openapi.json").body());
    assertThat(api.get("openapi").asString()).isEqualTo("3.1.0");
    JsonNode operation = api.at("/paths/~1api~1v1~1endpoints~1gates/get");
    assertThat(operation.get("description").asString()).isEqualTo("Gates by price");
    assertThat(operation.at("/parameters/2/required").booleanValue()).isTrue();
    assertThat(operation.at("/parameters/1/schema/default").toString()).isEqualTo("\"0.00\"");
    assertThat(sql("DROP TABLE gate").toString()).contains("endpoint gates reads from it");
    sql("DROP TABLE gate CASCADE");
    assertThat(get("/api/v1/endpoints/gates?n=1").statusCode()).isEqualTo(404);
  }

  @Test
  void viewsAreFilesToo() throws Exception {
    sql("INSERT INTO gate VALUES ('G01', 'North, \"old\"', 1.50), ('G02', NULL, 2)");
    assertThat(get("/api/v1/views/gate.csv").body().lines().sorted().toList())
        .containsExactly("G01,\"North, \"\"old\"\"\",1.50", "G02,,2.00", "gate,hall,price");
    assertThat(get("/api/v1/views/gate.ndjson").body())
        .contains("{\"gate\":\"G02\",\"hall\":null,\"price\":\"2.00\"}\n");
    assertThat(get("/api/v1/views/gate.parquet").body()).startsWith("PAR1").endsWith("PAR1");
    assertThat(get("/api/v1/views/gate.xls").statusCode()).isEqualTo(404);
    assertThat(get("/api/v1/views/none.csv").statusCode()).isEqualTo(404);
    assertThat(get("/api/v1/views/scan.csv").statusCode()).as("keeps no rows").isEqualTo(400);
  }

  /** A path says one thing: nothing in it is cut off, and a key may have a slash. */
  @Test
  void pathsAreTakenAtTheirWord() throws Exception {
    sql("INSERT INTO gate VALUES ('G01', 'North', 1), ('G/1', 'South', 2), ('G;x', 'South', 3)");
    assertThat(get("/api/v1/views/gate/rows/G01;x").statusCode()).isEqualTo(400);
    assertThat(get("/api/v1/views/gate/rows/G%2F1").body()).contains("\"price\":\"2.00\"");
    assertThat(get("/api/v1/views/gate/rows/G%3Bx").body()).contains("\"price\":\"3.00\"");
    assertThat(get("/api/v1/changes").statusCode()).isEqualTo(400);
    String args = "{\"sql\": \"SELECT :x AS x\", \"args\": {\"x\": %s}}";
    for (String value : List.of("{\"y\": [1]}", "1e400", "[]")) {
      HttpResponse<String> refused = post("/api/v1/sql", "application/json", args.formatted(value));
      assertThat(refused.statusCode()).as(value).isEqualTo(400);
      assertThat(refused.body()).as(value).contains(":x");
    }
    assertThat(post("/api/v1/sql", "application/json", args.formatted("[1, 2]")).body())
        .contains("[[[1,2]]]");
    String replay = "/api/v1/objects/scan/rejects/replay";
    push("broken\n");
    for (String body :
        List.of(
            "{\"pattern\": \"(\", \"replacement\": \"\"}",
            "{\"pattern\": \"b\", \"replacement\": \"$7\"}",
            "{\"pattern\": \"b\", \"replacement\": \"\\\\\"}")) {
      assertThat(post(replay, "application/json", body).statusCode()).as(body).isEqualTo(400);
    }
  }

  @Test
  void otherSitesAreRefused() throws Exception {
    HttpResponse<String> response =
        HTTP.send(
            HttpRequest.newBuilder(uri("/api/v1/objects"))
                .header("Origin", "http://elsewhere.example")
                .build(),
            HttpResponse.BodyHandlers.ofString());
    assertThat(response.statusCode()).isEqualTo(403);
    // An image or a form of another page names no origin; the browser still says so.
    for (String site : List.of("cross-site", "same-site")) {
      assertThat(get("/api/v1/follow?sql=SELECT+1", "Sec-Fetch-Site", site).statusCode())
          .as(site)
          .isEqualTo(403);
    }
    for (String site : List.of("same-origin", "none")) {
      assertThat(get("/api/v1/objects", "Sec-Fetch-Site", site).statusCode()).isEqualTo(200);
    }
  }

  /** Nothing is asked of who comes, so nobody may come from elsewhere. */
  @Test
  void itRefusesToListenOffLoopback() {
    assertThatThrownBy(
            () ->
                new SpringApplicationBuilder(DripLedger.class)
                    .run(
                        "--server.address=0.0.0.0",
                        "--server.port=0",
                        "--drip.wire-port=-1",
                        "--spring.datasource.url=" + cluster.jdbcUrl("postgres"),
                        "--spring.datasource.password=loopback"))
        .hasStackTraceContaining("server.address is 0.0.0.0");
  }

  @Test
  void aRestartLosesNothing() throws Exception {
    push("{\"parcel\":1,\"gate\":\"G07\",\"at\":\"2026-03-02T06:14:09Z\",\"grams\":100}\n");
    sql("INSERT INTO gate VALUES ('G01', 'North', 1.50); UPDATE gate SET price = 7");
    service.close();
    service = run();
    assertThat(sql("SELECT scans FROM gate_load").toString()).contains("[[1]]");
    assertThat(sql("SELECT price FROM gate").toString()).contains("[[\"7.00\"]]");
    assertThat(push("{\"parcel\":1}\n").get("position").asInt()).isEqualTo(2);
  }
}
