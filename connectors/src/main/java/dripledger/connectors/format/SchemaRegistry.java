package dripledger.connectors.format;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.io.IOException;
import java.io.InputStream;
import java.net.HttpURLConnection;
import java.net.URI;
import java.net.URLEncoder;
import java.nio.charset.StandardCharsets;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import org.apache.avro.Schema;
import tools.jackson.databind.json.JsonMapper;

/**
 * Schemas by number, from a registry's common HTTP interface ({@code GET /schemas/ids/N}, {@code
 * GET /subjects/NAME/versions/latest}). A schema with a number never changes, so each is asked for
 * once. Safe from any thread.
 */
final class SchemaRegistry {
  private static final int TIMEOUT_MILLIS = 5000;
  private static final JsonMapper JSON = JsonMapper.builder().build();

  private final String url;
  private final Map<Integer, Schema> byNumber = new ConcurrentHashMap<>();

  SchemaRegistry(String url) {
    this.url = url.endsWith("/") ? url.substring(0, url.length() - 1) : url;
  }

  Schema byNumber(int number) {
    Schema known = byNumber.get(number);
    if (known == null) {
      known = parse(get("/schemas/ids/" + number).get("schema"));
      byNumber.put(number, known);
    }
    return known;
  }

  /** The newest schema of a topic's values. */
  Schema latest(String topic) {
    String subject = URLEncoder.encode(topic + "-value", StandardCharsets.UTF_8);
    return parse(get("/subjects/" + subject + "/versions/latest").get("schema"));
  }

  private static Schema parse(Object text) {
    return new Schema.Parser().parse(String.valueOf(text));
  }

  private Map<?, ?> get(String path) {
    try {
      HttpURLConnection connection =
          (HttpURLConnection) URI.create(url + path).toURL().openConnection();
      connection.setConnectTimeout(TIMEOUT_MILLIS);
      connection.setReadTimeout(TIMEOUT_MILLIS);
      int status = connection.getResponseCode();
      if (status != 200) {
        throw new EngineException(
            Code.FAILED,
            "the schema registry answers " + path + " with status " + status,
            status == 404 ? "is the schema registered there?" : "look at the registry's log");
      }
      try (InputStream in = connection.getInputStream()) {
        return JSON.readValue(in, Map.class);
      }
    } catch (IOException e) {
      throw new EngineException(
          Code.FAILED,
          "the schema registry cannot be reached: " + e.getMessage(),
          "check option \"registry\", and that it runs");
    }
  }
}
