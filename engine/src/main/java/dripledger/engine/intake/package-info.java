/**
 * Feeds at work: {@link dripledger.engine.intake.Sources} opens, closes and watches them, {@link
 * dripledger.engine.intake.StreamHistory} reads again what a stream has had.
 */
package dripledger.engine.intake;
