/**
 * Deliveries to addresses that take HTTP: batches of changes as JSON, signed if a secret is set.
 */
package dripledger.connectors.webhook;
