package dripledger.server;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.demo.PostgresCluster;
import java.io.IOException;
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpHeaders;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.nio.file.Files;
import java.nio.file.Path;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Properties;
import org.junit.jupiter.api.extension.BeforeAllCallback;
import org.junit.jupiter.api.extension.ExtendWith;
import org.junit.jupiter.api.extension.ExtensionContext;
import org.springframework.boot.builder.SpringApplicationBuilder;
import org.springframework.context.ConfigurableApplicationContext;
import tools.jackson.databind.JsonNode;
import tools.jackson.databind.json.JsonMapper;

/** What tests of access share: one service, with roles and their tokens. */
@ExtendWith(AccessService.Opened.class)
abstract class AccessService {
  static final JsonMapper JSON = new JsonMapper();
  static final HttpClient HTTP = HttpClient.newHttpClient();
  static final Path OWNER =
      Path.of("target", "access-" + ProcessHandle.current().pid(), "owner.token");

  static PostgresCluster cluster;
  static ConfigurableApplicationContext service;
  static Connection before; // without a token, from before there was a role
  static final Map<String, String> TOKENS = new LinkedHashMap<>(); // by who has them

  /** Starts the service before the first class and ends it after the last. */
  static final class Opened implements BeforeAllCallback, AutoCloseable {
    @Override
    public void beforeAll(ExtensionContext context) throws Exception {
      synchronized (Opened.class) {
        if (service == null) {
          begin();
          context.getRoot().getStore(ExtensionContext.Namespace.GLOBAL).put("access", this);
        }
      }
    }

    @Override
    public void close() {
      service.close();
      cluster.close();
    }
  }

  private static void begin() throws Exception {
    cluster = PostgresCluster.temporary();
    service =
        new SpringApplicationBuilder(DripLedger.class)
            .run(
                "--server.port=0",
                "--drip.wire-port=" + PostgresCluster.freePort(),
                "--drip.warm-up-millis=0",
                "--drip.file-folders=target",
                "--drip.secret-key-file=" + OWNER.resolveSibling("key"),
                "--spring.datasource.url=" + cluster.jdbcUrl("drip"),
                "--spring.datasource.password=loopback");
    // As long as there is nobody else, whoever is on this machine is the owner.
    assertThat(sql(null, "CREATE STREAM scan (parcel BIGINT, gate VARCHAR)").statusCode())
        .isEqualTo(200);
    sql(null, "CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR)");
    sql(null, "INSERT INTO gate VALUES ('G01', 'North')");
    sql(
        null,
        "CREATE MATERIALIZED VIEW hall AS SELECT hall, COUNT(*) AS gates FROM gate GROUP BY hall");
    sql(
        null,
        "CREATE ENDPOINT in_hall (hall VARCHAR DEFAULT 'North') AS SELECT gate FROM gate WHERE hall = :hall");
    Path folder = Files.createDirectories(OWNER.resolveSibling("inbox")).toAbsolutePath();
    Files.writeString(folder.resolve("a.csv"), "parcel,gate\n1,G01\n");
    sql(null, "CREATE CONNECTION inbox TYPE file OPTIONS (path '" + folder + "')");
    before = connect("owner", null);
    sql(null, "CREATE ROLE dispatch; GRANT SELECT ON hall, in_hall TO dispatch");
    TOKENS.put("owner", Files.readString(OWNER).strip());
    assertThat(sql(null, "SHOW ROLES").statusCode()).isEqualTo(401); // from now on
    sql("owner", "CREATE ROLE scanner; GRANT INSERT ON scan TO scanner");
    sql("owner", "CREATE ROLE builder; GRANT CREATE ON SCHEMA public TO builder");
    sql("owner", "GRANT USAGE ON inbox TO builder; GRANT SELECT ON gate TO builder");
    sql("owner", "CREATE ROLE nothing");
    for (String role : List.of("dispatch", "scanner", "builder", "nothing")) {
      TOKENS.put(role, token(role, "test", null).get("token").asString());
    }
    JsonNode gone = token("dispatch", "gone", null);
    TOKENS.put("revoked", gone.get("token").asString());
    call("owner", "DELETE", "/api/v1/tokens/" + gone.get("id"), null);
    TOKENS.put("expired", token("dispatch", "short", "1 second").get("token").asString());
    TOKENS.put("made_up", "drip_" + "x".repeat(43));
    while (call("expired", "GET", "/api/v1/objects", null).statusCode() == 200) {
      Thread.onSpinWait();
    }
  }

  static JsonNode token(String role, String name, String lasts) throws Exception {
    Map<String, String> body = new LinkedHashMap<>();
    body.put("role", role);
    body.put("name", name);
    body.put("lasts", lasts);
    Answer made = call("owner", "POST", "/api/v1/tokens", JSON.writeValueAsString(body));
    assertThat(made.headers().firstValue("Cache-Control").orElse("")).contains("no-store");
    return JSON.readTree(made.body());
  }

  static String base() {
    return "http://127.0.0.1:" + service.getEnvironment().getProperty("local.server.port");
  }

  record Answer(int statusCode, String body, HttpHeaders headers) {}

  static Answer call(String who, String method, String path, String body)
      throws IOException, InterruptedException {
    HttpRequest.Builder request =
        HttpRequest.newBuilder(URI.create(base() + path))
            .method(
                method,
                body == null
                    ? HttpRequest.BodyPublishers.noBody()
                    : HttpRequest.BodyPublishers.ofString(body))
            .header("Content-Type", "application/json");
    if (who != null) {
      request.header("Authorization", "Bearer " + TOKENS.get(who));
    }
    if (path.startsWith("/api/v1/follow?")) { // which has no end, and is only begun
      HttpResponse<java.io.InputStream> begun =
          HTTP.send(request.build(), HttpResponse.BodyHandlers.ofInputStream());
      begun.body().close();
      return new Answer(begun.statusCode(), "", begun.headers());
    }
    HttpResponse<String> answer = HTTP.send(request.build(), HttpResponse.BodyHandlers.ofString());
    return new Answer(answer.statusCode(), answer.body(), answer.headers());
  }

  static Answer sql(String who, String script) throws Exception {
    return call(who, "POST", "/api/v1/sql", JSON.writeValueAsString(Map.of("sql", script)));
  }

  static Connection connect(String user, String who) throws SQLException {
    Properties login = new Properties();
    login.setProperty("user", user);
    login.setProperty("password", who == null ? "" : TOKENS.get(who));
    return DriverManager.getConnection(
        "jdbc:postgresql://127.0.0.1:"
            + service.getEnvironment().getProperty("drip.wire-port")
            + "/ledger",
        login);
  }

  static List<String> rows(Connection c, String query) throws SQLException {
    List<String> rows = new ArrayList<>();
    try (var s = c.createStatement();
        ResultSet r = s.executeQuery(query)) {
      while (r.next()) {
        rows.add(r.getString(1));
      }
    }
    return rows;
  }

  interface Act {
    void run() throws Exception;
  }

  static void assertState(String state, Act act) {
    assertThatThrownBy(act::run)
        .isInstanceOfSatisfying(
            SQLException.class, e -> assertThat(e.getSQLState()).as("%s", e).isEqualTo(state));
  }
}
