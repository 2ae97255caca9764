package dripledger.engine.circuit;

import dripledger.engine.row.Page;

/** Told of a node's delta at the end of each epoch that has one, on the loop's thread. */
public interface ChangeListener {
  /** The page must not be kept. */
  void changed(long epoch, Page delta);

  /** Nothing more will come. */
  default void ended(String reason) {}
}
