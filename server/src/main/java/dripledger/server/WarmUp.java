package dripledger.server;

import dripledger.engine.Engine;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.query.Result;
import dripledger.engine.view.RelationVersion;
import dripledger.server.access.Tls;
import dripledger.server.access.Tokens;
import java.io.IOException;
import java.io.InputStream;
import java.io.OutputStream;
import java.net.HttpURLConnection;
import java.net.Proxy;
import java.net.URI;
import java.security.GeneralSecurityException;
import java.time.Duration;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.TimeUnit;
import javax.net.ssl.HttpsURLConnection;
import javax.net.ssl.SSLSocketFactory;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import org.springframework.boot.context.event.ApplicationReadyEvent;
import org.springframework.context.event.EventListener;
import org.springframework.stereotype.Component;
import org.springframework.web.util.UriComponentsBuilder;
import tools.jackson.databind.json.JsonMapper;

/**
 * Asks the service what users will ask it, so that the first of them does not wait for classes to
 * be loaded and compiled: a statement, then look-ups by key over HTTP and in SQL, one after the
 * other, for a bounded time. Asks only for what is there and changes nothing.
 */
@Component
class WarmUp {
  private static final Logger LOG = LoggerFactory.getLogger(WarmUp.class);
  private static final int MOST_RELATIONS = 4;
  private static final int PATIENCE_MILLIS = 10_000;

  private final Engine engine;
  private final Settings settings;
  private final JsonMapper mapper;
  private final Tls tls;
  private final String token;
  private SSLSocketFactory own;

  WarmUp(Engine engine, Settings settings, JsonMapper mapper, Tokens tokens, Tls tls) {
    this.tls = tls;
    token = tokens.passing(Duration.ofMillis(settings.warmUpMillis() + PATIENCE_MILLIS));
    this.engine = engine;
    this.settings = settings;
    this.mapper = mapper;
  }

  @EventListener
  void ready(ApplicationReadyEvent event) {
    String port = event.getApplicationContext().getEnvironment().getProperty("local.server.port");
    Thread thread =
        new Thread(() -> run((tls.isOn() ? "https" : "http") + "://127.0.0.1:" + port), "warm-up");
    thread.setDaemon(true);
    thread.start();
  }

  private void run(String base) {
    try {
      // The first statement loads the SQL library, which takes seconds.
      engine.execute("SELECT UPPER(a) AS b, COUNT(*) AS n FROM (VALUES ('x')) AS t (a) GROUP BY a");
      LOG.debug("asked {} times to warm up", ask(base, settings.warmUpMillis()));
    } catch (RuntimeException e) {
      LOG.debug("the warm-up ended early", e); // such as that the service is shutting down
    }
  }

  /** Asks over and over for a time; answers how often there was an answer. */
  long ask(String base, long millis) {
    List<Request> requests = requests(base);
    long end = System.nanoTime() + TimeUnit.MILLISECONDS.toNanos(millis);
    long answered = 0;
    while (!requests.isEmpty() && System.nanoTime() < end) {
      for (Request request : List.copyOf(requests)) {
        try {
          request.ask();
          answered++;
        } catch (IOException e) {
          LOG.debug("{} is not asked for again", request.uri, e); // a row that went, for one
          requests.remove(request);
        }
      }
    }
    return answered;
  }

  /** A look-up and a statement for a row of each of a few relations that have rows. */
  private List<Request> requests(String base) {
    List<Request> requests = new ArrayList<>();
    for (CatalogObject object : engine.catalog().all()) {
      RelationVersion rows = engine.snapshot().relations().get(object.id());
      if (rows == null || rows.key().length != 1 || requests.size() == 2 * MOST_RELATIONS) {
        continue;
      }
      String column = rows.schema().column(rows.key()[0]).name();
      Object key = anyKey(object.name(), column);
      if (key != null) {
        requests.add(lookUp(base, object.name(), key));
        requests.add(statement(base, object.name(), column, key));
      }
    }
    return requests;
  }

  /** The key of a row, if it is a number or text. */
  private Object anyKey(String name, String column) {
    String sql = "SELECT " + quoted(column) + " FROM " + quoted(name) + " LIMIT 1";
    List<Object[]> rows = ((Result.Rows) engine.execute(sql).get(0)).rows();
    Object key = rows.isEmpty() ? null : rows.get(0)[0];
    return key instanceof Long || key instanceof String ? key : null;
  }

  /** For connections to itself; null if they are not encrypted. */
  private synchronized SSLSocketFactory own() {
    try {
      if (own == null && tls.isOn()) {
        own = tls.toItself().getSocketFactory();
      }
      return own;
    } catch (GeneralSecurityException | IOException e) {
      throw new IllegalStateException(e);
    }
  }

  private Request lookUp(String base, String name, Object key) {
    URI uri =
        UriComponentsBuilder.fromUriString(base)
            .pathSegment("api", "v1", "views", name, "rows", key.toString())
            .build()
            .encode()
            .toUri();
    return new Request(uri, null, token, own());
  }

  private Request statement(String base, String name, String column, Object key) {
    String sql = "SELECT * FROM " + quoted(name) + " WHERE " + quoted(column) + " = :key";
    byte[] body = mapper.writeValueAsBytes(Map.of("sql", sql, "args", Map.of("key", key)));
    return new Request(URI.create(base + "/api/v1/sql"), body, token, own());
  }

  /** A request; with a body it is a POST. */
  private record Request(URI uri, byte[] body, String token, SSLSocketFactory own) {
    void ask() throws IOException {
      HttpURLConnection connection = (HttpURLConnection) uri.toURL().openConnection(Proxy.NO_PROXY);
      connection.setRequestProperty("Authorization", "Bearer " + token);
      if (connection instanceof HttpsURLConnection encrypted) {
        encrypted.setSSLSocketFactory(own);
        encrypted.setHostnameVerifier((host, session) -> true); // whose certificate it is
      }
      connection.setConnectTimeout(PATIENCE_MILLIS);
      connection.setReadTimeout(PATIENCE_MILLIS);
      if (body != null) {
        connection.setDoOutput(true);
        connection.setRequestProperty("Content-Type", "application/json");
        connection.setFixedLengthStreamingMode(body.length);
        try (OutputStream out = connection.getOutputStream()) {
          out.write(body);
        }
      }
      try (InputStream in = connection.getInputStream()) {
        in.readAllBytes(); // so that the connection is used again
      }
    }
  }

  private static String quoted(String name) {
    return '"' + name.replace("\"", "\"\"") + '"';
  }
}
