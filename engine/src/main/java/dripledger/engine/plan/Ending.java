package dripledger.engine.plan;

/**
 * When the groups of an aggregate end: at a time that is among their columns.
 *
 * @param column which of the group columns
 * @param delayMicros a group ends when the watermark has reached its time and so much more
 * @param publishes whether a group's row is put out when it ends, and not before; otherwise it is
 *     there from the first and taken out then
 */
public record Ending(int column, long delayMicros, boolean publishes) {}
