/**
 * State beside the versioned stores, each answering for its own bytes.
 *
 * <p>{@link dripledger.engine.state.Blobs} holds values of any length that a store's blocks refer
 * to. {@link dripledger.engine.state.KeyedArena} is an open-addressing table over byte arenas, for
 * what only its writer reads. {@link dripledger.engine.state.SortedRuns} holds many small ordered
 * sets of blocks, one a group, for MIN and MAX. {@link dripledger.engine.state.SortedBag} is a
 * persistent ordered tree updated in batches whose old roots are free snapshots: the order of a
 * relation's keys. {@link dripledger.engine.state.ByteArena} is where the first two keep their
 * bytes, {@link dripledger.engine.state.BagBatch} how the tree is told its changes, {@link
 * dripledger.engine.state.StateChunks} in which forms all of it is saved.
 */
package dripledger.engine.state;
