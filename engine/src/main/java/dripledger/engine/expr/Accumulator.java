package dripledger.engine.expr;

import dripledger.engine.row.RowWriter;
import dripledger.engine.state.ByteArena;

/**
 * What one aggregate call keeps for a group: a fixed number of bytes inside the group's value, and
 * blobs in the arena where that is not enough. Adding a row with weight w and later with −w leaves
 * exactly the state of before, so results never depend on the order of changes.
 *
 * <p>Holds no state of its own; used by the one thread that steps the circuit.
 */
public interface Accumulator {
  /** Bytes of state, all zero for an empty group. */
  int stateBytes();

  /** Takes in a row of the aggregate's input {@code weight} times; negative takes out. */
  void add(byte[] row, int at, long weight, byte[] state, int stateAt, ByteArena blobs);

  /**
   * Sets the result column.
   *
   * @throws ArithmeticException if the result does not fit its type
   */
  void write(byte[] state, int stateAt, ByteArena blobs, RowWriter out, int column);

  /** Gives blobs back before the group is removed. */
  default void release(byte[] state, int stateAt, ByteArena blobs) {}
}
