package dripledger.engine.expr;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import java.io.ByteArrayOutputStream;
import java.math.BigDecimal;
import java.math.MathContext;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.List;

/**
 * Makes the answer of a call of all values of a group, given one by one in order. One thread, used
 * again for the next group.
 */
public final class Collector {

  private final AggregateCall call;
  private final RowLayout layout;
  private final int[] arguments;
  private final int ordered;
  private final ByteArrayOutputStream text = new ByteArrayOutputStream();
  private final List<Object> list = new ArrayList<>();
  private long total;
  private long seen;
  private long best;
  private long bits;
  private boolean tooLarge;
  private boolean badKey;
  private boolean badFraction;
  private Object value;
  private BigDecimal low;
  private BigDecimal high;
  private BigDecimal wanted;

  /** What came of it. */
  public enum Outcome {
    VALUE(null),
    NULL(null),
    TOO_LARGE("the result is larger than a row may be"),
    NULL_KEY("a key of a JSON object is NULL"),
    BAD_FRACTION("a fraction of a percentile must be from 0 to 1");

    private final String failure;

    Outcome(String failure) {
      this.failure = failure;
    }

    /** Why there is no answer, as what a row is rejected for; null if there is one. */
    public ArithmeticException failure() {
      return failure == null ? null : new ArithmeticException(failure);
    }
  }

  /**
   * @param layout of the rows given
   * @param arguments where the call's arguments are in them
   * @param ordered the first column of the order
   */
  public Collector(AggregateCall call, RowLayout layout, int[] arguments, int ordered) {
    this.call = call;
    this.layout = layout;
    this.arguments = arguments.clone();
    this.ordered = ordered;
  }

  /** Whether the number of all values must be known before the first. */
  public boolean needsTotal() {
    return call.function() == AggregateCall.Function.PERCENTILE_CONT
        || call.function() == AggregateCall.Function.PERCENTILE_DISC;
  }

  /**
   * Begins a group.
   *
   * @param all how many values will be given; only if {@link #needsTotal}
   */
  public void begin(long all) {
    total = all;
    seen = 0;
    best = 0;
    bits = 0;
    tooLarge = false;
    badKey = false;
    badFraction = false;
    value = null;
    low = null;
    high = null;
    wanted = null;
    text.reset();
    list.clear();
  }

  /** Takes a value in, so many times. */
  public void add(byte[] row, long count) {
    switch (call.function()) {
      case STRING_AGG -> addText(row, count);
      case JSON_AGG -> addJson(row, count);
      case JSON_OBJECT_AGG -> addMember(row);
      case ARRAY_AGG -> addToList(row, count);
      case MODE -> {
        if (count > best) {
          best = count;
          value = get(row, arguments[0]);
        }
      }
      case BIT_AND, BIT_OR, BIT_XOR -> addBits(layout.slot(row, 0, arguments[0]), count);
      case PERCENTILE_DISC -> addDiscrete(row, count);
      case PERCENTILE_CONT -> addContinuous(row, count);
      default -> throw new IllegalStateException(call.function() + " is not made of a list");
    }
    seen += count;
  }

  /** Sets the one column of a row that was begun to the answer, if there is one. */
  public Outcome end(RowWriter out) {
    if (tooLarge) {
      return Outcome.TOO_LARGE;
    }
    if (badKey) {
      return Outcome.NULL_KEY;
    }
    if (badFraction) {
      return Outcome.BAD_FRACTION;
    }
    switch (call.function()) {
      case JSON_AGG -> append("]");
      case JSON_OBJECT_AGG -> append("}");
      case ARRAY_AGG -> value = list;
      case BIT_AND, BIT_OR, BIT_XOR -> value = bits;
      case PERCENTILE_CONT -> value = between();
      default -> {}
    }
    boolean isText =
        call.function() == AggregateCall.Function.STRING_AGG
            || call.function() == AggregateCall.Function.JSON_AGG
            || call.function() == AggregateCall.Function.JSON_OBJECT_AGG;
    if (isText) {
      out.setBytes(0, text.toByteArray(), 0, text.size());
    } else if (value == null) {
      return Outcome.NULL;
    } else {
      BoxedRows.writeColumn(out, 0, value);
    }
    return Outcome.VALUE;
  }

  private Object get(byte[] row, int column) {
    return BoxedRows.readColumn(layout, row, 0, column);
  }

  private boolean isFull() {
    tooLarge |= text.size() > RowWriter.MAX_ROW_BYTES || list.size() > RowWriter.MAX_ROW_BYTES;
    return tooLarge;
  }

  private void append(String what) {
    byte[] bytes = what.getBytes(StandardCharsets.UTF_8);
    text.write(bytes, 0, bytes.length);
  }

  private void appendColumn(byte[] row, int column) {
    int from = layout.variableOffset(row, 0, column);
    text.write(row, from, layout.variableLength(row, 0, column));
  }

  private void addText(byte[] row, long count) {
    for (long i = 0; i < count && !isFull(); i++) {
      if (seen + i > 0 && arguments.length > 1 && !layout.isNull(row, 0, arguments[1])) {
        appendColumn(row, arguments[1]);
      }
      appendColumn(row, arguments[0]);
    }
  }

  private void addToList(byte[] row, long count) {
    for (long i = 0; i < count && !isFull(); i++) {
      list.add(get(row, arguments[0]));
    }
  }

  private void addJson(byte[] row, long count) {
    String json = json(layout.schema().type(arguments[0]), get(row, arguments[0]));
    for (long i = 0; i < count && !isFull(); i++) {
      append(seen + i == 0 ? "[" : ", ");
      append(json);
    }
  }

  private void addMember(byte[] row) {
    if (layout.isNull(row, 0, arguments[0])) {
      badKey = true;
      return;
    }
    if (!isFull()) {
      Object key = get(row, arguments[0]);
      append(seen == 0 ? "{" : ", ");
      append(JsonText.quoted(String.valueOf(key)));
      append(": ");
      append(json(layout.schema().type(arguments[1]), get(row, arguments[1])));
    }
  }

  private static String json(ColumnType type, Object value) {
    if (value == null) {
      return "null";
    }
    return switch (type.kind()) {
      case BOOLEAN, SMALLINT, INTEGER, BIGINT -> value.toString();
      case DECIMAL -> ((BigDecimal) value).toPlainString();
      case REAL, DOUBLE -> JsonText.number((Double) value);
      case ARRAY -> {
        StringBuilder out = new StringBuilder("[");
        for (Object each : (List<?>) value) {
          out.append(out.length() > 1 ? ", " : "").append(json(type.element(), each));
        }
        yield out.append(']').toString();
      }
      case ROW -> {
        StringBuilder out = new StringBuilder("{");
        for (int i = 0; i < type.fields().size(); i++) {
          out.append(i > 0 ? ", " : "")
              .append(JsonText.quoted(type.fields().get(i).name()))
              .append(": ");
          out.append(json(type.fields().get(i).type(), ((List<?>) value).get(i)));
        }
        yield out.append('}').toString();
      }
      default -> JsonText.quoted(String.valueOf(value));
    };
  }

  private void addBits(long slot, long count) {
    switch (call.function()) {
      case BIT_AND -> bits = seen == 0 ? slot : bits & slot;
      case BIT_OR -> bits |= slot;
      default -> bits ^= count % 2 != 0 ? slot : 0;
    }
  }

  private BigDecimal fraction(byte[] row) {
    Object given = get(row, arguments[0]);
    BigDecimal fraction = given == null ? BigDecimal.valueOf(-1) : new BigDecimal(given.toString());
    badFraction |= fraction.signum() < 0 || fraction.compareTo(BigDecimal.ONE) > 0;
    return fraction;
  }

  /** The first value by which so large a part of all has been given. */
  private void addDiscrete(byte[] row, long count) {
    if (value == null) {
      BigDecimal needed = fraction(row).multiply(BigDecimal.valueOf(total));
      if (BigDecimal.valueOf(seen + count).compareTo(needed) >= 0) {
        value = get(row, ordered);
      }
    }
  }

  /** What lies so far between the first and the last value. */
  private void addContinuous(byte[] row, long count) {
    if (wanted == null) {
      wanted = fraction(row).multiply(BigDecimal.valueOf(total - 1));
    }
    long below = wanted.longValue();
    if (seen <= below && below < seen + count) {
      low = new BigDecimal(get(row, ordered).toString());
    }
    if (seen <= below + 1 && below + 1 < seen + count) {
      high = new BigDecimal(get(row, ordered).toString());
    }
  }

  private Object between() {
    BigDecimal part = wanted.subtract(BigDecimal.valueOf(wanted.longValue()));
    BigDecimal result =
        part.signum() == 0 || high == null
            ? low
            : low.add(high.subtract(low).multiply(part, MathContext.DECIMAL128));
    return call.output().type().kind() == ColumnType.Kind.DOUBLE
        ? (Object) result.doubleValue()
        : result;
  }
}
