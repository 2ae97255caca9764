package dripledger.engine.expr;

import dripledger.engine.expr.AggregateCall.Function;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Blobs;
import java.math.BigDecimal;
import java.math.BigInteger;
import java.math.MathContext;
import java.math.RoundingMode;

/**
 * Variances, covariances and regressions, of sums that are exact: so they are independent of order,
 * and cancellation costs no digits. Of one column, or of two, of which the first is the dependent
 * one, as the standard has it; rows in which one is NULL do not count.
 *
 * <p>State: the count of rows, that of values that are not finite, then the sums of y, y², x, x²
 * and xy ({@link DoubleSum}), or only the first two.
 */
final class Moments implements Accumulator {
  private static final MathContext DIGITS = new MathContext(60, RoundingMode.HALF_EVEN);
  private static final int COUNT = 0;
  private static final int SPECIAL = 1;
  private static final int Y = 2;
  private static final int YY = Y + DoubleSum.WORDS;
  private static final int X = YY + DoubleSum.WORDS;
  private static final int XX = X + DoubleSum.WORDS;
  private static final int XY = XX + DoubleSum.WORDS;

  private final Function function;
  private final RowLayout input;
  private final int y;
  private final int x; // or −1
  private final boolean exact; // the result is a decimal

  Moments(AggregateCall call, RowLayout input) {
    function = call.function();
    this.input = input;
    y = call.arguments().get(0);
    x = call.arguments().size() > 1 ? call.arguments().get(1) : -1;
    exact = call.output().type().kind() == ColumnType.Kind.DECIMAL;
  }

  @Override
  public int stateWords() {
    return x < 0 ? X : XY + DoubleSum.WORDS;
  }

  @Override
  public int[] blobWords() {
    return x < 0
        ? new int[] {Y + DoubleSum.BLOB, YY + DoubleSum.BLOB}
        : new int[] {
          Y + DoubleSum.BLOB,
          YY + DoubleSum.BLOB,
          X + DoubleSum.BLOB,
          XX + DoubleSum.BLOB,
          XY + DoubleSum.BLOB
        };
  }

  @Override
  public boolean canFail() {
    return true;
  }

  @Override
  public void add(byte[] row, int at, long weight, long[] state, int stateAt, Blobs blobs) {
    if (input.isNull(row, at, y) || x >= 0 && input.isNull(row, at, x)) {
      return;
    }
    state[stateAt + COUNT] += weight;
    if (exact) {
      addExactly(row, at, weight, state, stateAt, blobs);
      return;
    }
    double b = number(row, at, y);
    double a = x < 0 ? 0 : number(row, at, x);
    if (Double.isNaN(a + b) || Double.isInfinite(a + b) || Double.isInfinite(a * a + b * b)) {
      state[stateAt + SPECIAL] += weight;
      return;
    }
    DoubleSum.add(state, stateAt + Y, blobs, b, weight);
    product(state, stateAt + YY, blobs, b, b, weight);
    if (x >= 0) {
      DoubleSum.add(state, stateAt + X, blobs, a, weight);
      product(state, stateAt + XX, blobs, a, a, weight);
      product(state, stateAt + XY, blobs, a, b, weight);
    }
  }

  /**
   * Of integers and decimals: as unscaled integers, in pieces that a floating-point value holds.
   */
  private void addExactly(byte[] row, int at, long weight, long[] state, int stateAt, Blobs blobs) {
    BigInteger value =
        input.schema().type(y).kind().isInteger()
            ? BigInteger.valueOf(input.slot(row, at, y))
            : input.decimalValue(row, at, y).unscaledValue();
    pieces(state, stateAt + Y, blobs, value, weight);
    pieces(state, stateAt + YY, blobs, value.multiply(value), weight);
  }

  private static void pieces(long[] state, int at, Blobs blobs, BigInteger value, long weight) {
    BigInteger rest = value.abs();
    int sign = value.signum();
    for (int shift = 0; rest.signum() != 0; shift += 50) {
      long low = rest.longValue() & (1L << 50) - 1;
      DoubleSum.add(state, at, blobs, sign * Math.scalb((double) low, shift), weight);
      rest = rest.shiftRight(50);
    }
  }

  /** A product of two values is the sum of two: what is rounded, and what that leaves. */
  private static void product(long[] state, int at, Blobs blobs, double a, double b, long weight) {
    double high = a * b;
    DoubleSum.add(state, at, blobs, high, weight);
    DoubleSum.add(state, at, blobs, Math.fma(a, b, -high), weight);
  }

  private double number(byte[] row, int at, int column) {
    ColumnType type = input.schema().type(column);
    if (type.kind().isFloating()) {
      return input.doubleValue(row, at, column);
    }
    return type.kind().isInteger()
        ? input.slot(row, at, column)
        : input.decimalValue(row, at, column).doubleValue();
  }

  @Override
  public void release(long[] state, int stateAt, Blobs blobs) {
    for (int word : blobWords()) {
      DoubleSum.clear(state, stateAt + word - DoubleSum.BLOB, blobs);
    }
  }

  @Override
  public void write(long[] state, int stateAt, Blobs blobs, RowWriter out, int column) {
    long n = state[stateAt + COUNT];
    if (function == Function.REGR_COUNT) {
      out.setLong(column, n);
      return;
    }
    boolean sample =
        function == Function.VAR_SAMP
            || function == Function.STDDEV_SAMP
            || function == Function.COVAR_SAMP;
    if (n <= (sample ? 1 : 0)) {
      out.setNull(column);
      return;
    }
    if (state[stateAt + SPECIAL] != 0) {
      out.setDouble(column, Double.NaN);
      return;
    }
    BigDecimal result = result(state, stateAt, blobs, BigDecimal.valueOf(n));
    if (result == null) {
      out.setNull(column);
    } else if (exact) {
      out.setDecimal(column, result);
    } else {
      out.setDouble(column, result.doubleValue());
    }
  }

  private BigDecimal result(long[] state, int at, Blobs blobs, BigDecimal n) {
    BigDecimal sumY = DoubleSum.exact(state, at + Y, blobs);
    BigDecimal syy = central(DoubleSum.exact(state, at + YY, blobs), sumY, sumY, n);
    if (x < 0) {
      BigDecimal scaled = exact ? syy.scaleByPowerOfTen(-2 * input.schema().type(y).scale()) : syy;
      return switch (function) {
        case VAR_POP -> scaled.divide(n, DIGITS);
        case VAR_SAMP -> scaled.divide(n.subtract(BigDecimal.ONE), DIGITS);
        case STDDEV_POP -> scaled.divide(n, DIGITS).sqrt(DIGITS);
        case STDDEV_SAMP -> scaled.divide(n.subtract(BigDecimal.ONE), DIGITS).sqrt(DIGITS);
        default -> throw new IllegalStateException(function + " is of two columns");
      };
    }
    BigDecimal sumX = DoubleSum.exact(state, at + X, blobs);
    BigDecimal sxx = central(DoubleSum.exact(state, at + XX, blobs), sumX, sumX, n);
    BigDecimal sxy = central(DoubleSum.exact(state, at + XY, blobs), sumX, sumY, n);
    boolean flat = sxx.signum() == 0;
    return switch (function) {
      case COVAR_POP -> sxy.divide(n, DIGITS);
      case COVAR_SAMP -> sxy.divide(n.subtract(BigDecimal.ONE), DIGITS);
      case CORR ->
          flat || syy.signum() == 0 ? null : sxy.divide(sxx.multiply(syy).sqrt(DIGITS), DIGITS);
      case REGR_AVGX -> sumX.divide(n, DIGITS);
      case REGR_AVGY -> sumY.divide(n, DIGITS);
      case REGR_SXX -> sxx;
      case REGR_SYY -> syy;
      case REGR_SXY -> sxy;
      case REGR_SLOPE -> flat ? null : sxy.divide(sxx, DIGITS);
      case REGR_INTERCEPT ->
          flat ? null : sumY.subtract(sxy.divide(sxx, DIGITS).multiply(sumX)).divide(n, DIGITS);
      case REGR_R2 ->
          flat
              ? null
              : syy.signum() == 0
                  ? BigDecimal.ONE
                  : sxy.multiply(sxy).divide(sxx.multiply(syy), DIGITS);
      default -> throw new IllegalStateException(function + " is of one column");
    };
  }

  /** Σab − ΣaΣb/n. */
  private static BigDecimal central(BigDecimal products, BigDecimal a, BigDecimal b, BigDecimal n) {
    return products.multiply(n).subtract(a.multiply(b)).divide(n, DIGITS);
  }
}
