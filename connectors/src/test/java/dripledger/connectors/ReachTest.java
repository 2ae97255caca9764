package dripledger.connectors;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.CatalogObject.Connection.Option;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;

class ReachTest {
  @TempDir private Path folder;

  private static CatalogObject.Connection connection(String type, String option, String value) {
    return new CatalogObject.Connection(1, "c", "", type, Map.of(option, new Option(value, false)));
  }

  private static SourceSpec clause(String option, String value) {
    return new SourceSpec("c", 1, Map.of(option, value), "avro");
  }

  private static void refused(Runnable check) {
    assertThatThrownBy(check::run)
        .isInstanceOfSatisfying(
            EngineException.class,
            e -> assertThat(e.code()).isEqualTo(EngineException.Code.FORBIDDEN));
  }

  @Test
  void filesAreBelowTheFoldersThatAreListed() throws IOException {
    Path inside = Files.createDirectory(folder.resolve("inside"));
    Path outside = Files.createDirectory(folder.resolve("inside-not"));
    Reach reach = new Reach(List.of(inside), List.of());
    reach.check(connection("file", "path", inside.toString()));
    reach.check(connection("file", "path", inside.resolve("not/there/yet").toString()));
    reach.check(clause("schema_file", inside.resolve("a.avsc").toString()));
    refused(() -> reach.check(connection("file", "path", outside.toString())));
    refused(() -> reach.check(connection("file", "path", inside + "/../inside-not")));
    refused(() -> reach.check(connection("kafka", "tls_ca_file", "/etc/passwd")));
    refused(() -> reach.check(clause("descriptor", "/etc/passwd")));
    Path link = Files.createSymbolicLink(inside.resolve("link"), outside);
    refused(() -> reach.check(connection("file", "path", link.toString())));
    refused(() -> reach.check(connection("file", "path", link + "/deeper")));
    refused(() -> new Reach(List.of(), List.of()).check(connection("file", "path", "/tmp")));
  }

  @Test
  void addressesAreOfHostsThatAreListed() {
    Reach reach = new Reach(List.of(), List.of("127.0.0.1", "Registry.hub:8443"));
    reach.check(connection("webhook", "url", "http://127.0.0.1:9099/hook"));
    reach.check(clause("registry", "https://registry.hub:8443/"));
    refused(() -> reach.check(clause("registry", "https://registry.hub/")));
    refused(() -> reach.check(connection("drip", "url", "http://169.254.169.254/latest")));
    refused(() -> reach.check(connection("webhook", "url", "http://[::1]:80/")));
    reach.check(connection("postgres", "url", "jdbc:postgresql://elsewhere/hub"));
    Reach.ANYWHERE.check(connection("webhook", "url", "https://anywhere.example/hook"));
  }
}
