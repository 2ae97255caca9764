package dripledger.engine.row;

import java.util.Objects;

/** A named, typed column of a {@link Schema} or field of a ROW. */
public record Column(String name, ColumnType type) {
  public Column {
    Objects.requireNonNull(name, "name");
    Objects.requireNonNull(type, "type");
  }
}
