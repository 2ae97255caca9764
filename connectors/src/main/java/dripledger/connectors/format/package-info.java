/**
 * Formats: bytes to rows. {@link dripledger.connectors.format.EventParser} reads a whole body of
 * NDJSON, a JSON array or CSV, rejecting what is broken one by one and keeping the rest.
 */
package dripledger.connectors.format;
