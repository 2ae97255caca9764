/**
 * What readers see: a {@link dripledger.engine.view.Snapshot} of all relations at one epoch, {@link
 * dripledger.engine.view.Pinned} for as long as it is read. A {@link
 * dripledger.engine.view.RelationVersion} answers look-ups, ranges and scans from where the rows
 * are kept, and never waits for the writer. An {@link dripledger.engine.view.OverlayVersion} is a
 * table as an open transaction sees it.
 */
package dripledger.engine.view;
