/**
 * CREATE, ALTER and DROP, durable and live in one step: start at {@link
 * dripledger.engine.definition.Definitions}. New nodes are filled beside the live work by {@link
 * dripledger.engine.definition.Backfill}; {@link dripledger.engine.definition.SharedSteps} keeps
 * each step with state once, {@link dripledger.engine.definition.OngoingWork} says what is being
 * made.
 */
package dripledger.engine.definition;
