package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.IOException;
import java.util.List;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import org.junit.jupiter.api.extension.BeforeAllCallback;
import org.junit.jupiter.api.extension.ExtendWith;
import org.junit.jupiter.api.extension.ExtensionContext;
import org.junit.jupiter.api.parallel.ResourceLock;

/**
 * What tests of sources share. There are two lanes, each a hub and a service, and one class at a
 * time in a lane, which its {@link ResourceLock} names; each test has topics and tables of its own
 * at the hub. The service may be killed; it must be started again.
 */
@ExtendWith(SourceTest.Opened.class)
abstract class SourceTest {
  static final String ONE = "hub one";
  static final String TWO = "hub two";

  private static final Map<String, Lane> LANES = new ConcurrentHashMap<>();

  protected final Hub hub = lane(getClass()).hub;
  protected final LiveService service = lane(getClass()).service;

  /** A hub and a service that reads it. */
  record Lane(Hub hub, LiveService service) implements AutoCloseable {
    @Override
    public void close() throws IOException {
      service.close();
      hub.close();
    }
  }

  /** The lane of a class, once it is open. */
  static Lane lane(Class<?> test) {
    return LANES.get(test.getAnnotation(ResourceLock.class).value());
  }

  /** Opens a lane before its first class and closes it after the last of all. */
  static final class Opened implements BeforeAllCallback {
    @Override
    public void beforeAll(ExtensionContext context) throws Exception {
      Class<?> test = context.getRequiredTestClass();
      if (lane(test) == null) {
        Hub hub = new Hub();
        LiveService service = new LiveService("--drip.checkpoint-millis=500");
        hub.connect(service);
        String name = test.getAnnotation(ResourceLock.class).value();
        LANES.put(name, new Lane(hub, service));
        context.getRoot().getStore(ExtensionContext.Namespace.GLOBAL).put(name, LANES.get(name));
      }
      clear(lane(test).service);
    }

    /** No class finds what another has left, in whatever order they run. */
    @SuppressWarnings("unchecked")
    private static void clear(LiveService service) throws IOException {
      Map<String, Object> all = Json.read(service.call("GET", "/api/v1/objects", null).body());
      for (Map<String, Object> object : (List<Map<String, Object>>) all.get("objects")) {
        if (!object.get("kind").equals("connection")) {
          service.sql(
              "DROP %s IF EXISTS \"%s\" CASCADE".formatted(object.get("kind"), object.get("name")));
        }
      }
    }
  }

  /** The rows of a query once they are as expected, or as they are after some seconds. */
  String soon(String query, String expected) throws Exception {
    return soon(service, query, expected, 15);
  }

  static String soon(LiveService service, String query, String expected, int seconds)
      throws Exception {
    String found = "";
    for (int i = 0; i < seconds * 10; i++) {
      found = String.valueOf(service.sql(query));
      if (found.equals(expected)) {
        return found;
      }
      Thread.sleep(100);
    }
    return found;
  }

  /** Fails unless a query answers this within some seconds. */
  void expect(String query, String rows) throws Exception {
    assertThat(soon(query, rows)).as(query).isEqualTo(rows);
  }

  /** State and reason of an input once they say this, or as they are after some seconds. */
  String input(String name, String expected) throws Exception {
    String query = "SELECT state, reason FROM drip.inputs WHERE name = '" + name + "'";
    String found = "";
    for (int i = 0; i < 200 && !found.contains(expected); i++) {
      found = String.valueOf(service.sql(query));
      Thread.sleep(100);
    }
    return found;
  }

  /** The sentence, place and hint a statement is refused with. */
  String error(String statement) throws IOException {
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

  static String scan(int parcel, String gate, int grams) {
    return "{\"parcel\":%d,\"gate\":\"%s\",\"at\":\"2026-03-02T06:14:%02dZ\",\"grams\":%d}"
        .formatted(parcel, gate, parcel % 60, grams);
  }
}
