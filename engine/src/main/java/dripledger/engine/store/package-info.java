/**
 * Relations as they are kept: once, in place, and readable as they were at an earlier version.
 *
 * <p>Read in this order: {@link dripledger.engine.store.Versions} (the clock of a graph, pins, and
 * what may be forgotten), {@link dripledger.engine.store.KeyedStore} (blocks changed in place
 * behind undo records), {@link dripledger.engine.store.KeyedReads} (how they are read), {@link
 * dripledger.engine.store.UndoLog} (where those records live), {@link
 * dripledger.engine.store.PartitionedSlots} (from a key's hash to its block), {@link
 * dripledger.engine.store.HeaderSweep} (why versions may come round).
 *
 * <p>One thread writes, any number reads, and nobody waits. The writer's steps that readers rely on
 * are in an order that is written down where they are made; each has a stress test. Nothing here
 * knows SQL, rows or operators.
 */
package dripledger.engine.store;
