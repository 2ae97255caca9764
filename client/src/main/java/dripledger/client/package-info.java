/**
 * The {@code drip} command line. {@link dripledger.client.Drip} is the entry; each command is a
 * class named after it; {@link dripledger.client.Service} talks HTTP; {@link
 * dripledger.client.TextTable} and {@link dripledger.client.Output} print. Shares no code with the
 * server.
 */
package dripledger.client;
