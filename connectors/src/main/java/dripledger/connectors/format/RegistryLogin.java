package dripledger.connectors.format;

import java.nio.charset.StandardCharsets;
import java.util.Base64;

/** As who a schema registry is asked. Immutable; what it holds is never printed. */
public final class RegistryLogin {
  /** As nobody. */
  public static final RegistryLogin NONE = new RegistryLogin(null);

  private final String authorization;

  private RegistryLogin(String authorization) {
    this.authorization = authorization;
  }

  /** By a name and its password. */
  public static RegistryLogin basic(String user, String password) {
    byte[] pair = (user + ":" + password).getBytes(StandardCharsets.UTF_8);
    return new RegistryLogin("Basic " + Base64.getEncoder().encodeToString(pair));
  }

  /** By a token. */
  public static RegistryLogin bearer(String token) {
    return new RegistryLogin("Bearer " + token);
  }

  /** The value of the Authorization header; null for none. */
  String authorization() {
    return authorization;
  }
}
