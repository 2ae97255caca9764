package dripledger.server.access;

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
 * checked by. Stateless.
 */
public final class Scram {
  /** Of hashing; what RFC 7677 asks for. More is of no use for passwords that are random. */
  public static final int ROUNDS = 4096;

  private static final int SALT_BYTES = 16;
  private static final int KEY_BITS = 256;

  private Scram() {}

  /** What a password is checked by. */
  public record Keys(byte[] stored, byte[] server) {}

  public static Keys keys(String password, byte[] salt) {
    byte[] salted = salted(password, salt);
    return new Keys(sha256(hmac(salted, "Client Key")), hmac(salted, "Server Key"));
  }

  /** What a password is checked by in the form that PostgreSQL keeps; different each time. */
  public static String verifier(String password) {
    byte[] salt = new byte[SALT_BYTES];
    new SecureRandom().nextBytes(salt);
    Keys keys = keys(password, salt);
    Base64.Encoder base64 = Base64.getEncoder();
    return "SCRAM-SHA-256$"
        + ROUNDS
        + ":"
        + base64.encodeToString(salt)
        + "$"
        + base64.encodeToString(keys.stored)
        + ":"
        + base64.encodeToString(keys.server);
  }

  /**
   * Whether a client's proof is that of a password.
   *
   * @param messages what was said, as RFC 5802 puts it together
   */
  public static boolean proves(byte[] proof, Keys keys, String messages) {
    byte[] signature = hmac(keys.stored, messages);
    if (proof.length != signature.length) {
      return false;
    }
    byte[] client = new byte[proof.length];
    for (int i = 0; i < client.length; i++) {
      client[i] = (byte) (proof[i] ^ signature[i]);
    }
    return MessageDigest.isEqual(sha256(client), keys.stored);
  }

  private static byte[] salted(String password, byte[] salt) {
    try {
      return SecretKeyFactory.getInstance("PBKDF2WithHmacSHA256")
          .generateSecret(new PBEKeySpec(password.toCharArray(), salt, ROUNDS, KEY_BITS))
          .getEncoded();
    } catch (GeneralSecurityException e) {
      throw new IllegalStateException(e);
    }
  }

  public static byte[] hmac(byte[] key, String text) {
    try {
      Mac mac = Mac.getInstance("HmacSHA256");
      mac.init(new SecretKeySpec(key, "HmacSHA256"));
      return mac.doFinal(text.getBytes(StandardCharsets.UTF_8));
    } catch (GeneralSecurityException e) {
      throw new IllegalStateException(e);
    }
  }

  public static byte[] sha256(byte[] bytes) {
    try {
      return MessageDigest.getInstance("SHA-256").digest(bytes);
    } catch (GeneralSecurityException e) {
      throw new IllegalStateException(e);
    }
  }
}
