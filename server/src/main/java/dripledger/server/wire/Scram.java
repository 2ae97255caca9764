package dripledger.server.wire;

import java.nio.charset.StandardCharsets;
import java.security.GeneralSecurityException;
import java.security.MessageDigest;
import java.security.SecureRandom;
import java.util.Base64;
import javax.crypto.Mac;
import javax.crypto.SecretKeyFactory;
import javax.crypto.spec.PBEKeySpec;
import javax.crypto.spec.SecretKeySpec;

/**
 * The parts of SCRAM-SHA-256 (RFC 5802, RFC 7677): passwords are kept only as what they can be
 * checked by, in the form that PostgreSQL keeps them in. Stateless.
 */
final class Scram {
  private static final int ROUNDS = 4096;
  private static final int SALT_BYTES = 16;
  private static final int KEY_BITS = 256;

  private Scram() {}

  /** What a password is checked by; different each time. */
  static String verifier(String password) {
    byte[] salt = new byte[SALT_BYTES];
    new SecureRandom().nextBytes(salt);
    byte[] salted = salted(password, salt, ROUNDS);
    Base64.Encoder base64 = Base64.getEncoder();
    return "SCRAM-SHA-256$"
        + ROUNDS
        + ":"
        + base64.encodeToString(salt)
        + "$"
        + base64.encodeToString(sha256(hmac(salted, "Client Key")))
        + ":"
        + base64.encodeToString(hmac(salted, "Server Key"));
  }

  private static byte[] salted(String password, byte[] salt, int rounds) {
    try {
      return SecretKeyFactory.getInstance("PBKDF2WithHmacSHA256")
          .generateSecret(new PBEKeySpec(password.toCharArray(), salt, rounds, KEY_BITS))
          .getEncoded();
    } catch (GeneralSecurityException e) {
      throw new IllegalStateException(e);
    }
  }

  static byte[] hmac(byte[] key, String text) {
    try {
      Mac mac = Mac.getInstance("HmacSHA256");
      mac.init(new SecretKeySpec(key, "HmacSHA256"));
      return mac.doFinal(text.getBytes(StandardCharsets.UTF_8));
    } catch (GeneralSecurityException e) {
      throw new IllegalStateException(e);
    }
  }

  static byte[] sha256(byte[] bytes) {
    try {
      return MessageDigest.getInstance("SHA-256").digest(bytes);
    } catch (GeneralSecurityException e) {
      throw new IllegalStateException(e);
    }
  }
}
