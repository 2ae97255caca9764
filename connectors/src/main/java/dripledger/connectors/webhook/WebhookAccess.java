package dripledger.connectors.webhook;

import dripledger.connectors.ConnectionOptions;
import dripledger.engine.catalog.Retention;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.io.IOException;
import java.net.InetSocketAddress;
import java.net.Socket;
import java.net.URI;
import java.nio.charset.StandardCharsets;
import java.security.GeneralSecurityException;
import java.security.MessageDigest;
import java.time.Duration;
import java.util.Base64;
import java.util.Map;
import java.util.Set;
import java.util.TreeMap;
import javax.crypto.Mac;
import javax.crypto.spec.SecretKeySpec;

/**
 * The options of an address, and how requests to it are signed: a digest of the body (RFC 9530) and
 * the batch's own key, under a secret that both sides know (RFC 9421, hmac-sha256). Stateless.
 */
final class WebhookAccess {
  private static final Set<String> OPTIONS = Set.of("url", "signing_key", "timeout");
  private static final int CONNECT_MILLIS = 5000;

  private final ConnectionOptions options;

  WebhookAccess(ConnectionOptions options) {
    this.options = options;
  }

  /** Checks the options and that somebody listens. */
  void check() {
    options.allowOnly(OPTIONS);
    if (options.get("signing_key") != null && !options.isSecret("signing_key")) {
      throw invalid(
          "option \"signing_key\" would keep a secret in plain text",
          "drip secret set NAME, then write signing_key SECRET NAME");
    }
    timeout();
    URI uri = uri();
    int port = uri.getPort() >= 0 ? uri.getPort() : uri.getScheme().equals("https") ? 443 : 80;
    try (Socket socket = new Socket()) {
      socket.connect(new InetSocketAddress(uri.getHost(), port), CONNECT_MILLIS);
    } catch (IOException e) {
      throw new EngineException(
          Code.FAILED,
          "nobody answers at " + uri.getHost() + ":" + port,
          "check option \"url\", and that it runs");
    }
  }

  private URI uri() {
    return options.webAddress("'http://127.0.0.1:9099/hook'");
  }

  /** The whole address of a delivery. */
  String address(String path) {
    String url = uri().toString();
    if (path.isEmpty()) {
      return url;
    }
    String base = url.endsWith("/") ? url.substring(0, url.length() - 1) : url;
    return base + (path.startsWith("/") ? path : "/" + path);
  }

  /** How long an answer is waited for. */
  Duration timeout() {
    String text = options.get("timeout", "10 seconds");
    try {
      return Duration.ofNanos(Retention.micros(text) * 1000);
    } catch (IllegalArgumentException e) {
      throw invalid("option \"timeout\": '" + text + "' is not a time", Retention.HINT);
    }
  }

  private static EngineException invalid(String message, String hint) {
    return new EngineException(Code.INVALID, message, hint);
  }

  /**
   * The headers that go with a body.
   *
   * @param key the same whenever this body is sent again
   * @param seconds since 1970
   */
  Map<String, String> headers(byte[] body, String key, long seconds) {
    Map<String, String> headers = new TreeMap<>();
    headers.put("Content-Type", "application/json");
    headers.put("Idempotency-Key", '"' + key + '"');
    try {
      byte[] digest = MessageDigest.getInstance("SHA-256").digest(body);
      String text = "sha-256=:" + Base64.getEncoder().encodeToString(digest) + ":";
      headers.put("Content-Digest", text);
      String secret = options.get("signing_key");
      if (secret != null) {
        String input =
            "(\"content-digest\" \"idempotency-key\");created=" + seconds + ";alg=\"hmac-sha256\"";
        String base =
            "\"content-digest\": "
                + text
                + "\n\"idempotency-key\": \""
                + key
                + "\"\n\"@signature-params\": "
                + input;
        Mac mac = Mac.getInstance("HmacSHA256");
        mac.init(new SecretKeySpec(secret.getBytes(StandardCharsets.UTF_8), "HmacSHA256"));
        byte[] signature = mac.doFinal(base.getBytes(StandardCharsets.UTF_8));
        headers.put("Signature-Input", "drip=" + input);
        headers.put("Signature", "drip=:" + Base64.getEncoder().encodeToString(signature) + ":");
      }
    } catch (GeneralSecurityException e) {
      throw new IllegalStateException("every Java has these", e);
    }
    return headers;
  }
}
