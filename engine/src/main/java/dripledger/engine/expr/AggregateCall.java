package dripledger.engine.expr;

import dripledger.engine.row.Column;
import dripledger.engine.row.Schema;
import java.util.List;
import java.util.stream.Collectors;

/**
 * One aggregate of a GROUP BY.
 *
 * @param arguments the columns of the input it reads
 * @param distinct whether equal arguments count once
 * @param filterColumn the BOOLEAN column of FILTER (WHERE …), or −1
 * @param output its name and type in the result
 */
public record AggregateCall(
    Function function, List<Integer> arguments, boolean distinct, int filterColumn, Column output) {
  public AggregateCall {
    arguments = List.copyOf(arguments);
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
    ARG_MIN;

    /** Whether the answer is one of the rows' values, so that taking it out needs the next one. */
    public boolean isExtreme() {
      return this == MIN || this == MAX || this == ARG_MAX || this == ARG_MIN;
    }
  }
}
