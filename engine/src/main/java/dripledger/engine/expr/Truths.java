package dripledger.engine.expr;

import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Blobs;

/** BOOL_AND and BOOL_OR. State: how many values are true, and how many false. */
record Truths(RowLayout input, int argument, boolean every) implements Accumulator {
  @Override
  public int stateWords() {
    return 2;
  }

  @Override
  public void add(byte[] row, int at, long weight, long[] state, int stateAt, Blobs blobs) {
    if (!input.isNull(row, at, argument)) {
      state[stateAt + (input.slot(row, at, argument) != 0 ? 0 : 1)] += weight;
    }
  }

  @Override
  public void write(long[] state, int stateAt, Blobs blobs, RowWriter out, int column) {
    if (state[stateAt] == 0 && state[stateAt + 1] == 0) {
      out.setNull(column);
    } else {
      out.setBoolean(column, every ? state[stateAt + 1] == 0 : state[stateAt] != 0);
    }
  }
}
