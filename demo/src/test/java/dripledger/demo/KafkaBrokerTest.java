package dripledger.demo;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.UUID;
import org.junit.jupiter.api.Test;

class KafkaBrokerTest {
  @Test
  void aClusterIdIsNeverTakenForAnOption() {
    // The first six bits 111110 are written as "-".
    assertThat(KafkaBroker.clusterId(new UUID(0xF8L << 56, 1))).doesNotStartWith("-");
    for (long first = 0; first < 256; first++) {
      String id = KafkaBroker.clusterId(new UUID(first << 56 | 0x1234, -1));
      assertThat(id).hasSize(22).doesNotStartWith("-");
    }
  }
}
