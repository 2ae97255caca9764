package dripledger.connectors.format;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.expr.Casts;
import java.time.LocalDateTime;
import java.time.ZoneOffset;
import java.time.temporal.ChronoUnit;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.Test;

class TimestampTextTest {
  private static long parse(String text) {
    char[] padded = ("[" + text + "]").toCharArray();
    return TimestampText.parse(padded, 1, text.length());
  }

  @Test
  void theQuickWaySaysWhatTheSlowOneSays() {
    Random random = new Random(7);
    for (int i = 0; i < 20_000; i++) {
      long seconds = random.nextLong(-60_000_000_000L, 200_000_000_000L);
      LocalDateTime time =
          LocalDateTime.ofEpochSecond(seconds, random.nextInt(1_000_000) * 1000, ZoneOffset.UTC);
      String text =
          switch (i % 4) {
            case 0 -> time + "Z";
            case 1 -> time.truncatedTo(ChronoUnit.SECONDS).plusSeconds(1) + "";
            case 2 -> time.toString().replace('T', ' ');
            default -> time.truncatedTo(ChronoUnit.MILLIS) + "Z";
          };
      assertThat(parse(text)).as(text).isEqualTo(Casts.toTimestamp(text));
    }
  }

  @Test
  void whatIsNoTimeIsRefused() {
    for (String text :
        List.of(
            "2026-02-30T06:14:09Z",
            "2026-02-30",
            "2027-02-29 00:00:00",
            "2026-13-02T06:14:09Z",
            "2026-03-02T24:14:09Z",
            "2026-03-02T06:60:09Z",
            "2026-03-0aT06:14:09Z",
            "2026-03-02T06:14:09.1.2Z",
            "2026-03-02T06:14:09Zulu",
            "soon",
            "")) {
      assertThatThrownBy(() -> parse(text)).as(text).isInstanceOf(RuntimeException.class);
    }
    assertThat(parse("2026-03-02T06:14:09+01:00"))
        .as("an offset")
        .isEqualTo(parse("2026-03-02T05:14:09Z"));
    assertThat(parse("2028-02-29T00:00:00Z") - parse("2028-02-28T00:00:00Z"))
        .isEqualTo(86_400_000_000L);
  }
}
