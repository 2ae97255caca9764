package dripledger.engine.expr;

import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Blobs;

/**
 * What one aggregate call keeps for a group: a fixed number of words inside the group's state, and
 * blobs where that is not enough. Adding a row with weight w and later with −w leaves exactly the
 * state of before, so results never depend on the order of changes.
 *
 * <p>Holds no state of its own; used by the one thread that steps the circuit.
 */
public interface Accumulator {
  /** Words of state, all zero for an empty group. */
  int stateWords();

  /** Takes in a row of the aggregate's input {@code weight} times; negative takes out. */
  void add(byte[] row, int at, long weight, long[] state, int stateAt, Blobs blobs);

  /**
   * Sets the result column.
   *
   * @throws ArithmeticException if the result does not fit its type
   */
  void write(long[] state, int stateAt, Blobs blobs, RowWriter out, int column);

  /** Whether {@link #write} may throw for some state. */
  default boolean canFail() {
    return false;
  }

  /** The words of the state that refer to a blob, or to none while they are 0. */
  default int[] blobWords() {
    return new int[0];
  }

  /** Gives blobs back before the group is removed. */
  default void release(long[] state, int stateAt, Blobs blobs) {}
}
