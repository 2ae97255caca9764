package dripledger.engine.row;

/** One item of an order: a column, its direction, and where NULL is. */
public record SortKey(int column, boolean descending, boolean nullsFirst) {}
