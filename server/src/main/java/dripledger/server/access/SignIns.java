package dripledger.server.access;

import dripledger.server.records.PostgresAccess.Kept;
import java.nio.charset.StandardCharsets;
import java.security.SecureRandom;
import java.time.Duration;
import java.time.Instant;
import java.util.Base64;
import java.util.HexFormat;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;

/**
 * Who has signed in with a browser. Kept in memory only: whoever signed in does so again after a
 * restart, and is out as soon as the token is no longer good. Safe from any thread.
 */
public final class SignIns {
  /** How long one lasts. */
  public static final Duration LASTS = Duration.ofHours(12);

  private static final int RANDOM_BYTES = 32;
  private static final int MOST = 10_000;

  private final Tokens tokens;
  private final SecureRandom random = new SecureRandom();
  private final Map<String, SignIn> open = new ConcurrentHashMap<>();

  private record SignIn(Kept token, Instant until) {}

  public SignIns(Tokens tokens) {
    this.tokens = tokens;
    tokens.onChange(() -> open.values().removeIf(s -> !tokens.isGood(s.token.id())));
  }

  private static String key(String id) {
    return HexFormat.of().formatHex(Scram.sha256(id.getBytes(StandardCharsets.UTF_8)));
  }

  /** Begins one; answers what the browser shows from now on. */
  public String begin(Kept token) {
    Instant now = Instant.now();
    open.values().removeIf(s -> now.isAfter(s.until));
    if (open.size() >= MOST) {
      open.clear(); // rather than to fill memory
    }
    byte[] bytes = new byte[RANDOM_BYTES];
    random.nextBytes(bytes);
    String id = Base64.getUrlEncoder().withoutPadding().encodeToString(bytes);
    open.put(key(id), new SignIn(token, now.plus(LASTS)));
    return id;
  }

  /** The token that was signed in with; null if that is over. */
  public Kept find(String id) {
    SignIn found = open.get(key(id));
    return found != null && Instant.now().isBefore(found.until) && tokens.isGood(found.token.id())
        ? found.token
        : null;
  }

  /** Ends one. */
  public void end(String id) {
    open.remove(key(id));
  }
}
