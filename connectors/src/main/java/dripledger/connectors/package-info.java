/**
 * Outside systems and formats. {@link dripledger.connectors.OutsideSystems} is what the engine
 * sees; behind it one {@link dripledger.connectors.Connector} a type of system, in a package of its
 * own. {@code message} turns messages into rows, {@code format} knows their forms, {@code infer}
 * reads columns off samples.
 */
package dripledger.connectors;
