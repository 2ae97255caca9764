package dripledger.server;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.io.IOException;
import java.net.URI;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.nio.file.Files;
import java.nio.file.attribute.PosixFilePermissions;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.util.List;
import java.util.Map;
import java.util.stream.Stream;
import org.junit.jupiter.api.Test;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import tools.jackson.databind.JsonNode;

/** Tokens, sign-ins, bounds and shares, by both ports. */
class SignedInTest extends AccessService {
  private static final Logger LOG = LoggerFactory.getLogger(SignedInTest.class);

  /** Whoever came without a token while that would do is put out when it will not. */
  @Test
  void aConnectionFromBeforeTheFirstRoleIsPutOut() {
    assertThatThrownBy(() -> rows(before, "SELECT 1")).isInstanceOf(SQLException.class);
  }

  @Test
  void refusedTokensAreInTheJournal() throws Exception {
    assertThat(call("made_up", "GET", "/api/v1/objects", null).statusCode()).isEqualTo(401);
    assertThat(call(null, "GET", "/api/v1/objects", null).statusCode()).isEqualTo(401);
    for (String detail : new String[] {"a token that is not good", "no token"}) {
      String asked =
          "SELECT via FROM drip.journal WHERE role = 'nobody' AND what = 'refused' AND detail = '%s'";
      assertThat(sql("owner", asked.formatted(detail)).body()).contains("HTTP from 127.0.0.1");
    }
  }

  @Test
  void aTokenIsThePasswordOfItsRole() throws Exception {
    try (Connection c = connect("dispatch", "dispatch")) {
      assertThat(rows(c, "SELECT hall FROM hall")).containsExactly("North");
      try (var s = c.prepareStatement("SELECT gates FROM hall WHERE hall = ?")) {
        for (int i = 0; i < 8; i++) { // beyond the driver's threshold
          s.setString(1, "North");
          try (ResultSet r = s.executeQuery()) {
            assertThat(r.next()).isTrue();
          }
        }
      }
      assertState("42501", () -> rows(c, "SELECT * FROM gate"));
      assertState("42501", () -> rows(c, "SELECT * FROM nothing_like_it"));
      assertState("42501", () -> rows(c, "SELECT * FROM drip.journal"));
      assertState("42501", () -> c.createStatement().execute("DROP VIEW hall"));
      assertState(
          "42501", () -> c.createStatement().execute("INSERT INTO gate VALUES ('G9', 'x')"));
      assertState("42501", () -> c.createStatement().execute("CREATE ROLE x"));
      assertThat(rows(c, "SELECT tablename FROM pg_catalog.pg_tables WHERE schemaname = 'public'"))
          .containsExactly("hall");
      assertThat(
              rows(
                  c,
                  "SELECT table_name FROM information_schema.tables WHERE table_schema IN ('public', 'drip')"))
          .containsExactly("hall");
    }
    try (Connection c = connect("owner", "owner")) {
      assertThat(rows(c, "SELECT tablename FROM pg_catalog.pg_tables WHERE schemaname = 'public'"))
          .contains("gate", "hall", "scan");
    }
    for (String who : new String[] {"scanner", "revoked", "expired", "made_up", "owner"}) {
      assertState("28P01", () -> connect("dispatch", who).close());
    }
    assertState("28P01", () -> connect("nobody_of_the_kind", "dispatch").close());
    assertThatThrownBy(() -> connect("dispatch", null).close()).isInstanceOf(SQLException.class);
    try (Connection c = connect("scanner", "scanner")) {
      var copy = c.unwrap(org.postgresql.PGConnection.class).getCopyAPI();
      copy.copyIn("COPY scan FROM STDIN", new java.io.StringReader("7\tG07\n"));
      assertState("42501", () -> rows(c, "SELECT * FROM scan"));
      assertState("42501", () -> copy.copyIn("COPY gate FROM STDIN", new java.io.StringReader("")));
      assertState(
          "42501", () -> copy.copyOut("COPY hall TO STDOUT", new java.io.ByteArrayOutputStream()));
      assertState(
          "42501",
          () ->
              copy.copyOut(
                  "COPY (FOLLOW SELECT * FROM hall) TO STDOUT",
                  new java.io.ByteArrayOutputStream()));
    }
  }

  /** The last that a follower is told before it ends. */
  private static String last(HttpResponse<Stream<String>> following) {
    return following.body().filter(l -> l.startsWith("data:")).reduce("", (a, b) -> b);
  }

  @Test
  void whoIsPutOutIsOutAtOnce() throws Exception {
    sql("owner", "CREATE ROLE guest; GRANT SELECT ON hall TO guest");
    JsonNode made = token("guest", "test", null);
    TOKENS.put("guest", made.get("token").asString());
    HttpResponse<Stream<String>> following =
        HTTP.send(
            HttpRequest.newBuilder(URI.create(base() + "/api/v1/follow?sql=TABLE+hall"))
                .header("Authorization", "Bearer " + TOKENS.get("guest"))
                .build(),
            HttpResponse.BodyHandlers.ofLines());
    Connection open = connect("guest", "guest");
    Thread copying =
        new Thread(
            () -> {
              try {
                open.unwrap(org.postgresql.PGConnection.class)
                    .getCopyAPI()
                    .copyOut(
                        "COPY (FOLLOW SELECT * FROM hall) TO STDOUT",
                        new java.io.ByteArrayOutputStream());
              } catch (SQLException | IOException e) {
                LOG.debug("it was put out", e);
              }
            });
    copying.start();
    // Rotated, both are good for a while.
    Answer rotated = call("guest", "POST", "/api/v1/tokens/" + made.get("id") + "/rotate", "{}");
    TOKENS.put("guest2", JSON.readTree(rotated.body()).get("token").asString());
    for (String who : List.of("guest", "guest2")) {
      assertThat(call(who, "GET", "/api/v1/views/hall/count", null).statusCode()).isEqualTo(200);
      connect("guest", who).close();
    }
    call("owner", "DELETE", "/api/v1/tokens/" + made.get("id"), null);
    assertThat(call("guest", "GET", "/api/v1/views/hall/count", null).statusCode()).isEqualTo(401);
    assertThat(call("guest2", "GET", "/api/v1/views/hall/count", null).statusCode()).isEqualTo(200);
    String last = last(following);
    assertThat(last).contains("no longer good"); // and it has ended
    copying.join(30_000);
    assertThat(copying.isAlive()).isFalse();
    // What is revoked ends who follows it, too.
    HttpResponse<Stream<String>> again =
        HTTP.send(
            HttpRequest.newBuilder(URI.create(base() + "/api/v1/follow?sql=TABLE+hall"))
                .header("Authorization", "Bearer " + TOKENS.get("guest2"))
                .build(),
            HttpResponse.BodyHandlers.ofLines());
    sql("owner", "REVOKE SELECT ON hall FROM guest");
    last = last(again);
    assertThat(last).contains("that role guest may read");
    sql("owner", "DROP ROLE guest");
    assertThat(call("guest2", "GET", "/api/v1/objects", null).statusCode()).isEqualTo(401);
  }

  @Test
  void whoSignsInIsKnownByACookieThatStaysHere() throws Exception {
    Answer refused = call(null, "POST", "/api/v1/sign-in", "{\"token\":\"drip_nonsense\"}");
    assertThat(refused.statusCode()).isEqualTo(401);
    assertThat(call(null, "GET", "/api/v1/sign-in", null).body()).contains("\"role\":null");
    Answer in =
        call(
            null,
            "POST",
            "/api/v1/sign-in",
            JSON.writeValueAsString(Map.of("token", TOKENS.get("dispatch"))));
    assertThat(in.body()).contains("\"role\":\"dispatch\"").contains("SELECT ON hall");
    String cookie = in.headers().firstValue("Set-Cookie").orElseThrow();
    assertThat(cookie).contains("HttpOnly").contains("SameSite=Strict").contains("Path=/api");
    assertThat(cookie).doesNotContain(TOKENS.get("dispatch"));
    String pair = cookie.substring(0, cookie.indexOf(';'));
    assertThat(withCookie("GET", "/api/v1/views/hall/count", pair, null)).isEqualTo(200);
    assertThat(withCookie("GET", "/api/v1/views/gate/count", pair, null)).isEqualTo(403);
    assertThat(withCookie("GET", "/api/v1/views/hall/count", pair, "cross-site")).isEqualTo(403);
    assertThat(withCookie("DELETE", "/api/v1/sign-in", pair, null)).isEqualTo(200);
    assertThat(withCookie("GET", "/api/v1/views/hall/count", pair, null)).isEqualTo(401);
  }

  private static int withCookie(String method, String path, String cookie, String site)
      throws Exception {
    HttpRequest.Builder request =
        HttpRequest.newBuilder(URI.create(base() + path))
            .method(method, HttpRequest.BodyPublishers.noBody())
            .header("Cookie", cookie);
    if (site != null) {
      request.header("Sec-Fetch-Site", site);
    }
    return HTTP.send(request.build(), HttpResponse.BodyHandlers.discarding()).statusCode();
  }

  @Test
  void boundsOfARoleHoldOnBothPorts() throws Exception {
    sql(
        "owner",
        "CREATE ROLE slow OPTIONS (requests_per_second 3, connections 1, max_body '1 kb')");
    sql("owner", "GRANT SELECT ON hall TO slow; GRANT INSERT ON scan TO slow");
    TOKENS.put("slow", token("slow", "test", null).get("token").asString());
    int refused = 0;
    for (int i = 0; i < 20; i++) {
      int status = call("slow", "GET", "/api/v1/views/hall/count", null).statusCode();
      refused += status == 429 ? 1 : 0;
    }
    assertThat(refused).isPositive();
    sql("owner", "ALTER ROLE slow SET (requests_per_second 0)");
    String many = "{\"parcel\":1}\n".repeat(200);
    assertThat(call("slow", "POST", "/api/v1/streams/scan/events", many).statusCode())
        .isEqualTo(413);
    try (Connection one = connect("slow", "slow")) {
      assertState("53300", () -> connect("slow", "slow").close());
      sql("owner", "ALTER ROLE slow SET (requests_per_second 2)");
      assertState(
          "53400",
          () -> {
            for (int i = 0; i < 20; i++) {
              rows(one, "SELECT hall FROM hall");
            }
          });
    }
    sql("owner", "DROP ROLE slow");
  }

  @Test
  void aShareIsReadAndNothingElseAndEndsWhenItIsEnded() throws Exception {
    Answer shared =
        call(
            "owner",
            "POST",
            "/api/v1/shares",
            "{\"view\":\"hall\",\"with\":\"fernway\",\"days\":30}");
    TOKENS.put("fernway", JSON.readTree(shared.body()).get("token").asString());
    assertThat(call("fernway", "GET", "/api/v1/views/hall.csv", null).body()).contains("North");
    assertThat(call("fernway", "GET", "/api/v1/views/gate.csv", null).statusCode()).isEqualTo(403);
    try (Connection c = connect("fernway", "fernway")) {
      assertThat(rows(c, "SELECT hall FROM hall")).containsExactly("North");
    }
    assertThat(call("owner", "GET", "/api/v1/shares", null).body())
        .contains("\"with\":\"fernway\"")
        .contains("\"state\":\"open\"");
    String read =
        sql("owner", "SELECT detail FROM drip.journal WHERE role = 'fernway' AND what = 'read'")
            .body();
    assertThat(read).contains("GET /api/v1/views/hall.csv").contains("SELECT hall FROM hall");
    assertThat(
            sql(
                    "owner",
                    "SELECT object FROM drip.journal WHERE role = 'fernway' AND what = 'refused'")
                .body())
        .contains("gate");
    call("owner", "DELETE", "/api/v1/shares/hall/fernway", null);
    assertThat(call("fernway", "GET", "/api/v1/views/hall.csv", null).statusCode()).isEqualTo(401);
    assertThat(sql("owner", "SHOW ROLES").body()).doesNotContain("fernway");
  }

  @Test
  void noTokenIsKeptAsItIs() throws Exception {
    assertThat(PosixFilePermissions.toString(Files.getPosixFilePermissions(OWNER)))
        .isEqualTo("rw-------");
    try (Connection records =
            DriverManager.getConnection(cluster.jdbcUrl("drip"), "drip", "loopback");
        ResultSet r =
            records
                .createStatement()
                .executeQuery(
                    "SELECT t::text FROM token t UNION ALL SELECT j::text FROM journal j"
                        + " UNION ALL SELECT r::text FROM role r")) {
      while (r.next()) {
        for (String token : TOKENS.values()) {
          assertThat(r.getString(1)).doesNotContain(token);
        }
      }
    }
    for (String list : List.of("/api/v1/tokens", "/api/v1/journal")) {
      assertThat(call("owner", "GET", list, null).body()).doesNotContain("drip_");
    }
    assertThat(sql("owner", "SELECT * FROM drip.tokens").body()).doesNotContain("drip_");
  }
}
