/**
 * What connects the engine to the world. {@code format} turns bytes into rows; sources and sinks
 * for brokers, databases and files get a package each.
 */
package dripledger.connectors;
