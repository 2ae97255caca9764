package dripledger.engine.expr;

import dripledger.engine.row.Bytes;
import dripledger.engine.state.Blobs;
import java.math.BigDecimal;
import java.math.BigInteger;

/**
 * A sum of floating-point values that is exact, and so independent of order and undone by adding
 * the same again with the opposite weight. Kept in five words of a state: three of an integer of
 * 192 bits, in units of a power of two that is chosen by the first value, so that values from 2^-70
 * to 2^50 of its size can be added in place; the exponent of that unit; and, once a value does not
 * fit, the place of an integer of any length instead of the three. Stateless.
 *
 * <p>After the idea of a long accumulator (Kulisch), cut to the part that data use.
 */
final class DoubleSum {
  static final int WORDS = 5;
  static final int BLOB = 4; // the word that refers to a blob, or is 0

  private static final int EXPONENT = 3;
  private static final int BELOW = 70; // bits kept below those of the first value
  private static final int LARGEST_SHIFT = 120;
  private static final long ROOM = 1L << 61; // of the highest word, before it is full

  private DoubleSum() {}

  /** Adds a finite value so many times. */
  static void add(long[] state, int at, Blobs blobs, double value, long weight) {
    if (value == 0 || weight == 0) {
      return;
    }
    long bits = Double.doubleToRawLongBits(value);
    int biased = (int) (bits >>> 52) & 0x7FF;
    long fraction = bits & 0xFFFFFFFFFFFFFL;
    long mantissa = biased == 0 ? fraction << 1 : fraction | 1L << 52;
    mantissa = bits < 0 ? -mantissa : mantissa;
    int exponent = biased - 1075;
    if (state[at + BLOB] == 0) {
      if ((state[at] | state[at + 1] | state[at + 2]) == 0) {
        state[at + EXPONENT] = (long) exponent - BELOW;
      }
      long shift = exponent - state[at + EXPONENT];
      if (shift < 0) {
        int zeros = Long.numberOfTrailingZeros(mantissa);
        if (zeros >= -shift) {
          mantissa >>= -shift;
          shift = 0;
        }
      }
      if (shift >= 0
          && shift <= LARGEST_SHIFT
          && weight < 1L << 10
          && weight > -(1L << 10)
          && Math.abs(state[at + 2]) < ROOM) {
        addShifted(state, at, mantissa * weight, (int) shift);
        return;
      }
    }
    addToBlob(state, at, blobs, mantissa, exponent, weight);
  }

  /**
   * Adds {@code value × 2^shift}; the value has at most 63 bits, the shift leaves room for them.
   */
  private static void addShifted(long[] state, int at, long value, int shift) {
    int word = shift >>> 6;
    int bits = shift & 63;
    long low = value << bits;
    long high = bits == 0 ? value >> 63 : value >> 64 - bits;
    long sign = value >> 63;
    long carry = 0;
    for (int i = word; i < 3; i++) {
      long term = i == word ? low : i == word + 1 ? high : sign;
      long before = state[at + i];
      long sum = before + term;
      long carried = Long.compareUnsigned(sum, before) < 0 ? 1 : 0;
      state[at + i] = sum + carry;
      carry = carried + (carry != 0 && sum + carry == 0 ? 1 : 0);
    }
  }

  private static void addToBlob(
      long[] state, int at, Blobs blobs, long mantissa, int exponent, long weight) {
    BigInteger sum = mantissa(state, at, blobs);
    int base = (int) state[at + EXPONENT];
    BigInteger term = BigInteger.valueOf(mantissa).multiply(BigInteger.valueOf(weight));
    if (sum.signum() == 0) {
      sum = term;
      base = exponent;
    } else if (exponent >= base) {
      sum = sum.add(term.shiftLeft(exponent - base));
    } else {
      sum = sum.shiftLeft(base - exponent).add(term);
      base = exponent;
    }
    clear(state, at, blobs);
    if (sum.signum() != 0) {
      byte[] bytes = sum.toByteArray();
      state[at + BLOB] = blobs.put(bytes, 0, bytes.length);
      state[at + EXPONENT] = base;
    }
  }

  /** Makes it the sum of nothing. */
  static void clear(long[] state, int at, Blobs blobs) {
    blobs.retire(state[at + BLOB]);
    for (int i = 0; i < WORDS; i++) {
      state[at + i] = 0;
    }
  }

  private static BigInteger mantissa(long[] state, int at, Blobs blobs) {
    long place = state[at + BLOB];
    if (place != 0) {
      return new BigInteger(blobs.bytes(place), blobs.start(place), Blobs.length(place));
    }
    byte[] big = new byte[24];
    for (int i = 0; i < 3; i++) {
      Bytes.putLongBigEndian(big, 8 * (2 - i), state[at + i]);
    }
    return new BigInteger(big);
  }

  /** The sum, rounded once; but for subnormal results, which may be one unit off. */
  static double value(long[] state, int at, Blobs blobs) {
    BigInteger mantissa = mantissa(state, at, blobs);
    int exponent = (int) state[at + EXPONENT];
    int excess = mantissa.bitLength() - 900;
    if (excess <= 0) {
      return Math.scalb(mantissa.doubleValue(), exponent);
    }
    BigInteger shifted = mantissa.shiftRight(excess);
    if (mantissa.getLowestSetBit() < excess) {
      shifted = shifted.setBit(0); // a sticky bit keeps the rounding right
    }
    return Math.scalb(shifted.doubleValue(), exponent + excess);
  }

  /** The sum, exact. */
  static BigDecimal exact(long[] state, int at, Blobs blobs) {
    BigInteger mantissa = mantissa(state, at, blobs);
    int exponent = (int) state[at + EXPONENT];
    if (mantissa.signum() == 0) {
      return BigDecimal.ZERO;
    }
    return exponent >= 0
        ? new BigDecimal(mantissa.shiftLeft(exponent))
        : new BigDecimal(mantissa).divide(new BigDecimal(BigInteger.ONE.shiftLeft(-exponent)));
  }
}
