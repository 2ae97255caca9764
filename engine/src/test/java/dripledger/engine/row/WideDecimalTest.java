package dripledger.engine.row;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.math.BigDecimal;
import java.math.BigInteger;
import java.math.RoundingMode;
import java.util.Random;
import org.junit.jupiter.api.Test;

class WideDecimalTest {
  /** What is rounded without writing out every digit is what rounding with all of them answers. */
  @Test
  void fitsAsRoundingDoes() {
    Random random = new Random(3);
    int fitting = 0;
    for (int i = 0; i < 200_000; i++) {
      BigInteger digits = new BigInteger(1 + random.nextInt(130), random);
      BigDecimal value =
          new BigDecimal(random.nextBoolean() ? digits : digits.negate(), random.nextInt(90) - 45);
      int precision = 1 + random.nextInt(38);
      int scale = random.nextInt(precision + 1);
      BigDecimal expected = value.setScale(scale, RoundingMode.HALF_UP);
      if (expected.precision() <= precision) {
        fitting++;
        assertThat(WideDecimal.fit(value, precision, scale))
            .as("%s as DECIMAL(%d, %d)", value, precision, scale)
            .isEqualTo(expected);
      } else {
        assertThatThrownBy(() -> WideDecimal.fit(value, precision, scale))
            .as("%s as DECIMAL(%d, %d)", value, precision, scale)
            .isInstanceOf(ArithmeticException.class);
      }
    }
    assertThat(fitting).isBetween(20_000, 180_000);
  }

  @Test
  void anExponentOfMillionsCostsNothing() {
    assertThat(WideDecimal.fit(new BigDecimal("-7e-2000000000"), 10, 2)).isEqualTo("0.00");
    assertThat(WideDecimal.fit(new BigDecimal("0e2000000000"), 10, 2)).isEqualTo("0.00");
    assertThatThrownBy(() -> WideDecimal.fit(new BigDecimal("7e2000000000"), 10, 2))
        .hasMessageContaining("DECIMAL(10, 2)");
  }
}
