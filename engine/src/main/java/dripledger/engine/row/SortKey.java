package dripledger.engine.row;

import java.util.List;
import java.util.stream.Collectors;

/** One item of an order: a column, its direction, and where NULL is. */
public record SortKey(int column, boolean descending, boolean nullsFirst) {
  /** An order as text, with the names of a schema. */
  public static String text(List<SortKey> order, Schema schema) {
    return order.stream()
        .map(key -> schema.column(key.column).name() + (key.descending ? " DESC" : ""))
        .collect(Collectors.joining(", "));
  }
}
