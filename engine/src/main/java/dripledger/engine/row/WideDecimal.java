package dripledger.engine.row;

import java.math.BigDecimal;
import java.math.BigInteger;
import java.math.RoundingMode;

/** The 16-byte form of decimals of 19 to 38 digits: big-endian two's complement at column scale. */
public final class WideDecimal {
  public static final int BYTES = 16;

  private WideDecimal() {}

  /**
   * Rounds half away from zero to a scale, without ever writing out more digits than there is room
   * for: an exponent of millions costs nothing.
   *
   * @throws ArithmeticException if the digits do not fit
   */
  public static BigDecimal fit(BigDecimal value, int precision, int scale) {
    long before = (long) value.precision() - value.scale(); // digits before the point
    BigDecimal scaled = null;
    if (value.signum() == 0 || before < -scale) {
      scaled = BigDecimal.valueOf(0, scale);
    } else if (before <= precision - scale) {
      scaled = value.setScale(scale, RoundingMode.HALF_UP);
    }
    if (scaled == null || scaled.precision() > precision) {
      throw new ArithmeticException("value does not fit DECIMAL(" + precision + ", " + scale + ")");
    }
    return scaled;
  }

  /** Writes {@code unscaled}, which must fit 127 bits, at {@code at}. */
  public static void write(BigInteger unscaled, byte[] bytes, int at) {
    byte[] minimal = unscaled.toByteArray();
    if (minimal.length > BYTES) {
      throw new ArithmeticException("decimal out of range");
    }
    byte fill = (byte) (unscaled.signum() < 0 ? -1 : 0);
    int pad = BYTES - minimal.length;
    for (int i = 0; i < pad; i++) {
      bytes[at + i] = fill;
    }
    System.arraycopy(minimal, 0, bytes, at + pad, minimal.length);
  }
}
