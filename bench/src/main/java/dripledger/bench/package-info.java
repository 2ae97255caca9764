/**
 * Benchmarks, run by {@code ./drip bench}: each prints its figure beside that of a baseline
 * measured in the same run. {@link dripledger.bench.Aggregation} measures the circuit against a
 * hand-written loop, {@link dripledger.bench.ViewStores} the published view's store against another
 * form and under reads.
 */
package dripledger.bench;
