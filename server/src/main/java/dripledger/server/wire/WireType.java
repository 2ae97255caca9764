package dripledger.server.wire;

import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.util.EnumMap;
import java.util.HashMap;
import java.util.Map;

/**
 * A type by the number that the protocol's clients know it by.
 *
 * @param oid the number
 * @param size bytes of a value in binary; −1 if they differ
 * @param modifier its length or digits, as PostgreSQL packs them; −1 for none
 */
record WireType(int oid, int size, int modifier) {
  static final int BOOL = 16;
  static final int BYTEA = 17;
  static final int NAME = 19;
  static final int INT8 = 20;
  static final int INT2 = 21;
  static final int INT4 = 23;
  static final int TEXT = 25;
  static final int OID = 26;
  static final int JSON = 114;
  static final int FLOAT4 = 700;
  static final int FLOAT8 = 701;
  static final int UNKNOWN = 705;
  static final int BPCHAR = 1042;
  static final int VARCHAR = 1043;
  static final int DATE = 1082;
  static final int TIME = 1083;
  static final int TIMESTAMP = 1114;
  static final int TIMESTAMPTZ = 1184;
  static final int INTERVAL = 1186;
  static final int NUMERIC = 1700;

  private static final Map<Kind, Integer> ARRAYS = new EnumMap<>(Kind.class);
  private static final Map<Integer, ColumnType> KNOWN = new HashMap<>();

  static {
    know(Kind.BOOLEAN, 1000, BOOL);
    know(Kind.VARBINARY, 1001, BYTEA);
    know(Kind.SMALLINT, 1005, INT2);
    know(Kind.INTEGER, 1007, INT4, OID);
    know(Kind.BIGINT, 1016, INT8);
    know(Kind.REAL, 1021, FLOAT4);
    know(Kind.DOUBLE, 1022, FLOAT8);
    know(Kind.VARCHAR, 1009, TEXT, VARCHAR, BPCHAR, NAME, JSON);
    know(Kind.DATE, 1182, DATE);
    know(Kind.TIME, 1183, TIME);
    know(Kind.TIMESTAMP, 1115, TIMESTAMP, TIMESTAMPTZ);
    ARRAYS.put(Kind.DECIMAL, 1231);
    know(Kind.INTERVAL_DAY_TIME, 1187, INTERVAL);
    ARRAYS.put(Kind.INTERVAL_YEAR_MONTH, 1187);
    KNOWN.put(NUMERIC, ColumnType.decimal(38, 19));
    KNOWN.put(1231, ColumnType.array(ColumnType.decimal(38, 19)));
    KNOWN.put(1015, ColumnType.array(ColumnType.of(Kind.VARCHAR)));
  }

  private static void know(Kind kind, int array, int... single) {
    ARRAYS.put(kind, array);
    KNOWN.put(array, ColumnType.array(ColumnType.of(kind)));
    for (int oid : single) {
      KNOWN.put(oid, ColumnType.of(kind));
    }
  }

  /**
   * What a client means by a number.
   *
   * @return null if it leaves that to us, or means a type that we do not have
   */
  static ColumnType columnType(int oid) {
    return KNOWN.get(oid);
  }

  /** How our types are shown; a ROW, and an ARRAY of such, is JSON. */
  static WireType of(ColumnType type) {
    return switch (type.kind()) {
      case BOOLEAN -> new WireType(BOOL, 1, -1);
      case SMALLINT -> new WireType(INT2, 2, -1);
      case INTEGER -> new WireType(INT4, 4, -1);
      case BIGINT -> new WireType(INT8, 8, -1);
      case REAL -> new WireType(FLOAT4, 4, -1);
      case DOUBLE -> new WireType(FLOAT8, 8, -1);
      case DECIMAL ->
          new WireType(
              NUMERIC, -1, type.precision() < 0 ? -1 : (type.precision() << 16 | type.scale()) + 4);
      case VARCHAR ->
          type.precision() < 0
              ? new WireType(TEXT, -1, -1)
              : new WireType(VARCHAR, -1, type.precision() + 4);
      case VARBINARY -> new WireType(BYTEA, -1, -1);
      case DATE -> new WireType(DATE, 4, -1);
      case TIME -> new WireType(TIME, 8, -1);
      case TIMESTAMP -> new WireType(TIMESTAMP, 8, -1);
      case INTERVAL_DAY_TIME, INTERVAL_YEAR_MONTH -> new WireType(INTERVAL, 16, -1);
      case ROW -> new WireType(JSON, -1, -1);
      case ARRAY -> new WireType(isJson(type) ? JSON : ARRAYS.get(type.element().kind()), -1, -1);
    };
  }

  /** Whether values of a type are shown as JSON. */
  static boolean isJson(ColumnType type) {
    return type.kind() == Kind.ROW
        || type.kind() == Kind.ARRAY && !ARRAYS.containsKey(type.element().kind());
  }

  /** The name of a type in PostgreSQL's language. */
  static String sql(ColumnType type) {
    return switch (type.kind()) {
      case BOOLEAN -> "boolean";
      case SMALLINT -> "smallint";
      case INTEGER -> "integer";
      case BIGINT -> "bigint";
      case REAL -> "real";
      case DOUBLE -> "double precision";
      case DECIMAL -> "numeric(" + type.precision() + "," + type.scale() + ")";
      case VARCHAR -> type.precision() < 0 ? "text" : "varchar(" + type.precision() + ")";
      case VARBINARY -> "bytea";
      case DATE -> "date";
      case TIME -> "time";
      case TIMESTAMP -> "timestamp";
      case INTERVAL_DAY_TIME, INTERVAL_YEAR_MONTH -> "interval";
      case ROW -> "json";
      case ARRAY -> isJson(type) ? "json" : sql(type.element()) + "[]";
    };
  }
}
