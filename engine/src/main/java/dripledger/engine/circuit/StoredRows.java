package dripledger.engine.circuit;

import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.store.KeyedStore;

/** A relation whose rows are made of the blocks of a {@link KeyedStore}. */
interface StoredRows {
  KeyedStore store();

  /** How the store's keys are made of columns. */
  GroupKeys keys();

  /** The layout of the rows. */
  RowLayout layout();

  /**
   * Sets the columns of a row that was begun. Any thread.
   *
   * @param words of a block: its key, then its state
   * @return whether the block has a row
   */
  boolean row(long[] words, RowWriter writer);

  /** How many times the row of a block is there. Any thread. */
  long copies(long[] words);

  /** Another number whenever a block has got a row or lost it; by the writer. */
  long membership();

  /** Its blocks in the order of columns of its key. */
  OrderedIndexes indexes();

  /**
   * Its blocks in the order of any columns of the rows that a relation makes of them; null if they
   * cannot be found so. Kept until {@link #forget}.
   */
  OrderedIndexes rowIndexes(Finish finish);

  /** The rows that a relation makes of them are not looked for any more. */
  void forget(Finish finish);

  /** Another number whenever a row has come, gone or changed; by the writer. */
  long rowChanges();

  /** Heap that is held for the rows alone, in bytes; 0 if it is state of an operator. */
  long rowBytes();
}
