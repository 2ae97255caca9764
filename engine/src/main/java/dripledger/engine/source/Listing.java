package dripledger.engine.source;

import java.util.List;

/**
 * What is behind a connection: a topic, a table or a file.
 *
 * @param name how a FROM clause names it
 * @param kind {@code topic}, {@code table} or {@code file}
 * @param partitions of a topic; 1 otherwise
 * @param messages how many there are; of a table the database's estimate; −1 if not known
 * @param bytes its size; −1 if not known
 * @param perSecond messages a second lately; −1 if not known
 * @param key the columns of a table's key
 * @param note what stands in the way of using it, or null
 */
public record Listing(
    String name,
    String kind,
    int partitions,
    long messages,
    long bytes,
    double perSecond,
    List<String> key,
    String note) {}
