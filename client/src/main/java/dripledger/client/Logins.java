package dripledger.client;

import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardCopyOption;
import java.nio.file.attribute.PosixFilePermission;
import java.nio.file.attribute.PosixFilePermissions;
import java.util.LinkedHashMap;
import java.util.Map;
import java.util.Set;
import tools.jackson.jr.ob.JSON;

/**
 * The tokens that this user has logged in with, one a service, in a file that nobody else can read:
 * {@code DRIP_LOGINS}, else {@code ~/.config/drip-ledger/logins.json}. Not thread-safe.
 */
final class Logins {
  private static final Set<PosixFilePermission> OWN = PosixFilePermissions.fromString("rw-------");

  private final Path file;

  /**
   * How to come to a service.
   *
   * @param authority a PEM file with what its certificate rests on; null for what this machine
   *     trusts
   */
  record Login(String token, String authority) {}

  Logins() {
    String set = System.getenv("DRIP_LOGINS");
    String config = System.getenv("XDG_CONFIG_HOME");
    Path folder =
        config != null && !config.isEmpty()
            ? Path.of(config)
            : Path.of(System.getProperty("user.home"), ".config");
    file = set != null ? Path.of(set) : folder.resolve("drip-ledger").resolve("logins.json");
  }

  /** The login for a service; null if there is none. */
  Login find(String url) throws IOException {
    String token = System.getenv("DRIP_TOKEN");
    Object known = Files.exists(file) ? read().get(url) : null;
    Object kept = known instanceof Map<?, ?> m ? m.get("token") : null;
    Object authority = known instanceof Map<?, ?> m ? m.get("authority") : null;
    String found = token != null ? token : (String) kept;
    return found == null && authority == null ? null : new Login(found, (String) authority);
  }

  private Map<String, Object> read() throws IOException {
    if (!Files.getPosixFilePermissions(file).equals(OWN)) {
      throw new Problem(
          file + " can be read by others, and tokens are in it",
          "chmod 600 " + file + "; if somebody may have read it, drip token rotate",
          1);
    }
    return JSON.std.mapFrom(Files.readString(file));
  }

  /** Keeps a login; null forgets it. */
  void keep(String url, Login login) throws IOException {
    Map<String, Object> all = new LinkedHashMap<>(Files.exists(file) ? read() : Map.of());
    if (login == null) {
      all.remove(url);
    } else {
      Map<String, Object> kept = new LinkedHashMap<>();
      kept.put("token", login.token());
      if (login.authority() != null) {
        kept.put("authority", login.authority());
      }
      all.put(url, kept);
    }
    Files.createDirectories(file.toAbsolutePath().getParent());
    Path made = privately(file.resolveSibling(file.getFileName() + ".new"));
    Files.writeString(made, JSON.std.asString(all) + "\n");
    Files.move(made, file, StandardCopyOption.REPLACE_EXISTING, StandardCopyOption.ATOMIC_MOVE);
  }

  Path file() {
    return file;
  }

  /** A new, empty file that nobody else can read. */
  static Path privately(Path path) throws IOException {
    Files.deleteIfExists(path);
    return Files.createFile(path, PosixFilePermissions.asFileAttribute(OWN));
  }
}
