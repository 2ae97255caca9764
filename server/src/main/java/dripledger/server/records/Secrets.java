package dripledger.server.records;

import java.io.IOException;
import java.io.UncheckedIOException;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardOpenOption;
import java.nio.file.attribute.PosixFilePermissions;
import java.security.GeneralSecurityException;
import java.security.SecureRandom;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.util.ArrayList;
import java.util.HexFormat;
import java.util.List;
import javax.crypto.Cipher;
import javax.crypto.Mac;
import javax.crypto.spec.GCMParameterSpec;
import javax.crypto.spec.SecretKeySpec;
import javax.sql.DataSource;

/**
 * Named secrets, encrypted at rest (AES-256 in Galois/Counter mode, NIST SP 800-38D, a new nonce a
 * value, the name as associated data). The key is in a file of its own that only the service's user
 * may read, made at first use; the database alone tells nothing. A value can be set and used, never
 * shown. Thread-safe.
 */
public final class Secrets {
  private static final int KEY_BYTES = 32;
  private static final int NONCE_BYTES = 12;
  private static final int TAG_BITS = 128;

  private final DataSource dataSource;
  private final SecretKeySpec key;
  private final SecureRandom random = new SecureRandom();

  public Secrets(DataSource dataSource, Path keyFile) {
    this.dataSource = dataSource;
    key = new SecretKeySpec(key(keyFile), "AES");
  }

  private static byte[] key(Path file) {
    try {
      if (!Files.exists(file)) {
        byte[] fresh = new byte[KEY_BYTES];
        new SecureRandom().nextBytes(fresh);
        if (file.toAbsolutePath().getParent() != null) {
          Files.createDirectories(file.toAbsolutePath().getParent());
        }
        Files.createFile(
            file,
            PosixFilePermissions.asFileAttribute(PosixFilePermissions.fromString("rw-------")));
        Files.writeString(
            file, HexFormat.of().formatHex(fresh), StandardOpenOption.TRUNCATE_EXISTING);
      }
      byte[] read = HexFormat.of().parseHex(Files.readString(file).strip());
      if (read.length != KEY_BYTES) {
        throw new IllegalStateException("the key in " + file + " is damaged");
      }
      return read;
    } catch (IOException e) {
      throw new UncheckedIOException("the key file of the secrets cannot be used: " + file, e);
    }
  }

  /**
   * A key that is always the same as long as the key file is, and tells nothing of it.
   *
   * @param purpose each has its own
   */
  public byte[] derived(String purpose) {
    try {
      Mac mac = Mac.getInstance("HmacSHA256");
      mac.init(new SecretKeySpec(key.getEncoded(), "HmacSHA256"));
      return mac.doFinal(purpose.getBytes(StandardCharsets.UTF_8));
    } catch (GeneralSecurityException e) {
      throw new IllegalStateException("every Java has HmacSHA256", e);
    }
  }

  /** Sets or replaces a secret. */
  public void set(String name, String value) {
    byte[] nonce = new byte[NONCE_BYTES];
    random.nextBytes(nonce);
    try (Connection c = dataSource.getConnection();
        PreparedStatement s =
            c.prepareStatement(
                "INSERT INTO secret (name, nonce, sealed, set_at) VALUES (?, ?, ?, now())"
                    + " ON CONFLICT (name) DO UPDATE SET nonce = excluded.nonce,"
                    + " sealed = excluded.sealed, set_at = now()")) {
      s.setString(1, name);
      s.setBytes(2, nonce);
      s.setBytes(
          3,
          cipher(Cipher.ENCRYPT_MODE, name, nonce).doFinal(value.getBytes(StandardCharsets.UTF_8)));
      s.executeUpdate();
    } catch (SQLException e) {
      throw new RecordsException("the secret cannot be stored", e);
    } catch (GeneralSecurityException e) {
      throw new IllegalStateException(e);
    }
  }

  private Cipher cipher(int mode, String name, byte[] nonce) throws GeneralSecurityException {
    Cipher cipher = Cipher.getInstance("AES/GCM/NoPadding");
    cipher.init(mode, key, new GCMParameterSpec(TAG_BITS, nonce));
    cipher.updateAAD(name.getBytes(StandardCharsets.UTF_8));
    return cipher;
  }

  /** The value of a secret, or null; for connectors only. */
  public String value(String name) {
    try (Connection c = dataSource.getConnection();
        PreparedStatement s =
            c.prepareStatement("SELECT nonce, sealed FROM secret WHERE name = ?")) {
      s.setString(1, name);
      try (ResultSet r = s.executeQuery()) {
        if (!r.next()) {
          return null;
        }
        byte[] opened = cipher(Cipher.DECRYPT_MODE, name, r.getBytes(1)).doFinal(r.getBytes(2));
        return new String(opened, StandardCharsets.UTF_8);
      }
    } catch (SQLException e) {
      throw new RecordsException("the secret cannot be read", e);
    } catch (GeneralSecurityException e) {
      throw new IllegalStateException(
          "secret \"" + name + "\" was sealed with another key; set it again", e);
    }
  }

  /** The names of all secrets. */
  public List<String> names() {
    List<String> names = new ArrayList<>();
    try (Connection c = dataSource.getConnection();
        PreparedStatement s = c.prepareStatement("SELECT name FROM secret ORDER BY name");
        ResultSet r = s.executeQuery()) {
      while (r.next()) {
        names.add(r.getString(1));
      }
    } catch (SQLException e) {
      throw new RecordsException("secrets cannot be listed", e);
    }
    return names;
  }

  /** Forgets a secret; answers whether it was there. */
  public boolean remove(String name) {
    try (Connection c = dataSource.getConnection();
        PreparedStatement s = c.prepareStatement("DELETE FROM secret WHERE name = ?")) {
      s.setString(1, name);
      return s.executeUpdate() > 0;
    } catch (SQLException e) {
      throw new RecordsException("the secret cannot be removed", e);
    }
  }
}
