/**
 * What readers see: a {@link dripledger.engine.view.Snapshot} of all relations at one epoch, {@link
 * dripledger.engine.view.Pinned} for as long as it is read. A {@link
 * dripledger.engine.view.RelationVersion} answers look-ups, ranges and scans and never waits for
 * the writer: from operator state where that holds the rows, or from the tree of a {@link
 * dripledger.engine.view.ViewStore}.
 */
package dripledger.engine.view;
