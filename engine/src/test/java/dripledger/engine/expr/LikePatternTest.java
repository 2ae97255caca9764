package dripledger.engine.expr;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.Random;
import java.util.regex.Pattern;
import org.junit.jupiter.api.Test;

class LikePatternTest {
  private static final String[] PATTERN_PARTS = {"%", "_", "a", "b", "B", "é", "😀", "\\%", "\\_"};
  private static final String[] TEXT_PARTS = {"a", "b", "A", "é", "É", "😀", "%", "_"};

  /** The same as a regular expression that is made of the pattern. */
  @Test
  void matchesWhatARegularExpressionMatches() {
    Random random = new Random(5);
    int matched = 0;
    for (int i = 0; i < 100_000; i++) {
      StringBuilder like = new StringBuilder();
      StringBuilder regex = new StringBuilder();
      for (int n = random.nextInt(6); n > 0; n--) {
        String part = PATTERN_PARTS[random.nextInt(PATTERN_PARTS.length)];
        like.append(part);
        regex.append(
            switch (part) {
              case "%" -> ".*";
              case "_" -> ".";
              default -> Pattern.quote(part.replace("\\", ""));
            });
      }
      StringBuilder text = new StringBuilder();
      for (int n = random.nextInt(6); n > 0; n--) {
        text.append(TEXT_PARTS[random.nextInt(TEXT_PARTS.length)]);
      }
      boolean ignoreCase = random.nextBoolean();
      int flags = ignoreCase ? Pattern.CASE_INSENSITIVE | Pattern.UNICODE_CASE : 0;
      boolean expected =
          Pattern.compile(regex.toString(), Pattern.DOTALL | flags).matcher(text).matches();
      assertThat(LikePattern.of(like.toString(), "\\", ignoreCase).matches(text.toString()))
          .as("'%s' LIKE '%s', ignoring case: %s", text, like, ignoreCase)
          .isEqualTo(expected);
      matched += expected ? 1 : 0;
    }
    assertThat(matched).isGreaterThan(5_000);
  }

  @Test
  void anotherEscapeOrNoneMayBeGiven() {
    assertThat(LikePattern.of("a!%", "!", false).matches("a%")).isTrue();
    assertThat(LikePattern.of("a!%", "!", false).matches("ab")).isFalse();
    assertThat(LikePattern.of("a\\%", "", false).matches("a\\bc")).isTrue();
    assertThat(LikePattern.of("", "\\", false).matches("")).isTrue();
    assertThat(LikePattern.of("%%%", "\\", false).matches("")).isTrue();
    assertThat(LikePattern.of("_", "\\", false).matches("")).isFalse();
  }
}
