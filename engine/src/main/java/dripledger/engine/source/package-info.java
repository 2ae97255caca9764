/**
 * What the engine knows of outside systems: the interface it asks them through ({@link
 * dripledger.engine.source.Connectors}, {@link dripledger.engine.source.Feed}), what they hand over
 * ({@link dripledger.engine.source.SourceSink}, {@link dripledger.engine.source.SourceBatch}) and
 * what is told of them. No protocol or format lives here.
 */
package dripledger.engine.source;
