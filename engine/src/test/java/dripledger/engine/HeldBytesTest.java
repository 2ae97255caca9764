package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.util.List;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.Arguments;
import org.junit.jupiter.params.provider.MethodSource;

/** What the service says tables and views hold is what the heap has more, within a tenth. */
class HeldBytesTest {
  /** In front of a line that is a figure. */
  static final String MARK = "held\t";

  private static List<Arguments> figures() throws IOException, InterruptedException {
    String classes = System.getProperty("surefire.test.class.path");
    Process process =
        new ProcessBuilder(
                Path.of(System.getProperty("java.home"), "bin", "java").toString(),
                "-Xmx2g",
                "-XX:+UseG1GC",
                "-XX:G1HeapRegionSize=4m", // as the service is started
                "-cp",
                classes == null ? System.getProperty("java.class.path") : classes,
                HeldBytes.class.getName())
            .redirectErrorStream(true)
            .start();
    String printed = new String(process.getInputStream().readAllBytes(), StandardCharsets.UTF_8);
    assertThat(process.waitFor()).as(printed).isZero();
    System.out.print(printed);
    return printed
        .lines()
        .filter(line -> line.startsWith(MARK))
        .map(line -> line.split("\t", -1))
        .map(parts -> Arguments.of(parts[1], Long.parseLong(parts[2]), Long.parseLong(parts[3])))
        .toList();
  }

  @ParameterizedTest(name = "{0}")
  @MethodSource("figures")
  void whatIsSaidIsWhatTheHeapHasMore(String what, long held, long heap) {
    assertThat((double) held / heap)
        .as("%s: says %,d bytes more, the heap has %,d", what, held, heap)
        .isBetween(0.9, 1.1);
  }
}
