package dripledger.client;

import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.LinkOption;
import java.nio.file.Path;
import java.nio.file.attribute.FileOwnerAttributeView;
import java.nio.file.attribute.UserPrincipal;
import java.nio.file.attribute.UserPrincipalNotFoundException;
import java.util.List;
import java.util.stream.Stream;

/** The user that the service runs as when root starts it: one that owns nothing else. Stateless. */
final class ServiceUser {
  private static final String NAME = "drip-ledger";

  private ServiceUser() {}

  /** What to put before a command, so that it runs as this user. */
  static List<String> as() {
    return List.of("setpriv", "--reuid=" + NAME, "--regid=" + NAME, "--clear-groups");
  }

  /** Gives this user a folder and all that is in it; makes the user if it is not there. */
  static void own(Path folder) throws IOException, InterruptedException {
    UserPrincipal user = user(folder);
    try (Stream<Path> files = Files.walk(folder)) {
      for (Path file : files.toList()) {
        Files.getFileAttributeView(file, FileOwnerAttributeView.class, LinkOption.NOFOLLOW_LINKS)
            .setOwner(user);
      }
    }
  }

  private static UserPrincipal user(Path near) throws IOException, InterruptedException {
    try {
      return near.getFileSystem().getUserPrincipalLookupService().lookupPrincipalByName(NAME);
    } catch (UserPrincipalNotFoundException e) {
      make();
      return near.getFileSystem().getUserPrincipalLookupService().lookupPrincipalByName(NAME);
    }
  }

  private static void make() throws IOException, InterruptedException {
    int made =
        new ProcessBuilder(
                "useradd",
                "--system",
                "--user-group",
                "--no-create-home",
                "--home-dir",
                "/nonexistent",
                "--shell",
                "/usr/sbin/nologin",
                NAME)
            .inheritIO()
            .start()
            .waitFor();
    if (made != 0) {
      throw new Problem(
          "the user " + NAME + " could not be made, and the service does not run as root",
          "as root: useradd --system --user-group " + NAME,
          1);
    }
  }
}
