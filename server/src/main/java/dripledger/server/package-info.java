/**
 * The service. {@code http} is the network interface, {@code records} what is durable in
 * PostgreSQL; here is what puts them together: {@link dripledger.server.DripLedger} starts it,
 * {@link dripledger.server.EngineConfiguration} wires the engine to its records. No operator logic
 * lives in this module.
 */
package dripledger.server;
