/**
 * When views take in what has changed: {@link dripledger.engine.upkeep.Upkeeper} refreshes those
 * that are not kept up all the time, {@link dripledger.engine.upkeep.Freshness} measures how old
 * what is shown is.
 */
package dripledger.engine.upkeep;
