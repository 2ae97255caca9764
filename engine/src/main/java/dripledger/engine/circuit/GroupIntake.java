package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.store.Versions;

/** Adds rows to the groups they belong to. Written by one thread. */
interface GroupIntake {
  void take(Page delta);

  /** Takes in a delta of its input by columns. */
  void take(ColumnDelta delta);

  /** Goes over to the clock of a graph with what it keeps besides the groups. */
  default void join(Versions graph) {}

  default void close() {}
}
