/**
 * {@link dripledger.engine.recovery.Recovery} brings the graph back at a start: from the last
 * checkpoint, or again from inputs.
 */
package dripledger.engine.recovery;
