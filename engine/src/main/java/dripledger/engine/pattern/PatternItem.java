package dripledger.engine.pattern;

import dripledger.engine.expr.AggregateCall;
import java.util.List;

/**
 * What a condition or a measure reads of the rows of a match. Rows "of" variables are those that
 * are matched to one of them; of all, if none is named. While a match is being made, and for a
 * measure that is RUNNING, it has the rows up to the one it is asked for.
 */
public sealed interface PatternItem {
  /**
   * A column of one of the rows; NULL if there is no such row.
   *
   * @param first whether it is counted from the first of them, or else from the last
   * @param offset how many of them further
   * @param shift how many rows of the partition from there, back if it is below 0
   * @param running whether the rows are those up to the one it is asked for
   */
  record Value(List<Integer> of, boolean first, int offset, int shift, boolean running, int column)
      implements PatternItem {
    public Value {
      of = List.copyOf(of);
    }
  }

  /** An aggregate of rows; its arguments are their columns. */
  record Total(List<Integer> of, AggregateCall call, boolean running) implements PatternItem {
    public Total {
      of = List.copyOf(of);
    }
  }

  /** The variable that the last of the rows is matched to, by its name. */
  record Label(boolean running) implements PatternItem {}

  /** How many matches the partition has had, this one included. */
  record Number() implements PatternItem {}

  /** A column of the row that is put out; of one row for a match, that is its first. */
  record Own(int column) implements PatternItem {}
}
