package dripledger.engine.source;

/**
 * A way in which messages have left their declaration.
 *
 * @param field the field's path
 * @param what {@code new field} or {@code type}
 * @param count messages so far
 * @param type the type its values look like
 * @param example the first such value, shortened
 * @param origin where it was met first
 */
public record Drift(
    String field, String what, long count, String type, String example, String origin) {}
