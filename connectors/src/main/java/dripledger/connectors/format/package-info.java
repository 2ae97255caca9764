/**
 * Formats: bytes to rows. A {@link dripledger.connectors.format.MessageDecoder} reads one message
 * into a {@link dripledger.connectors.format.RowBuilder}; {@link
 * dripledger.connectors.format.EventParser} reads a whole body of NDJSON, a JSON array or CSV,
 * rejecting what is broken one by one and keeping the rest; {@link
 * dripledger.connectors.format.Formats} knows them by name. What leaves the declaration is noted in
 * a {@link dripledger.connectors.format.DriftLog}.
 */
package dripledger.connectors.format;
