package dripledger.engine.query;

/**
 * What a query that is asked once may take.
 *
 * @param maxResultRows one that answers more rows is refused
 * @param millis how long it may take; 0 for any time
 * @param maxBytes heap it may hold, beside its answer
 */
public record QueryBounds(int maxResultRows, long millis, long maxBytes) {}
