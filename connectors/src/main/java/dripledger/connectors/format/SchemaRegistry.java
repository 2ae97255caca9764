package dripledger.connectors.format;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.io.IOException;
import java.io.InputStream;
import java.io.OutputStream;
import java.net.HttpURLConnection;
import java.net.URI;
import java.net.URLEncoder;
import java.nio.charset.StandardCharsets;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.TimeUnit;
import org.apache.avro.AvroRuntimeException;
import org.apache.avro.Schema;
import tools.jackson.databind.json.JsonMapper;

/**
 * Schemas by number, from a registry's common HTTP interface ({@code GET /schemas/ids/N}, {@code
 * GET /subjects/NAME/versions/latest}, and to add one {@code POST /subjects/NAME/versions}). A
 * schema with a number never changes, so each is asked for once; for one that is not there, which
 * may come, it is asked again after a while. Safe from any thread.
 */
final class SchemaRegistry {
  private static final int TIMEOUT_MILLIS = 5000;
  private static final int MOST_BYTES = 4 << 20; // of an answer
  private static final int MOST_UNKNOWN = 10_000;
  private static final long ASK_AGAIN_NANOS = TimeUnit.SECONDS.toNanos(10);
  private static final JsonMapper JSON = JsonMapper.builder().build();

  private final String url;
  private final RegistryLogin login;
  private final Map<Integer, Schema> byNumber = new ConcurrentHashMap<>();
  private final Map<Integer, Long> unknown = new ConcurrentHashMap<>(); // when it was asked for

  SchemaRegistry(String url, RegistryLogin login) {
    this.login = login;
    this.url = url.endsWith("/") ? url.substring(0, url.length() - 1) : url;
  }

  /**
   * The schema of a number.
   *
   * @throws FormatException if the registry has no schema of this number, or one that is not Avro:
   *     the message cannot be read, others can
   * @throws EngineException if the registry does not answer as it should: nothing can be read then
   */
  Schema byNumber(int number) {
    Schema known = byNumber.get(number);
    if (known != null) {
      return known;
    }
    Long asked = unknown.get(number);
    if (asked == null || System.nanoTime() - asked > ASK_AGAIN_NANOS) {
      Map<?, ?> answer = get("/schemas/ids/" + number);
      if (answer != null) {
        unknown.remove(number);
        known = parse(answer.get("schema"));
        byNumber.put(number, known);
        return known;
      }
      if (unknown.size() > MOST_UNKNOWN) {
        unknown.clear();
      }
      unknown.put(number, System.nanoTime());
    }
    throw new FormatException("the schema registry has no schema of number " + number);
  }

  /** The newest schema of a topic's values. */
  Schema latest(String topic) {
    String subject = URLEncoder.encode(topic + "-value", StandardCharsets.UTF_8);
    String path = "/subjects/" + subject + "/versions/latest";
    Map<?, ?> answer = get(path);
    if (answer == null) {
      throw status(path, HttpURLConnection.HTTP_NOT_FOUND, "is the schema registered there?");
    }
    return parse(answer.get("schema"));
  }

  /**
   * Registers a schema as the newest of a subject, unless it is there already.
   *
   * @return its number
   * @throws EngineException (INVALID) if those who read what was written before could not read it
   */
  int register(String subject, Schema schema) {
    String name = URLEncoder.encode(subject, StandardCharsets.UTF_8);
    Map<String, Object> body = Map.of("schema", schema.toString());
    Map<?, ?> fits =
        call("/compatibility/subjects/" + name + "/versions/latest?verbose=true", body);
    if (fits != null && Boolean.FALSE.equals(fits.get("is_compatible"))) {
      throw new EngineException(
          Code.INVALID,
          "the schema would break those who read \""
              + subject
              + "\""
              + (fits.get("messages") == null ? "" : ": " + fits.get("messages")),
          "new columns must be able to be NULL, and none may go; or deliver to another topic");
    }
    String path = "/subjects/" + name + "/versions";
    Map<?, ?> answer = call(path, body);
    if (answer == null || !(answer.get("id") instanceof Number id)) {
      throw status(path, HttpURLConnection.HTTP_NOT_FOUND, "may schemas be registered there?");
    }
    return id.intValue();
  }

  private static Schema parse(Object text) {
    try {
      return new Schema.Parser().parse(String.valueOf(text));
    } catch (AvroRuntimeException e) {
      throw new FormatException("the schema registry's schema is not Avro: " + e.getMessage());
    }
  }

  private static EngineException status(String path, int status, String hint) {
    return new EngineException(
        Code.FAILED, "the schema registry answers " + path + " with status " + status, hint);
  }

  private Map<?, ?> get(String path) {
    return call(path, null);
  }

  /**
   * The answer, or null if there is no such thing.
   *
   * @param body to post, or null to get
   */
  private Map<?, ?> call(String path, Map<String, Object> body) {
    try {
      HttpURLConnection connection =
          (HttpURLConnection) URI.create(url + path).toURL().openConnection();
      connection.setConnectTimeout(TIMEOUT_MILLIS);
      connection.setReadTimeout(TIMEOUT_MILLIS);
      connection.setInstanceFollowRedirects(false); // to where nobody has allowed it to go
      if (login.authorization() != null) {
        connection.setRequestProperty("Authorization", login.authorization());
      }
      if (body != null) {
        connection.setDoOutput(true);
        connection.setRequestProperty("Content-Type", "application/json");
        try (OutputStream out = connection.getOutputStream()) {
          out.write(JSON.writeValueAsBytes(body));
        }
      }
      int status = connection.getResponseCode();
      if (status == HttpURLConnection.HTTP_NOT_FOUND) {
        return null;
      }
      if (status == HttpURLConnection.HTTP_UNAUTHORIZED
          || status == HttpURLConnection.HTTP_FORBIDDEN) {
        throw status(
            path,
            status,
            "the connection's options registry_user and registry_password, or registry_token, say who asks");
      }
      if (status != HttpURLConnection.HTTP_OK) {
        throw status(path, status, "look at the registry's log");
      }
      try (InputStream in = connection.getInputStream()) {
        byte[] answer = in.readNBytes(MOST_BYTES + 1);
        if (answer.length > MOST_BYTES) {
          throw new EngineException(
              Code.FAILED, "the schema registry answers with more than 4 MB", null);
        }
        return JSON.readValue(answer, Map.class);
      }
    } catch (IOException e) {
      throw new EngineException(
          Code.FAILED,
          "the schema registry cannot be reached: " + e.getMessage(),
          "check option \"registry\", and that it runs");
    }
  }
}
