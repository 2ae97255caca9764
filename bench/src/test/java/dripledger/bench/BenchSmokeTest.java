package dripledger.bench;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.ByteArrayOutputStream;
import java.io.PrintStream;
import java.nio.charset.StandardCharsets;
import org.junit.jupiter.api.Test;

/** The benchmarks run; what they say is never asserted. */
class BenchSmokeTest {
  private static String printed(String... arguments) throws Exception {
    PrintStream before = System.out;
    ByteArrayOutputStream out = new ByteArrayOutputStream();
    try {
      System.setOut(new PrintStream(out, true, StandardCharsets.UTF_8));
      Bench.main(arguments);
    } finally {
      System.setOut(before);
    }
    return out.toString(StandardCharsets.UTF_8);
  }

  @Test
  void theAggregationPrintsItsFigures() throws Exception {
    assertThat(printed("aggregation", "200", "10"))
        .contains("hand-written loop")
        .contains("of the loop")
        .contains("bytes a key");
  }

  @Test
  void theJoinsPrintTheirs() throws Exception {
    assertThat(printed("joins", "40", "8", "1000"))
        .contains("events with a table: published")
        .contains("two tables that change: published")
        .contains("of that loop");
  }

  @Test
  void workersTogetherPrintTheirs() throws Exception {
    assertThat(printed("together", "40", "8", "1000")).contains("two workers").contains("of one");
  }
}
