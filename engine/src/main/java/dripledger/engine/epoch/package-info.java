/**
 * The loop that advances everything: {@link dripledger.engine.epoch.EpochLoop} takes what the
 * inputs have ready, steps the graph and publishes all relations at once; nothing else writes.
 * {@link dripledger.engine.epoch.InputQueue} bounds what waits for it, {@link
 * dripledger.engine.epoch.EpochNumbers} reserves numbers ahead. No I/O happens on its thread.
 */
package dripledger.engine.epoch;
