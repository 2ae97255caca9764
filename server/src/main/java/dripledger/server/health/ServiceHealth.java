package dripledger.server.health;

import dripledger.engine.Engine;
import org.springframework.boot.health.contributor.Health;
import org.springframework.boot.health.contributor.HealthIndicator;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;

/**
 * Health for whoever watches the service: {@code loop} says whether it is alive, so that starting
 * it anew would help; {@code service} whether it does all that it is for.
 */
@Configuration
class ServiceHealth {
  @Bean
  HealthIndicator loop(Engine engine) {
    return () -> {
      String ailment = engine.ailment();
      return ailment == null
          ? Health.up().withDetail("epoch", engine.snapshot().epoch()).build()
          : Health.down().withDetail("engine", ailment).build();
    };
  }

  @Bean
  HealthIndicator service(Findings findings) {
    return () -> {
      Health.Builder health = Health.up();
      for (Findings.Finding finding : findings.all()) {
        health.withDetail(finding.what(), finding.text());
        if (finding.severe()) {
          health.down();
        }
      }
      return health.build();
    };
  }
}
