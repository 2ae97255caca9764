/**
 * Columns from samples: {@link dripledger.connectors.infer.Inference}. Knows no source or format.
 */
package dripledger.connectors.infer;
