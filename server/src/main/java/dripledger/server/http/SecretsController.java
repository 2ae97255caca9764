package dripledger.server.http;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.server.records.Secrets;
import java.util.List;
import java.util.Map;
import org.springframework.web.bind.annotation.DeleteMapping;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.PutMapping;
import org.springframework.web.bind.annotation.RequestBody;
import org.springframework.web.bind.annotation.RestController;

/** {@code /api/v1/secrets}: secrets are set and named here, and never answered. */
@RestController
class SecretsController {
  private static final int MAX_LENGTH = 10_000;

  private final Secrets secrets;

  SecretsController(Secrets secrets) {
    this.secrets = secrets;
  }

  /** The body of a PUT. */
  record Value(String value) {}

  @GetMapping("/api/v1/secrets")
  Map<String, List<String>> names() {
    return Map.of("secrets", secrets.names());
  }

  @PutMapping("/api/v1/secrets/{name}")
  Map<String, String> set(@PathVariable String name, @RequestBody Value value) {
    if (!name.matches("[a-z_][a-z0-9_]{0,99}")) {
      throw new EngineException(
          Code.INVALID, "a secret's name is of a to z, 0 to 9 and _", "such as hub_ops_password");
    }
    if (value.value() == null || value.value().isEmpty() || value.value().length() > MAX_LENGTH) {
      throw new EngineException(
          Code.INVALID, "a secret has from 1 to " + MAX_LENGTH + " characters", null);
    }
    secrets.set(name, value.value());
    return Map.of("set", name);
  }

  @DeleteMapping("/api/v1/secrets/{name}")
  Map<String, String> remove(@PathVariable String name) {
    if (!secrets.remove(name)) {
      throw new EngineException(Code.NOT_FOUND, "no secret \"" + name + "\"", null);
    }
    return Map.of("removed", name);
  }
}
