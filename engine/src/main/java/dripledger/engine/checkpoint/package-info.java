/**
 * Checkpoints: {@link dripledger.engine.checkpoint.Checkpointer} notes the state of all operators
 * between two epochs and has it written beside the live work, by a {@link
 * dripledger.engine.checkpoint.CheckpointStore}; recovery loads the last one and reads on from its
 * positions.
 */
package dripledger.engine.checkpoint;
