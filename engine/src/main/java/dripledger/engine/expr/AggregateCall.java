package dripledger.engine.expr;

import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import java.util.List;
import java.util.stream.Collectors;

/**
 * One aggregate of a GROUP BY.
 *
 * @param arguments the columns of the input it reads
 * @param distinct whether equal arguments count once
 * @param filterColumn the BOOLEAN column of FILTER (WHERE …), or −1
 * @param order in which the values are taken, where that matters: by columns of the input
 * @param output its name and type in the result
 */
public record AggregateCall(
    Function function,
    List<Integer> arguments,
    boolean distinct,
    int filterColumn,
    List<SortKey> order,
    Column output) {
  public AggregateCall {
    arguments = List.copyOf(arguments);
    order = List.copyOf(order);
  }

  /** A call to which no order is given. */
  public AggregateCall(
      Function function, List<Integer> arguments, boolean distinct, int filter, Column output) {
    this(function, arguments, distinct, filter, List.of(), output);
  }

  /** Whether a row is added in place to a word or a few, and so may be what other rows gave. */
  public boolean isAddedUp(Schema input, boolean appendOnly) {
    if (distinct && !function.isExtreme()) {
      return false;
    }
    ColumnType type = arguments.isEmpty() ? null : input.type(arguments.get(0));
    return switch (function) {
      case COUNT -> true;
      case SUM, AVG -> !type.isVariable() && !type.kind().isFloating();
      case MIN, MAX -> appendOnly && !type.isVariable() && !type.kind().isFloating();
      default -> false;
    };
  }

  /** The same call with another name or type of its result. */
  public AggregateCall as(Column column) {
    return new AggregateCall(function, arguments, distinct, filterColumn, order, column);
  }

  /** The call as text, with the input's column names. */
  public String text(Schema input) {
    String columns =
        arguments.isEmpty()
            ? "*"
            : arguments.stream().map(i -> input.column(i).name()).collect(Collectors.joining(", "));
    return function
        + "("
        + (distinct ? "DISTINCT " : "")
        + columns
        + (order.isEmpty() ? "" : " ORDER BY " + SortKey.text(order, input))
        + ")"
        + (filterColumn >= 0 ? " FILTER " + input.column(filterColumn).name() : "");
  }

  /** The aggregate functions there are. ARG_MAX(v, k) is the v of the row with the greatest k. */
  public enum Function {
    COUNT,
    SUM,
    AVG,
    MIN,
    MAX,
    ARG_MAX,
    ARG_MIN,
    VAR_POP,
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
    REGR_R2,
    BOOL_AND,
    BOOL_OR,
    BIT_AND,
    BIT_OR,
    BIT_XOR,
    STRING_AGG,
    ARRAY_AGG,
    JSON_AGG,
    JSON_OBJECT_AGG,
    MODE,
    PERCENTILE_CONT,
    PERCENTILE_DISC;

    /** Whether the answer is one of the rows' values, so that taking it out needs the next one. */
    public boolean isExtreme() {
      return this == MIN || this == MAX || this == ARG_MAX || this == ARG_MIN;
    }

    /** Whether the answer is made of all values of the group, in an order. */
    public boolean isCollected() {
      return ordinal() >= BIT_AND.ordinal();
    }
  }
}
