package dripledger.engine.expr;

import dripledger.engine.row.Column;
import dripledger.engine.row.Schema;
import java.util.List;
import java.util.stream.Collectors;

/**
 * One function OVER a window.
 *
 * @param arguments the columns of the input it reads: for LAG and LEAD the value and, if there is
 *     one, what stands for a row that is not there
 * @param number how many rows LAG and LEAD look away, which row NTH_VALUE and LAST_VALUE are about
 *     (from the end), how many parts NTILE makes; else 0
 * @param ignoreNulls whether rows whose value is NULL are passed over; framed values only
 * @param aggregate what is computed of the frame if the function is {@link Function#AGGREGATE};
 *     else null
 * @param output its name and type in the result
 */
public record WindowCall(
    Function function,
    List<Integer> arguments,
    long number,
    AggregateCall aggregate,
    Frame frame,
    boolean ignoreNulls,
    Column output) {
  public WindowCall {
    arguments = List.copyOf(arguments);
  }

  /** The functions there are. */
  public enum Function {
    ROW_NUMBER,
    RANK,
    DENSE_RANK,
    PERCENT_RANK,
    CUME_DIST,
    NTILE,
    LAG,
    LEAD,
    FIRST_VALUE,
    LAST_VALUE,
    NTH_VALUE,
    AGGREGATE;

    /** Whether it is one by which rows can be chosen: it never falls along the order. */
    public boolean isRanking() {
      return this == ROW_NUMBER || this == RANK || this == DENSE_RANK;
    }

    /** Whether its answer depends on a frame. */
    public boolean isFramed() {
      return this == FIRST_VALUE || this == LAST_VALUE || this == NTH_VALUE || this == AGGREGATE;
    }
  }

  /**
   * How many rows behind the row it is of its answer depends on, if it depends on none of those in
   * front but by their number; −1 if it is not so.
   */
  public long rowsAhead() {
    return switch (function) {
      case ROW_NUMBER, LAG -> 0;
      case LEAD -> number;
      default -> -1;
    };
  }

  /** The call as text, with the input's column names. */
  public String text(Schema input) {
    String base =
        aggregate != null
            ? aggregate.text(input)
            : function
                + "("
                + arguments.stream()
                    .map(i -> input.column(i).name())
                    .collect(Collectors.joining(", "))
                + (number != 0 ? (arguments.isEmpty() ? "" : ", ") + number : "")
                + ")";
    String passing = ignoreNulls ? " IGNORE NULLS" : "";
    return function.isFramed() ? base + passing + " " + frame : base;
  }
}
