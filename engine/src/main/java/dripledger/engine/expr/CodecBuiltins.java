package dripledger.engine.expr;

import dripledger.engine.row.ColumnType.Kind;
import java.nio.charset.StandardCharsets;
import java.security.MessageDigest;
import java.security.NoSuchAlgorithmException;
import java.util.Base64;
import java.util.HexFormat;

/** Hashes and encodings. All are strict and pure. */
public final class CodecBuiltins {
  private CodecBuiltins() {}

  private static byte[] hash(String algorithm, byte[] bytes) {
    try {
      return MessageDigest.getInstance(algorithm).digest(bytes);
    } catch (NoSuchAlgorithmException e) {
      throw new IllegalStateException("every Java has " + algorithm, e);
    }
  }

  @Kinds(value = Kind.VARBINARY, result = Kind.VARBINARY)
  public static byte[] sha256(byte[] bytes) {
    return hash("SHA-256", bytes);
  }

  @Kinds(value = Kind.VARBINARY, result = Kind.VARBINARY)
  public static byte[] sha512(byte[] bytes) {
    return hash("SHA-512", bytes);
  }

  /** Of the text in UTF-8. */
  @Kinds(value = Kind.VARCHAR, result = Kind.VARBINARY)
  public static byte[] sha256(String text) {
    return hash("SHA-256", text.getBytes(StandardCharsets.UTF_8));
  }

  /** Of the text in UTF-8. */
  @Kinds(value = Kind.VARCHAR, result = Kind.VARBINARY)
  public static byte[] sha512(String text) {
    return hash("SHA-512", text.getBytes(StandardCharsets.UTF_8));
  }

  @Kinds(
      value = {Kind.VARBINARY, Kind.VARCHAR},
      result = Kind.VARCHAR)
  public static String encode(byte[] bytes, String format) {
    return switch (format) {
      case "hex" -> HexFormat.of().formatHex(bytes);
      case "base64" -> Base64.getMimeEncoder(76, new byte[] {'\n'}).encodeToString(bytes);
      default -> throw new Casts.CastException("no encoding \"" + format + "\": hex, base64");
    };
  }

  @Kinds(
      value = {Kind.VARCHAR, Kind.VARCHAR},
      result = Kind.VARBINARY)
  public static byte[] decode(String text, String format) {
    try {
      return switch (format) {
        case "hex" -> HexFormat.of().parseHex(text);
        case "base64" -> Base64.getMimeDecoder().decode(text);
        default -> throw new Casts.CastException("no encoding \"" + format + "\": hex, base64");
      };
    } catch (IllegalArgumentException e) {
      throw new Casts.CastException("not " + format + ": " + text);
    }
  }
}
