package dripledger.server;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.Set;
import java.util.TreeSet;
import java.util.stream.Stream;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.MethodSource;
import org.springframework.web.servlet.mvc.method.annotation.RequestMappingHandlerMapping;

/** Every route, for everybody who may come. */
class AccessMatrixTest extends AccessService {
  // ---- routes

  /** A request and the roles that may make it, beside the owner. */
  record Route(String method, String path, String body, String pattern, Set<String> roles) {
    @Override
    public String toString() {
      return method + " " + path;
    }
  }

  private static final Set<String> ALL = Set.of("dispatch", "scanner", "builder", "nothing");
  private static final Set<String> NOBODY = Set.of();

  static Stream<Route> routes() {
    Set<String> dispatch = Set.of("dispatch");
    Set<String> builder = Set.of("builder");
    return Stream.of(
        new Route("GET", "/api/v1/objects", null, "/api/v1/objects", ALL),
        new Route("GET", "/api/v1/objects/hall", null, "/api/v1/objects/{name}", dispatch),
        new Route("GET", "/api/v1/objects/scan", null, null, Set.of("scanner")),
        new Route("GET", "/api/v1/objects/none", null, null, null),
        new Route(
            "GET",
            "/api/v1/views/hall/rows/North",
            null,
            "/api/v1/views/{name}/rows/{key}",
            dispatch),
        new Route("GET", "/api/v1/views/hall/rows", null, "/api/v1/views/{name}/rows", dispatch),
        new Route("GET", "/api/v1/views/hall/count", null, "/api/v1/views/{name}/count", dispatch),
        new Route("GET", "/api/v1/views/gate/count", null, null, builder),
        new Route("GET", "/api/v1/views/hall.csv", null, "/api/v1/views/{file}", dispatch),
        new Route("GET", "/api/v1/views/gate.ndjson", null, null, builder),
        new Route("GET", "/api/v1/endpoints/in_hall", null, "/api/v1/endpoints/{name}", dispatch),
        new Route("GET", "/api/v1/endpoints/in_hall.csv", null, null, dispatch),
        new Route("GET", "/api/v1/openapi.json", null, "/api/v1/openapi.json", ALL),
        new Route(
            "POST",
            "/api/v1/streams/scan/events",
            "{\"parcel\":1}\n",
            "/api/v1/streams/{name}/events",
            Set.of("scanner")),
        new Route("POST", "/api/v1/sql", "{\"sql\":\"SHOW VIEWS\"}", "/api/v1/sql", ALL),
        new Route("GET", "/api/v1/sql", null, null, ALL),
        new Route("DELETE", "/api/v1/sql/abc", null, "/api/v1/sql/{*id}", ALL),
        new Route("GET", "/api/v1/changes/abc", null, "/api/v1/changes/{*id}", ALL),
        new Route("GET", "/api/v1/follow?sql=SELECT+*+FROM+hall", null, "/api/v1/follow", dispatch),
        new Route("GET", "/api/v1/connections/inbox", null, "/api/v1/connections/{name}", builder),
        new Route(
            "GET",
            "/api/v1/connections/inbox/peek?source=a.csv&from=earliest",
            null,
            "/api/v1/connections/{name}/peek",
            builder),
        new Route(
            "POST",
            "/api/v1/connections/inbox/propose",
            "{\"name\":\"s\",\"kind\":\"stream\",\"options\":{\"files\":\"*.csv\"},\"format\":\"csv\"}",
            "/api/v1/connections/{name}/propose",
            builder),
        new Route(
            "POST",
            "/api/v1/connections/inbox/topics",
            "{\"name\":\"t\"}",
            "/api/v1/connections/{name}/topics",
            NOBODY),
        new Route(
            "POST",
            "/api/v1/objects/scan/rejects/replay",
            "{}",
            "/api/v1/objects/{name}/rejects/replay",
            NOBODY),
        new Route("GET", "/api/v1/secrets", null, "/api/v1/secrets", NOBODY),
        new Route(
            "PUT", "/api/v1/secrets/abc", "{\"value\":\"x\"}", "/api/v1/secrets/{name}", NOBODY),
        new Route("DELETE", "/api/v1/secrets/abc", null, null, NOBODY),
        new Route("GET", "/api/v1/tokens", null, "/api/v1/tokens", ALL),
        new Route(
            "POST", "/api/v1/tokens", "{\"role\":\"nothing\",\"name\":\"new\"}", null, NOBODY),
        new Route(
            "POST",
            "/api/v1/tokens/1/rotate",
            "{\"overlap\":\"1 day\"}",
            "/api/v1/tokens/{id}/rotate",
            NOBODY),
        new Route("DELETE", "/api/v1/tokens/999999", null, "/api/v1/tokens/{id}", null),
        new Route("GET", "/api/v1/findings", null, "/api/v1/findings", NOBODY),
        new Route("GET", "/api/v1/journal", null, "/api/v1/journal", NOBODY),
        new Route("GET", "/api/v1/shares", null, "/api/v1/shares", NOBODY),
        new Route(
            "POST", "/api/v1/shares", "{\"view\":\"hall\",\"with\":\"outside\"}", null, NOBODY),
        new Route(
            "DELETE", "/api/v1/shares/hall/outside", null, "/api/v1/shares/{view}/{with}", NOBODY),
        new Route("GET", "/actuator/health", null, "", NOBODY),
        new Route("GET", "/actuator/prometheus", null, "", NOBODY));
  }

  @ParameterizedTest
  @MethodSource("routes")
  void aRouteIsForWhoMayUseIt(Route route) throws Exception {
    for (String who : new String[] {null, "revoked", "expired", "made_up"}) {
      assertThat(call(who, route.method, route.path, route.body).statusCode())
          .as("%s: %s", who, route)
          .isEqualTo(401);
    }
    for (String role : ALL) {
      int status = call(role, route.method, route.path, route.body).statusCode();
      if (route.roles == null) { // what is not there, and is not told from what is not for it
        assertThat(status).as("%s: %s", role, route).isIn(403, 404);
      } else if (route.roles.contains(role)) {
        assertThat(status).as("%s: %s", role, route).isLessThan(300);
      } else {
        assertThat(status).as("%s: %s", role, route).isEqualTo(403);
      }
    }
    assertThat(call("owner", route.method, route.path, route.body).statusCode())
        .as("owner: %s", route)
        .isNotIn(401, 403);
  }

  @Test
  void noRouteIsForgotten() {
    Set<String> known = new TreeSet<>();
    routes().filter(r -> r.pattern != null).forEach(r -> known.add(r.pattern));
    Set<String> all = new TreeSet<>();
    service
        .getBean("requestMappingHandlerMapping", RequestMappingHandlerMapping.class)
        .getHandlerMethods()
        .keySet()
        .forEach(info -> all.addAll(info.getPatternValues()));
    all.removeIf(pattern -> !pattern.startsWith("/api/"));
    all.remove("/api/v1/sign-in"); // which is for everybody
    assertThat(known).containsAll(all);
  }
}
