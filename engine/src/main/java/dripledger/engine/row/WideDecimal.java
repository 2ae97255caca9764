package dripledger.engine.row;

import java.math.BigInteger;

/** The 16-byte form of decimals of 19 to 38 digits: big-endian two's complement at column scale. */
public final class WideDecimal {
  public static final int BYTES = 16;

  private WideDecimal() {}

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
