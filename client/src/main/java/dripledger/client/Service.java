package dripledger.client;

import java.io.IOException;
import java.io.InputStream;
import java.io.OutputStream;
import java.net.ConnectException;
import java.net.HttpURLConnection;
import java.net.SocketTimeoutException;
import java.net.URI;
import java.net.URLEncoder;
import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.UUID;
import javax.net.ssl.HttpsURLConnection;
import tools.jackson.jr.ob.JSON;

/**
 * Calls of the service. One call a connection by {@link HttpURLConnection}, which starts three
 * times faster than the newer client. Not thread-safe.
 */
final class Service {
  /** How long an answer may take: a view over much may be filled meanwhile. */
  private static final int ANSWER_MILLIS = 900_000;

  /** How long a stream may be silent; it shows signs of life every few seconds. */
  private static final int SILENCE_MILLIS = 60_000;

  private final String url;
  private final Logins.Login login;

  /**
   * @param login how to come to it; null for without
   */
  Service(String url, Logins.Login login) {
    this.url = url.endsWith("/") ? url.substring(0, url.length() - 1) : url;
    this.login = login;
  }

  static String encode(String text) {
    return URLEncoder.encode(text, StandardCharsets.UTF_8).replace("+", "%20");
  }

  private HttpURLConnection open(String path) throws IOException {
    HttpURLConnection connection =
        (HttpURLConnection) URI.create(url + path).toURL().openConnection();
    connection.setConnectTimeout(5000);
    connection.setReadTimeout(ANSWER_MILLIS);
    if (login != null && login.token() != null) {
      refuseInTheOpen();
      connection.setRequestProperty("Authorization", "Bearer " + login.token());
    }
    if (login != null
        && login.authority() != null
        && connection instanceof HttpsURLConnection encrypted) {
      encrypted.setSSLSocketFactory(Authority.trusted(Path.of(login.authority())));
    }
    return connection;
  }

  /** A token goes over an encrypted connection, or to this machine. */
  private void refuseInTheOpen() {
    URI uri = URI.create(url);
    boolean here = Set.of("127.0.0.1", "localhost", "[::1]").contains(uri.getHost());
    if (!here && !"https".equals(uri.getScheme())) {
      throw new Problem(
          "the token is not sent to " + url + ", which is not encrypted", "use https://", 1);
    }
  }

  /** The body of a good answer; a bad one is thrown as a problem. */
  private InputStream answer(HttpURLConnection connection) throws IOException {
    int status;
    try {
      status = connection.getResponseCode();
    } catch (ConnectException e) {
      throw new Problem(
          "no service answers at " + url,
          "start it with: drip up (or drip demo)",
          Problem.UNREACHABLE);
    } catch (SocketTimeoutException e) {
      throw new Problem(
          "the service at "
              + url
              + " has not answered for "
              + connection.getReadTimeout() / 1000
              + " s",
          "it may still do what was asked: SELECT * FROM drip.activity, or see drip status",
          Problem.UNREACHABLE);
    }
    if (status < 400) {
      return connection.getInputStream();
    }
    try (InputStream error = connection.getErrorStream()) {
      String body = error == null ? "" : new String(error.readAllBytes(), StandardCharsets.UTF_8);
      if (status == 401) {
        throw new Problem(
            login == null || login.token() == null
                ? "the service wants to know who you are"
                : "the service does not know your token, or it is no longer good",
            "drip login keeps a token; the owner makes them by drip token make",
            1);
      }
      if (body.startsWith("{")) {
        throw Problem.of(JSON.std.mapFrom(body));
      }
      throw new Problem("the service answered " + status + " " + body.strip(), null, 1);
    }
  }

  Map<String, Object> get(String path) throws IOException {
    try (InputStream in = answer(open(path))) {
      return JSON.std.mapFrom(in);
    }
  }

  /**
   * The answer as a stream that stays open until closed.
   *
   * @param last the id of the last event that came, to go on behind it; or null
   */
  InputStream stream(String path, String last) throws IOException {
    HttpURLConnection connection = open(path);
    connection.setRequestProperty("Accept", "text/event-stream");
    connection.setReadTimeout(SILENCE_MILLIS);
    if (last != null) {
      connection.setRequestProperty("Last-Event-ID", last);
    }
    return answer(connection);
  }

  Map<String, Object> post(String path, String type, byte[] body, int length) throws IOException {
    return send("POST", path, type, body, length, null);
  }

  /**
   * Posts what the service takes once however often it is sent.
   *
   * @param key of this body and no other
   */
  Map<String, Object> post(String path, String type, byte[] body, int length, String key)
      throws IOException {
    return send("POST", path, type, body, length, key);
  }

  Map<String, Object> post(String path, Object body) throws IOException {
    byte[] json = JSON.std.asString(body).getBytes(StandardCharsets.UTF_8);
    return post(path, "application/json", json, json.length);
  }

  Map<String, Object> put(String path, Object body) throws IOException {
    byte[] json = JSON.std.asString(body).getBytes(StandardCharsets.UTF_8);
    return send("PUT", path, "application/json", json, json.length, null);
  }

  Map<String, Object> delete(String path) throws IOException {
    HttpURLConnection connection = open(path);
    connection.setRequestMethod("DELETE");
    try (InputStream in = answer(connection)) {
      return JSON.std.mapFrom(in);
    }
  }

  /** Ends a script that is being run; whatever comes of it. */
  void cancel(String id) {
    try {
      delete("/api/v1/sql/" + encode(id));
    } catch (IOException | Problem e) {
      return; // then it is over, or nobody is there to be told
    }
  }

  private Map<String, Object> send(
      String method, String path, String type, byte[] body, int length, String key)
      throws IOException {
    HttpURLConnection connection = open(path);
    connection.setRequestMethod(method);
    connection.setDoOutput(true);
    connection.setRequestProperty("Content-Type", type);
    if (key != null) {
      connection.setRequestProperty("Idempotency-Key", '"' + key + '"');
    }
    connection.setFixedLengthStreamingMode(length);
    try (OutputStream out = connection.getOutputStream()) {
      out.write(body, 0, length);
    } catch (ConnectException e) {
      throw new Problem(
          "no service answers at " + url,
          "start it with: drip up (or drip demo)",
          Problem.UNREACHABLE);
    }
    try (InputStream in = answer(connection)) {
      return JSON.std.mapFrom(in);
    }
  }

  /** Runs a script; one map a statement. */
  List<Map<String, Object>> sql(String script, Map<String, Object> args) throws IOException {
    return sql(script, args, UUID.randomUUID().toString());
  }

  /**
   * The same.
   *
   * @param id by which it can be cancelled
   */
  @SuppressWarnings("unchecked")
  List<Map<String, Object>> sql(String script, Map<String, Object> args, String id)
      throws IOException {
    byte[] body =
        JSON.std
            .asString(Map.of("sql", script, "args", args, "id", id))
            .getBytes(StandardCharsets.UTF_8);
    return (List<Map<String, Object>>)
        post("/api/v1/sql", "application/json", body, body.length).get("results");
  }
}
