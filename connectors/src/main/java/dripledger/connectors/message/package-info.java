/**
 * Messages to rows: {@link dripledger.connectors.message.MessageReader} for streams and keyed
 * tables from topics and files alike.
 */
package dripledger.connectors.message;
