package dripledger.engine.row;

import java.util.List;
import java.util.Objects;
import java.util.stream.Collectors;

/**
 * The type of a column: immutable, compared by value.
 *
 * @param kind what family of values
 * @param precision digits of a DECIMAL, characters of a VARCHAR or bytes of a VARBINARY (−1: no
 *     limit)
 * @param scale digits after the point of a DECIMAL
 * @param nullable whether NULL is a value
 * @param fields the fields of a ROW, else empty
 * @param element the element type of an ARRAY, else null
 */
public record ColumnType(
    Kind kind,
    int precision,
    int scale,
    boolean nullable,
    List<Column> fields,
    ColumnType element) {

  /** Decimals up to this many digits live in the slot as a scaled long. */
  public static final int SHORT_DECIMAL_DIGITS = 18;

  /** What family of values a column holds. */
  public enum Kind {
    BOOLEAN,
    SMALLINT,
    INTEGER,
    BIGINT,
    REAL,
    DOUBLE,
    DECIMAL,
    VARCHAR,
    VARBINARY,
    DATE,
    TIME,
    TIMESTAMP,
    /** Microseconds. */
    INTERVAL_DAY_TIME,
    /** Months. */
    INTERVAL_YEAR_MONTH,
    ROW,
    ARRAY;

    public boolean isInteger() {
      return this == SMALLINT || this == INTEGER || this == BIGINT;
    }

    /** Whether it is a kind of integer that has this one. */
    public boolean holds(long number) {
      return this == BIGINT
          || this == INTEGER && number == (int) number
          || this == SMALLINT && number == (short) number;
    }

    public boolean isFloating() {
      return this == REAL || this == DOUBLE;
    }

    public boolean isNumeric() {
      return isInteger() || isFloating() || this == DECIMAL;
    }
  }

  public ColumnType {
    Objects.requireNonNull(kind, "kind");
    fields = List.copyOf(fields);
  }

  public static ColumnType of(Kind kind) {
    return new ColumnType(kind, -1, 0, true, List.of(), null);
  }

  public static ColumnType decimal(int precision, int scale) {
    return new ColumnType(Kind.DECIMAL, precision, scale, true, List.of(), null);
  }

  public static ColumnType varchar(int length) {
    return new ColumnType(Kind.VARCHAR, length, 0, true, List.of(), null);
  }

  public static ColumnType row(List<Column> fields) {
    return new ColumnType(Kind.ROW, -1, 0, true, fields, null);
  }

  public static ColumnType array(ColumnType element) {
    return new ColumnType(Kind.ARRAY, -1, 0, true, List.of(), element);
  }

  public ColumnType withNullable(boolean value) {
    return value == nullable
        ? this
        : new ColumnType(kind, precision, scale, value, fields, element);
  }

  public ColumnType notNull() {
    return withNullable(false);
  }

  /** Whether the slot holds a place in the variable area instead of the value. */
  public boolean isVariable() {
    return switch (kind) {
      case VARCHAR, VARBINARY, ROW, ARRAY -> true;
      case DECIMAL -> precision > SHORT_DECIMAL_DIGITS;
      default -> false;
    };
  }

  /** The type as written in a statement, without nullability. */
  public String sql() {
    return switch (kind) {
      case DECIMAL -> "DECIMAL(" + precision + ", " + scale + ")";
      case VARCHAR -> precision >= 0 ? "VARCHAR(" + precision + ")" : "VARCHAR";
      case INTERVAL_DAY_TIME -> "INTERVAL DAY TO SECOND";
      case INTERVAL_YEAR_MONTH -> "INTERVAL YEAR TO MONTH";
      case ROW ->
          fields.stream()
              .map(f -> f.name() + " " + f.type().sql())
              .collect(Collectors.joining(", ", "ROW(", ")"));
      case ARRAY -> element.sql() + " ARRAY";
      default -> kind.name();
    };
  }

  @Override
  public String toString() {
    return nullable ? sql() : sql() + " NOT NULL";
  }
}
