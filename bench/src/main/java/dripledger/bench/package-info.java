/**
 * Benchmarks, run by {@code ./drip bench}: each prints its figure beside that of a baseline
 * measured in the same run. {@link dripledger.bench.Aggregation} measures a grouped view, kept and
 * read, against a hand-written loop, {@link dripledger.bench.Reading} sources against plain
 * readers.
 */
package dripledger.bench;
