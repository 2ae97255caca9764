/**
 * Published, versioned results. A {@link dripledger.engine.view.ViewStore} is the writer's side: it
 * takes deltas and keeps an ordered bag of rows. A {@link dripledger.engine.view.RelationVersion}
 * is the reader's: one immutable version with look-ups, ranges and scans that never wait for the
 * writer.
 */
package dripledger.engine.view;
