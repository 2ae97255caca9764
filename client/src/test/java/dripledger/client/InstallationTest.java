package dripledger.client;

import static org.assertj.core.api.Assertions.assertThat;

import java.nio.file.Files;
import java.nio.file.Path;
import java.util.List;
import java.util.Map;
import java.util.concurrent.TimeUnit;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;

class InstallationTest {
  @TempDir private Path home;

  @Test
  void whatIsStartedOutlivesTheTerminalItWasStartedFrom() throws Exception {
    Installation installation = new Installation(home);
    Process process = installation.start("sleeper", List.of("sleep", "60"), Map.of());
    try {
      Path stat = Path.of("/proc/" + process.pid() + "/stat");
      // Fields after the name in parentheses: state, parent, process group, session, terminal.
      String[] fields = new String[0];
      for (int i = 0; i < 500 && !(fields.length > 4 && name(stat).equals("sleep")); i++) {
        fields = Files.readString(stat).replaceFirst("^.*\\) ", "").split(" ");
        Thread.sleep(10);
      }
      fields = Files.readString(stat).replaceFirst("^.*\\) ", "").split(" ");
      assertThat(fields[2]).as("process group").isEqualTo("" + process.pid());
      assertThat(fields[3]).as("session").isEqualTo("" + process.pid());
      assertThat(fields[4]).as("terminal").isEqualTo("0");
      assertThat(installation.process("sleeper")).isPresent();
    } finally {
      installation.stop("sleeper");
    }
    assertThat(process.waitFor(10, TimeUnit.SECONDS)).as("it has ended").isTrue();
  }

  private static String name(Path stat) throws Exception {
    return Files.readString(stat).replaceFirst("^\\d+ \\((.*)\\) .*(?s:.)*$", "$1");
  }
}
