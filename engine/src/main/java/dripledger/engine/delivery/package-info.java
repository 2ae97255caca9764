/**
 * Deliveries: what a query's answer changes, carried on to outside systems. What an epoch changes
 * waits in an {@link dripledger.engine.delivery.Outbox} until a checkpoint holds it; a {@link
 * dripledger.engine.delivery.Deliverer} carries what is held, in numbered batches, so that after a
 * crash the target's own number tells what has arrived. The outside systems themselves are behind
 * {@link dripledger.engine.source.Target}.
 */
package dripledger.engine.delivery;
