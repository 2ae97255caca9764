package dripledger.server;

import org.springframework.boot.SpringApplication;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.boot.context.properties.ConfigurationPropertiesScan;

/** Starts the service. */
@SpringBootApplication
@ConfigurationPropertiesScan
public class DripLedger {
  public static void main(String[] args) {
    SpringApplication.run(DripLedger.class, args);
  }
}
