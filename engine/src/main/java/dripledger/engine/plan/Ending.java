package dripledger.engine.plan;

/**
 * When what is kept ends, the groups of an aggregate or the rows of a join: at a time that is among
 * their columns.
 *
 * @param column which of the group's columns, or of the row's
 * @param delayMicros it ends when the watermark has reached its time and so much more
 * @param publishes whether a group's row is put out when it ends, and not before; otherwise it is
 *     there from the first and taken out then
 */
public record Ending(int column, long delayMicros, boolean publishes) {}
