package dripledger.engine.expr;

import dripledger.engine.row.RowWriter;

/**
 * A filter and a projection over one row. Generated; without state, so safe from any thread.
 *
 * <p>Any runtime exception thrown by {@link #run} means that the row is rejected: it failed a cast,
 * divided by zero or overflowed. The same row always fails the same way.
 */
public abstract class RowProgram {
  /**
   * Evaluates the program on the row at {@code o}.
   *
   * @param out a writer on which a row has been begun; its columns are set if the answer is true
   * @return whether the row passes the filter
   */
  public abstract boolean run(byte[] b, int o, RowWriter out);

  /**
   * Evaluates the program into columns instead of a row; only if it was compiled so that it can.
   *
   * @param c given the slots of the columns, at {@code i}
   * @param nulls given the bits of those that are NULL, at {@code i}, which is 0 before
   * @return whether the row passes the filter
   */
  public boolean columns(byte[] b, int o, long[][] c, long[] nulls, int i) {
    throw new IllegalStateException("this program makes rows");
  }
}
