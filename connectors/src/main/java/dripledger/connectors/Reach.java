package dripledger.connectors;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.io.IOException;
import java.net.URI;
import java.nio.file.Path;
import java.util.List;
import java.util.Locale;

/**
 * What the operator lets statements reach: files below some folders, and web addresses of some
 * hosts. Immutable.
 *
 * @param folders whose files may be read and written; none if empty
 * @param hosts as {@code HOST} for all its ports or {@code HOST:PORT}; {@code *} is any
 */
public record Reach(List<Path> folders, List<String> hosts) {
  /** Everything, for programs that have no operator but their user. */
  public static final Reach ANYWHERE = new Reach(List.of(Path.of("/")), List.of("*"));

  private static final List<String> FILES =
      List.of("path", "tls_ca_file", "tls_client_file", "schema_file", "descriptor");

  public Reach {
    folders = List.copyOf(folders);
    hosts = hosts.stream().map(h -> h.toLowerCase(Locale.ROOT)).toList();
  }

  /** Goes on if all that a connection names may be reached. */
  void check(CatalogObject.Connection connection) {
    boolean web = connection.type().equals("webhook") || connection.type().equals("drip");
    connection
        .options()
        .forEach(
            (name, value) -> {
              if (!value.secret() && FILES.contains(name)) {
                file(name, value.text());
              } else if (!value.secret() && web && name.equals("url")) {
                host(name, value.text());
              }
            });
  }

  /** Goes on if all that a FROM or TO clause names may be reached. */
  void check(SourceSpec clause) {
    if (clause == null) {
      return;
    }
    for (String name : List.of("schema_file", "descriptor")) {
      if (clause.option(name) != null) {
        file(name, clause.option(name));
      }
    }
    if (clause.option("registry") != null) {
      host("registry", clause.option("registry"));
    }
  }

  private void file(String option, String text) {
    Path path = real(Path.of(text));
    if (folders.stream().noneMatch(folder -> path.startsWith(real(folder)))) {
      throw new EngineException(
          Code.FORBIDDEN,
          "option \"" + option + "\": " + text + " is not below a folder that may be used",
          folders.isEmpty()
              ? "the operator lists such folders in drip.file-folders; so far there are none"
              : "the operator lists them in drip.file-folders: "
                  + String.join(", ", folders.stream().map(Path::toString).toList()));
    }
  }

  /** Where a path really leads, as far as it is there. */
  private static Path real(Path path) {
    Path whole = path.toAbsolutePath().normalize();
    for (Path there = whole; there != null; there = there.getParent()) {
      try {
        return there.toRealPath().resolve(there.relativize(whole)).normalize();
      } catch (IOException e) {
        continue; // then its parent tells
      }
    }
    return whole;
  }

  private void host(String option, String text) {
    String host;
    int port;
    try {
      URI uri = URI.create(text);
      host = String.valueOf(uri.getHost()).toLowerCase(Locale.ROOT);
      port = uri.getPort() >= 0 ? uri.getPort() : "https".equals(uri.getScheme()) ? 443 : 80;
    } catch (IllegalArgumentException e) {
      return; // no address, which is said elsewhere
    }
    if (!hosts.contains("*") && !hosts.contains(host) && !hosts.contains(host + ":" + port)) {
      throw new EngineException(
          Code.FORBIDDEN,
          "option \"" + option + "\": " + host + ":" + port + " is no address that may be used",
          "the operator lists hosts in drip.web-hosts: " + String.join(", ", hosts));
    }
  }
}
