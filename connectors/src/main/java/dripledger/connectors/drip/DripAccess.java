package dripledger.connectors.drip;

import dripledger.connectors.ConnectionOptions;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Column;
import java.io.IOException;
import java.io.InputStream;
import java.io.OutputStream;
import java.net.HttpURLConnection;
import java.net.URI;
import java.net.URLEncoder;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Set;
import tools.jackson.core.JacksonException;
import tools.jackson.databind.json.JsonMapper;

/** Calls of another service. Stateless. */
final class DripAccess {
  private static final JsonMapper JSON = JsonMapper.builder().build();
  private static final int CONNECT_MILLIS = 5000;

  /** Longer than the other is ever silent. */
  private static final int SILENCE_MILLIS = 20_000;

  private static final int MOST_BYTES = 64 << 20; // of an answer

  private final ConnectionOptions options;

  DripAccess(ConnectionOptions options) {
    this.options = options;
  }

  String name() {
    return options.name();
  }

  /**
   * A relation there.
   *
   * @param key names of columns; empty if it has none
   */
  record Relation(String name, String kind, List<Column> columns, List<String> key, long rows) {
    /** What stands in the way of following it as a table, or null. */
    String obstacle() {
      return key.isEmpty() ? "it has no key, so its rows cannot be told apart" : null;
    }
  }

  /** Checks the options, and that one of ours answers. */
  void check() {
    options.allowOnly(Set.of("url", "token"));
    if (options.get("token") != null && !options.isSecret("token")) {
      throw new EngineException(
          Code.INVALID,
          "option \"token\" would keep a secret in plain text",
          "drip secret set NAME, then write token SECRET NAME");
    }
    relations();
  }

  private String url() {
    String url = options.webAddress("'http://127.0.0.1:7171'").toString();
    return url.endsWith("/") ? url.substring(0, url.length() - 1) : url;
  }

  private HttpURLConnection open(String path) throws IOException {
    HttpURLConnection connection =
        (HttpURLConnection) URI.create(url() + path).toURL().openConnection();
    connection.setConnectTimeout(CONNECT_MILLIS);
    connection.setReadTimeout(SILENCE_MILLIS);
    connection.setInstanceFollowRedirects(false);
    if (options.get("token") != null) {
      connection.setRequestProperty("Authorization", "Bearer " + options.get("token"));
    }
    return connection;
  }

  private Map<?, ?> json(HttpURLConnection connection) throws IOException {
    try (InputStream in = good(connection)) {
      byte[] body = in.readNBytes(MOST_BYTES);
      return JSON.readValue(body, Map.class);
    } catch (JacksonException e) {
      throw notOurs();
    }
  }

  private InputStream good(HttpURLConnection connection) throws IOException {
    if (connection.getResponseCode() < 400) {
      return connection.getInputStream();
    }
    String reason = "status " + connection.getResponseCode();
    try (InputStream error = connection.getErrorStream()) {
      if (error != null
          && JSON.readValue(error.readNBytes(1 << 16), Map.class).get("detail")
              instanceof String s) {
        reason = s;
      }
    } catch (JacksonException e) {
      throw notOurs();
    }
    throw new EngineException(Code.FAILED, "the other service: " + reason, null);
  }

  private EngineException notOurs() {
    return new EngineException(
        Code.FAILED, "what answers at " + url() + " is no Drip Ledger", "check option \"url\"");
  }

  EngineException failure(IOException e) {
    return new EngineException(
        Code.FAILED,
        "the other service cannot be reached: " + e.getMessage(),
        "check option \"url\", and that it runs");
  }

  /** What there is to follow, tables and materialized views. */
  List<Relation> relations() {
    try {
      if (!(json(open("/api/v1/objects")).get("objects") instanceof List<?> objects)) {
        throw notOurs();
      }
      List<Relation> relations = new ArrayList<>();
      for (Object each : objects) {
        Map<?, ?> object = (Map<?, ?>) each;
        if (Set.of("table", "materialized view").contains(object.get("kind"))) {
          relations.add(relation(object));
        }
      }
      return relations;
    } catch (IOException e) {
      throw failure(e);
    }
  }

  private static Relation relation(Map<?, ?> object) {
    List<Column> columns = new ArrayList<>();
    for (Object each : (List<?>) object.get("columns")) {
      Map<?, ?> column = (Map<?, ?>) each;
      columns.add(
          new Column(
              (String) column.get("name"),
              TypeText.parse((String) column.get("type"))
                  .withNullable((Boolean) column.get("nullable"))));
    }
    List<String> key = new ArrayList<>();
    if (object.get("key") instanceof List<?> names) {
      names.forEach(name -> key.add((String) name));
    }
    long rows = object.get("rows") instanceof Number n ? n.longValue() : -1;
    return new Relation(
        (String) object.get("name"), (String) object.get("kind"), columns, key, rows);
  }

  /** A relation of a name. */
  Relation relation(String name) {
    List<Relation> all = relations();
    return all.stream()
        .filter(r -> r.name().equals(name))
        .findFirst()
        .orElseThrow(
            () ->
                new EngineException(
                    Code.NOT_FOUND,
                    "option \"view\": there is no table or materialized view \""
                        + name
                        + "\" there",
                    "there are " + String.join(", ", all.stream().map(Relation::name).toList())));
  }

  private static String query(String name) {
    return "SELECT * FROM \"" + name.replace("\"", "\"\"") + "\"";
  }

  /** Some rows, each a JSON object. */
  List<byte[]> rows(Relation relation, int count) {
    try {
      HttpURLConnection connection = open("/api/v1/sql");
      connection.setDoOutput(true);
      connection.setRequestProperty("Content-Type", "application/json");
      try (OutputStream out = connection.getOutputStream()) {
        String sql = query(relation.name()) + " LIMIT " + count;
        out.write(JSON.writeValueAsBytes(Map.of("sql", sql)));
      }
      Map<?, ?> result = (Map<?, ?>) ((List<?>) json(connection).get("results")).get(0);
      List<byte[]> rows = new ArrayList<>();
      for (Object row : (List<?>) result.get("rows")) {
        Map<String, Object> object = new java.util.LinkedHashMap<>();
        for (int i = 0; i < relation.columns().size(); i++) {
          object.put(relation.columns().get(i).name(), ((List<?>) row).get(i));
        }
        rows.add(JSON.writeValueAsBytes(object));
      }
      return rows;
    } catch (IOException e) {
      throw failure(e);
    }
  }

  /**
   * The rows there are, then what changes, as server-sent events.
   *
   * @param last the id of the last event that was taken, to go on behind it; or null
   */
  InputStream follow(String name, String last) throws IOException {
    HttpURLConnection connection =
        open("/api/v1/follow?sql=" + URLEncoder.encode(query(name), StandardCharsets.UTF_8));
    connection.setRequestProperty("Accept", "text/event-stream");
    if (last != null) {
      connection.setRequestProperty("Last-Event-ID", last);
    }
    return good(connection);
  }
}
