package dripledger.bench;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.ByteArrayOutputStream;
import java.io.PrintStream;
import java.nio.charset.StandardCharsets;
import org.junit.jupiter.api.Test;

/** The benchmarks run; what they say is never asserted. */
class BenchSmokeTest {
  @Test
  void theAggregationPrintsItsFigures() throws Exception {
    PrintStream before = System.out;
    ByteArrayOutputStream out = new ByteArrayOutputStream();
    try {
      System.setOut(new PrintStream(out, true, StandardCharsets.UTF_8));
      Bench.main(new String[] {"aggregation", "200", "10"});
    } finally {
      System.setOut(before);
    }
    assertThat(out.toString(StandardCharsets.UTF_8))
        .contains("hand-written loop")
        .contains("of the loop")
        .contains("bytes a key");
  }
}
