/**
 * The keyed stores that operators hold and views are published from, each answering for its own
 * bytes.
 *
 * <p>Two forms, for two needs. {@link dripledger.engine.state.KeyedArena} is the mutable one: an
 * open-addressing table over byte arenas, for state that is only ever reached by its whole key.
 * {@link dripledger.engine.state.SortedBag} is the immutable one: an ordered tree updated in
 * batches whose old roots are free snapshots, for published views and for state in which order
 * matters (MIN and MAX under retraction). {@link dripledger.engine.state.ByteArena} is where the
 * former keeps its bytes, {@link dripledger.engine.state.BagBatch} how the latter is told its
 * changes.
 */
package dripledger.engine.state;
