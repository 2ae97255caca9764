package dripledger.engine.circuit;

import dripledger.engine.row.Page;

/**
 * Who is given what a step changes, piece by piece, while it is near. The pieces are used again.
 */
public interface DeltaReaders {
  /** A piece as rows. */
  void rows(Page piece);

  /** A piece by columns; only if all who read can take them: see {@link Circuit#columnsRead}. */
  void columns(ColumnDelta piece);
}
