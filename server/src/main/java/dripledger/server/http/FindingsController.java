package dripledger.server.http;

import dripledger.server.health.Findings;
import java.util.List;
import java.util.Map;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** {@code GET /api/v1/findings}: what is not as it should be, in sentences, for the owner. */
@RestController
class FindingsController {
  private final Findings findings;

  FindingsController(Findings findings) {
    this.findings = findings;
  }

  @GetMapping("/api/v1/findings")
  Map<String, List<Findings.Finding>> all() {
    return Map.of("findings", findings.all());
  }
}
