package dripledger.demo;

import static java.nio.charset.StandardCharsets.UTF_8;

import com.sun.net.httpserver.HttpServer;
import java.io.IOException;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.function.BiPredicate;

/**
 * A small schema registry on loopback, for tests and for trying things out: it answers schemas by
 * number and the newest of a subject, as registries do over HTTP. Thread-safe.
 */
public final class RegistryStandIn implements AutoCloseable {
  private final HttpServer server;
  private volatile String login;
  private final List<String> schemas = new ArrayList<>();
  private final Map<String, Integer> newest = new HashMap<>();
  private BiPredicate<String, String> compatible = (before, now) -> true;

  public RegistryStandIn() throws IOException {
    server = HttpServer.create(new InetSocketAddress(InetAddress.getLoopbackAddress(), 0), 0);
    server.createContext(
        "/",
        exchange -> {
          if (login != null
              && !login.equals(exchange.getRequestHeaders().getFirst("Authorization"))) {
            exchange.sendResponseHeaders(401, -1);
            exchange.close();
            return;
          }
          String path = exchange.getRequestURI().getPath();
          String answer =
              exchange.getRequestMethod().equals("POST")
                  ? posted(path, new String(exchange.getRequestBody().readAllBytes(), UTF_8))
                  : answer(path);
          byte[] body =
              (answer == null ? "{\"error_code\":40403,\"message\":\"not found\"}" : answer)
                  .getBytes(UTF_8);
          exchange.getResponseHeaders().set("Content-Type", "application/json");
          exchange.sendResponseHeaders(answer == null ? 404 : 200, body.length);
          exchange.getResponseBody().write(body);
          exchange.close();
        });
    server.start();
  }

  /** From now on whoever asks says this in the header Authorization; null for nobody need. */
  public void login(String authorization) {
    login = authorization;
  }

  public String url() {
    return "http://127.0.0.1:" + server.getAddress().getPort();
  }

  /** Adds a schema as the newest of a subject; answers its number. */
  public synchronized int register(String subject, String schema) {
    schemas.add(schema);
    newest.put(subject, schemas.size());
    return schemas.size();
  }

  /** Says which schemas may follow which: the newest of a subject, then the one that is to come. */
  public synchronized void accepts(BiPredicate<String, String> compatible) {
    this.compatible = compatible;
  }

  /** The newest schema of a subject, or null. */
  public synchronized String newest(String subject) {
    Integer number = newest.get(subject);
    return number == null ? null : schemas.get(number - 1);
  }

  private synchronized String posted(String path, String body) {
    String schema = unquoted(body);
    String[] parts = path.split("/");
    if (path.startsWith("/compatibility/subjects/")) {
      String before = newest(parts[3]);
      return before == null ? null : "{\"is_compatible\":" + compatible.test(before, schema) + "}";
    }
    int there = schemas.indexOf(schema) + 1;
    newest.put(parts[2], there > 0 ? there : register(parts[2], schema));
    return "{\"id\":" + newest.get(parts[2]) + "}";
  }

  /** The one text value of a JSON object that has no other. */
  private static String unquoted(String body) {
    String text = body.substring(body.indexOf(':') + 1).strip();
    return text.substring(1, text.lastIndexOf('"')).replace("\\\"", "\"").replace("\\\\", "\\");
  }

  private synchronized String answer(String path) {
    String[] parts = path.split("/");
    if (path.startsWith("/schemas/ids/") && parts.length == 4 && parts[3].matches("\\d{1,6}")) {
      return of(Integer.parseInt(parts[3]));
    }
    if (path.startsWith("/subjects/") && path.endsWith("/versions/latest")) {
      return of(newest.getOrDefault(parts[2], 0));
    }
    return null;
  }

  private String of(int number) {
    if (number < 1 || number > schemas.size()) {
      return null;
    }
    String text = schemas.get(number - 1).replace("\\", "\\\\").replace("\"", "\\\"");
    return "{\"id\":"
        + number
        + ",\"version\":"
        + number
        + ",\"schema\":\""
        + text.replace("\n", " ")
        + "\"}";
  }

  @Override
  public void close() {
    server.stop(0);
  }
}
