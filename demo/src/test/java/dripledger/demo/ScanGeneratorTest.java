package dripledger.demo;

import static org.assertj.core.api.Assertions.assertThat;

import java.time.Instant;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.api.Test;

class ScanGeneratorTest {
  private static List<String> lines(long seed) {
    ScanGenerator generator = new ScanGenerator(seed);
    List<String> lines = new ArrayList<>();
    for (int i = 0; i < 20_000; i++) {
      lines.add(generator.next(Instant.parse("2026-03-02T06:00:00Z").plusMillis(25L * i)));
    }
    return lines;
  }

  @Test
  void theSameSeedGivesTheSameScans() {
    assertThat(lines(1)).isEqualTo(lines(1)).isNotEqualTo(lines(2));
    assertThat(lines(1).get(0)).startsWith("{\"parcel\":812345,");
  }

  @Test
  void someParcelsComeBackToTheSameGate() {
    ScanGenerator generator = new ScanGenerator(2);
    Map<String, Integer> passes = new HashMap<>();
    for (int i = 0; i < 20_000; i++) {
      String line = generator.next(Instant.parse("2026-03-02T06:00:00Z").plusMillis(25L * i));
      passes.merge(line.replaceFirst(",\"at\".*", ""), 1, Integer::sum);
    }
    long often = passes.values().stream().filter(n -> n >= 3).count();
    assertThat(often).isGreaterThan(10);
  }

  @Test
  void someScansAreTwiceLateOrBroken() {
    List<String> lines = lines(3);
    long broken =
        lines.stream()
            .filter(
                l -> !l.matches("\\{\"parcel\":\\d+,\"gate\":\"G\\d\\d\",.*\"grams\":\\d+,.*}}"))
            .count();
    assertThat(broken).isBetween(20L, 200L);
    assertThat(lines.size() - new HashSet<>(lines).size()).isBetween(100, 800);
  }
}
