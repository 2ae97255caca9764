package dripledger.engine.expr;

import dripledger.engine.row.Bytes;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.state.Blobs;
import java.math.BigDecimal;
import java.math.BigInteger;
import java.math.RoundingMode;

/** Chooses the accumulator of a call. Everything here is exact under retraction. */
public final class Accumulators {
  private Accumulators() {}

  /**
   * The accumulator of a call, or null if the answer must be made of all the group's values: since
   * the input takes rows out again, or always.
   *
   * @param appendOnly whether the input never takes a row out
   */
  public static Accumulator of(AggregateCall call, RowLayout input, boolean appendOnly) {
    int argument = call.arguments().isEmpty() ? -1 : call.arguments().get(0);
    ColumnType type = argument < 0 ? null : input.schema().type(argument);
    return switch (call.function()) {
      case COUNT ->
          new Count(input, call.arguments().stream().mapToInt(Integer::intValue).toArray());
      case SUM -> sum(input, argument, type, call.output().type(), false);
      case AVG -> sum(input, argument, type, call.output().type(), true);
      case MIN, MAX ->
          appendOnly && !type.isVariable()
              ? new LatestExtreme(input, argument, call.function() == AggregateCall.Function.MAX)
              : null;
      case VAR_POP,
          VAR_SAMP,
          STDDEV_POP,
          STDDEV_SAMP,
          COVAR_POP,
          COVAR_SAMP,
          CORR,
          REGR_COUNT,
          REGR_AVGX,
          REGR_AVGY,
          REGR_SXX,
          REGR_SYY,
          REGR_SXY,
          REGR_SLOPE,
          REGR_INTERCEPT,
          REGR_R2 ->
          new Moments(call, input);
      case BOOL_AND, BOOL_OR ->
          new Truths(input, argument, call.function() == AggregateCall.Function.BOOL_AND);
      case BIT_AND,
          BIT_OR,
          BIT_XOR,
          STRING_AGG,
          ARRAY_AGG,
          JSON_AGG,
          JSON_OBJECT_AGG,
          MODE,
          PERCENTILE_CONT,
          PERCENTILE_DISC ->
          null;
      case ARG_MAX, ARG_MIN -> {
        ColumnType order = input.schema().type(call.arguments().get(1));
        yield appendOnly && !order.isVariable()
            ? new LatestArgument(
                input,
                argument,
                call.arguments().get(1),
                call.function() == AggregateCall.Function.ARG_MAX)
            : null;
      }
    };
  }

  private static Accumulator sum(
      RowLayout input, int argument, ColumnType type, ColumnType output, boolean average) {
    if (type.kind().isFloating()) {
      return new FloatingSums(input, argument, average);
    }
    if (!average && output.kind() == Kind.BIGINT) {
      return new LongSum(input, argument, output.nullable());
    }
    return new WideSum(input, argument, type, average);
  }

  /** COUNT(*) and COUNT(x, …): rows in which no argument is NULL. State: the count. */
  private record Count(RowLayout input, int[] arguments) implements Accumulator {
    @Override
    public int stateWords() {
      return 1;
    }

    @Override
    public void add(byte[] row, int at, long weight, long[] state, int stateAt, Blobs blobs) {
      for (int argument : arguments) {
        if (input.isNull(row, at, argument)) {
          return;
        }
      }
      state[stateAt] = state[stateAt] + weight;
    }

    @Override
    public void write(long[] state, int stateAt, Blobs blobs, RowWriter out, int column) {
      out.setLong(column, state[stateAt]);
    }
  }

  /**
   * SUM of SMALLINT and INTEGER as BIGINT. State: the sum, and the count of values if the result
   * can be NULL. The sum cannot overflow before 2^32 rows of the largest value.
   */
  private static final class LongSum implements Accumulator {
    private final RowLayout input;
    private final int argument;
    private final boolean nullable;
    private final int slot;

    LongSum(RowLayout input, int argument, boolean nullable) {
      this.input = input;
      this.argument = argument;
      this.nullable = nullable;
      this.slot = input.slotOffset(argument);
    }

    @Override
    public int stateWords() {
      return nullable ? 2 : 1;
    }

    @Override
    public void add(byte[] row, int at, long weight, long[] state, int stateAt, Blobs blobs) {
      if (nullable && input.isNull(row, at, argument)) {
        return;
      }
      long sum = state[stateAt] + Bytes.getLong(row, at + slot) * weight;
      state[stateAt] = sum;
      if (nullable) {
        state[stateAt + 1] = state[stateAt + 1] + weight;
      }
    }

    @Override
    public void write(long[] state, int stateAt, Blobs blobs, RowWriter out, int column) {
      if (nullable && state[stateAt + 1] == 0) {
        out.setNull(column);
      } else {
        out.setLong(column, state[stateAt]);
      }
    }
  }

  /**
   * SUM and AVG of integers and decimals: in 128 bits of what fits a word, which 2^64 rows cannot
   * leave, and in 192 of longer decimals. State: the sum's words from the lowest on, count of
   * values.
   */
  private record WideSum(RowLayout input, int argument, ColumnType type, boolean average)
      implements Accumulator {
    private int sumWords() {
      return input.isVariable(argument) ? 3 : 2;
    }

    @Override
    public int stateWords() {
      return sumWords() + 1;
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
      if (input.isVariable(argument)) {
        int from = input.variableOffset(row, at, argument);
        long high = Bytes.getLongBigEndian(row, from);
        long low = Bytes.getLongBigEndian(row, from + 8);
        // The product of 128 and 64 bits, in 192.
        long carried = Math.multiplyHigh(low, weight) + (low < 0 ? weight : 0);
        long middle = high * weight + carried;
        long carry = Long.compareUnsigned(middle, carried) < 0 ? 1 : 0;
        long top = Math.multiplyHigh(high, weight) + (carried >> 63) + carry;
        add(
            state,
            stateAt + 2,
            top + add(state, stateAt + 1, middle, add(state, stateAt, low * weight, 0)),
            0);
      } else {
        long value = input.slot(row, at, argument);
        long carry = add(state, stateAt, value * weight, 0);
        add(state, stateAt + 1, Math.multiplyHigh(value, weight) + carry, 0);
      }
      state[stateAt + sumWords()] += weight;
    }

    /** Adds to a word, without sign; answers what is carried. */
    private static long add(long[] state, int word, long value, long carry) {
      long before = state[word];
      long sum = before + value;
      long carried = Long.compareUnsigned(sum, before) < 0 ? 1 : 0;
      state[word] = sum + carry;
      return carried + (carry != 0 && sum + carry == 0 ? 1 : 0);
    }

    @Override
    public void write(long[] state, int stateAt, Blobs blobs, RowWriter out, int column) {
      int words = sumWords();
      long count = state[stateAt + words];
      if (count == 0) {
        out.setNull(column);
        return;
      }
      byte[] big = new byte[8 * words];
      for (int i = 0; i < words; i++) {
        Bytes.putLongBigEndian(big, 8 * (words - 1 - i), state[stateAt + i]);
      }
      BigDecimal sum = new BigDecimal(new BigInteger(big), type.scale());
      if (average) {
        int scale = out.layout().schema().type(column).scale();
        sum = sum.divide(BigDecimal.valueOf(count), scale, RoundingMode.HALF_UP);
      }
      out.setDecimal(column, sum);
    }
  }

  private static long orderedSlot(RowLayout input, byte[] row, int at, int column) {
    long slot = input.slot(row, at, column);
    return input.schema().type(column).kind().isFloating() && slot < 0
        ? slot ^ Long.MAX_VALUE
        : slot;
  }

  /**
   * MIN and MAX of a fixed-size column that is only ever added to. State: 1 if present, the slot.
   */
  private record LatestExtreme(RowLayout input, int argument, boolean max) implements Accumulator {
    @Override
    public int stateWords() {
      return 2;
    }

    @Override
    public void add(byte[] row, int at, long weight, long[] state, int stateAt, Blobs blobs) {
      if (input.isNull(row, at, argument)) {
        return;
      }
      long value = orderedSlot(input, row, at, argument);
      long held = state[stateAt + 1];
      if (state[stateAt] == 0 || (max ? value > held : value < held)) {
        state[stateAt] = 1;
        state[stateAt + 1] = value;
      }
    }

    @Override
    public void write(long[] state, int stateAt, Blobs blobs, RowWriter out, int column) {
      if (state[stateAt] == 0) {
        out.setNull(column);
        return;
      }
      long value = state[stateAt + 1];
      boolean floating = input.schema().type(argument).kind().isFloating();
      out.setLong(column, floating && value < 0 ? value ^ Long.MAX_VALUE : value);
    }
  }

  /**
   * ARG_MAX and ARG_MIN over an input that is only ever added to. State: 1 if present, the order
   * column's slot, the place of the value in the arena (a one-column row). Among equal order values
   * the greatest (least) value wins, so the answer does not depend on arrival.
   */
  private static final class LatestArgument implements Accumulator {
    private final RowLayout input;
    private final int argument;
    private final int order;
    private final boolean max;
    private final RowLayout one;
    private final SortKeyCodec codec;
    private final RowWriter scratch;
    private final SortKeyCodec.ByteSink left = new SortKeyCodec.ByteSink();
    private final SortKeyCodec.ByteSink right = new SortKeyCodec.ByteSink();

    LatestArgument(RowLayout input, int argument, int order, boolean max) {
      this.input = input;
      this.argument = argument;
      this.order = order;
      this.max = max;
      this.one = new RowLayout(input.schema().project(new int[] {argument}));
      this.codec = new SortKeyCodec(one, new int[] {0});
      this.scratch = new RowWriter(one, 64);
    }

    @Override
    public int stateWords() {
      return 3;
    }

    @Override
    public int[] blobWords() {
      return new int[] {2};
    }

    @Override
    public void add(byte[] row, int at, long weight, long[] state, int stateAt, Blobs blobs) {
      if (input.isNull(row, at, order)) {
        return;
      }
      long value = orderedSlot(input, row, at, order);
      boolean present = state[stateAt] != 0;
      long held = state[stateAt + 1];
      if (present && (max ? value < held : value > held)) {
        return;
      }
      scratch.truncate(0);
      scratch.begin();
      scratch.copy(0, input, row, at, argument);
      int length = scratch.finish();
      if (present && value == held && !beats(state, stateAt, blobs)) {
        return;
      }
      release(state, stateAt, blobs);
      state[stateAt] = 1;
      state[stateAt + 1] = value;
      state[stateAt + 2] = blobs.put(scratch.bytes(), scratch.start(), length);
    }

    private boolean beats(long[] state, int stateAt, Blobs blobs) {
      long place = state[stateAt + 2];
      left.clear();
      codec.encode(scratch.bytes(), scratch.start(), left);
      right.clear();
      codec.encode(blobs.bytes(place), blobs.start(place), right);
      int c = Bytes.compare(left.bytes(), 0, left.size(), right.bytes(), 0, right.size());
      return max ? c > 0 : c < 0;
    }

    @Override
    public void release(long[] state, int stateAt, Blobs blobs) {
      blobs.retire(state[stateAt + 2]);
    }

    @Override
    public void write(long[] state, int stateAt, Blobs blobs, RowWriter out, int column) {
      if (state[stateAt] == 0) {
        out.setNull(column);
        return;
      }
      long place = state[stateAt + 2];
      out.copy(column, one, blobs.bytes(place), blobs.start(place), 0);
    }
  }
}
