package dripledger.engine.sql;

import dripledger.engine.row.ColumnType;

/**
 * The value of a parameter whose type was settled before it came: the statement has this type,
 * whatever the value is.
 *
 * @param value a boxed value as {@link dripledger.engine.row.BoxedRows} has them, or null
 */
public record Argument(ColumnType type, Object value) {
  /** Stands for a value that was not given, whose conditions fall away. */
  public static final Object ABSENT = "absent".toCharArray();

  /**
   * Stands for a value that is not known yet, of a type that is, and that will not be NULL.
   *
   * @param index which of the values of the statement it is
   */
  record Open(int index, ColumnType type) {}

  /** The value that was given, with or without its type. */
  public static Object plain(Object given) {
    return given instanceof Argument a ? a.value : given;
  }
}
