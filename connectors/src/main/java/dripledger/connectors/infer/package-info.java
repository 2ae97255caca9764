/** Columns from samples: {@link dripledger.connectors.infer.Inference}. Knows no source. */
package dripledger.connectors.infer;
