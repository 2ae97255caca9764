package dripledger.engine.expr;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.state.Blobs;
import dripledger.engine.store.Versions;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/** Sums of floating-point values are exact, whatever their sizes, and come back to nothing. */
class DoubleSumTest {
  private record Added(double value, long weight) {}

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3, 4, 5, 6})
  void isTheSumOfDecimals(long seed) {
    Random random = new Random(seed);
    Blobs blobs = new Blobs(Versions.once());
    long[] state = new long[DoubleSum.WORDS + 2];
    int at = 1;
    BigDecimal expected = BigDecimal.ZERO;
    List<Added> all = new ArrayList<>();
    int spread = seed % 2 == 0 ? 40 : 600; // of exponents: what fits in place, and what does not
    for (int i = 0; i < 3_000; i++) {
      double value = Math.scalb(random.nextDouble() - 0.5, random.nextInt(spread) - spread / 2);
      long weight = random.nextInt(20) == 0 ? random.nextLong() >> 20 : 1 + random.nextInt(3);
      Added next = new Added(random.nextInt(50) == 0 ? Double.MIN_VALUE : value, weight);
      if (seed % 2 == 0 && next.value == Double.MIN_VALUE) {
        continue;
      }
      if (!all.isEmpty() && random.nextInt(3) == 0) {
        Added gone = all.remove(random.nextInt(all.size()));
        next = new Added(gone.value, -gone.weight);
      } else {
        all.add(next);
      }
      DoubleSum.add(state, at, blobs, next.value, next.weight);
      expected = expected.add(new BigDecimal(next.value).multiply(BigDecimal.valueOf(next.weight)));
      assertThat(DoubleSum.exact(state, at, blobs)).isEqualByComparingTo(expected);
      assertThat(DoubleSum.value(state, at, blobs)).isEqualTo(expected.doubleValue());
    }
    for (Added each : all) {
      DoubleSum.add(state, at, blobs, each.value, -each.weight);
    }
    assertThat(DoubleSum.exact(state, at, blobs)).isEqualByComparingTo(BigDecimal.ZERO);
    assertThat(state[0] | state[at + DoubleSum.WORDS]).isZero();
  }
}
