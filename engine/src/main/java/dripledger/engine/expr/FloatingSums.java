package dripledger.engine.expr;

import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Blobs;

/**
 * SUM and AVG of floating-point values. State: the exact sum ({@link DoubleSum}), the count of
 * values, and counts of NaN, ∞ and −∞.
 */
record FloatingSums(RowLayout input, int argument, boolean average) implements Accumulator {
  private static final int COUNT = DoubleSum.WORDS;
  private static final int NAN = COUNT + 1;
  private static final int POSITIVE = COUNT + 2;
  private static final int NEGATIVE = COUNT + 3;

  @Override
  public int stateWords() {
    return NEGATIVE + 1;
  }

  @Override
  public int[] blobWords() {
    return new int[] {DoubleSum.BLOB};
  }

  @Override
  public boolean canFail() {
    return true;
  }

  @Override
  public void add(byte[] row, int at, long weight, long[] state, int stateAt, Blobs blobs) {
    if (input.isNull(row, at, argument)) {
      return;
    }
    double value = input.doubleValue(row, at, argument);
    state[stateAt + COUNT] += weight;
    if (Double.isNaN(value)) {
      state[stateAt + NAN] += weight;
    } else if (Double.isInfinite(value)) {
      state[stateAt + (value > 0 ? POSITIVE : NEGATIVE)] += weight;
    } else {
      DoubleSum.add(state, stateAt, blobs, value, weight);
    }
  }

  @Override
  public void release(long[] state, int stateAt, Blobs blobs) {
    DoubleSum.clear(state, stateAt, blobs);
  }

  @Override
  public void write(long[] state, int stateAt, Blobs blobs, RowWriter out, int column) {
    long count = state[stateAt + COUNT];
    if (count == 0) {
      out.setNull(column);
      return;
    }
    boolean positive = state[stateAt + POSITIVE] != 0;
    boolean negative = state[stateAt + NEGATIVE] != 0;
    double result;
    if (state[stateAt + NAN] != 0 || positive && negative) {
      result = Double.NaN;
    } else if (positive || negative) {
      result = positive ? Double.POSITIVE_INFINITY : Double.NEGATIVE_INFINITY;
    } else {
      double sum = DoubleSum.value(state, stateAt, blobs);
      if (Double.isInfinite(sum)) {
        throw new ArithmeticException("the sum is out of range for DOUBLE");
      }
      result = average ? sum / count : sum;
    }
    boolean real = out.layout().schema().type(column).kind() == Kind.REAL;
    out.setDouble(column, real ? (float) result : result);
  }
}
