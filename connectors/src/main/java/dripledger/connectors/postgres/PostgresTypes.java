package dripledger.connectors.postgres;

import dripledger.connectors.format.FormatException;
import dripledger.connectors.format.RowBuilder;
import dripledger.engine.expr.Casts;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import java.math.BigDecimal;
import java.nio.charset.StandardCharsets;
import java.time.OffsetDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.HexFormat;
import java.util.List;
import java.util.Map;

/** The database's types and their text form, as ours. Pure functions. */
final class PostgresTypes {
  private static final int HEADER = 4; // typmod counts it

  private static final Map<Integer, Kind> KINDS =
      Map.ofEntries(
          Map.entry(16, Kind.BOOLEAN),
          Map.entry(17, Kind.VARBINARY),
          Map.entry(20, Kind.BIGINT),
          Map.entry(21, Kind.SMALLINT),
          Map.entry(23, Kind.INTEGER),
          Map.entry(26, Kind.BIGINT),
          Map.entry(700, Kind.REAL),
          Map.entry(701, Kind.DOUBLE),
          Map.entry(1082, Kind.DATE),
          Map.entry(1083, Kind.TIME),
          Map.entry(1114, Kind.TIMESTAMP),
          Map.entry(1184, Kind.TIMESTAMP));
  private static final int NUMERIC = 1700;
  private static final int BPCHAR = 1042;
  private static final int VARCHAR = 1043;
  private static final Map<Integer, Integer> ELEMENTS =
      Map.ofEntries(
          Map.entry(1000, 16),
          Map.entry(1005, 21),
          Map.entry(1007, 23),
          Map.entry(1016, 20),
          Map.entry(1009, 25),
          Map.entry(1015, VARCHAR),
          Map.entry(1021, 700),
          Map.entry(1022, 701),
          Map.entry(1182, 1082),
          Map.entry(1115, 1114),
          Map.entry(1185, 1184),
          Map.entry(1231, NUMERIC),
          Map.entry(2951, 2950));

  private PostgresTypes() {}

  /** Our type of a column; what has no type of its own here is its text. */
  static ColumnType type(int oid, int modifier) {
    if (oid == NUMERIC) {
      if (modifier < HEADER) {
        return ColumnType.decimal(38, 12);
      }
      int precision = (modifier - HEADER) >> 16 & 0xFFFF;
      int scale = (modifier - HEADER) & 0x7FF;
      return precision > 38 || scale > 37
          ? ColumnType.varchar(-1)
          : ColumnType.decimal(precision, scale);
    }
    if (oid == VARCHAR || oid == BPCHAR) {
      return ColumnType.varchar(modifier < HEADER ? -1 : modifier - HEADER);
    }
    if (ELEMENTS.containsKey(oid)) {
      return ColumnType.array(type(ELEMENTS.get(oid), modifier).withNullable(true));
    }
    Kind kind = KINDS.get(oid);
    return kind == null ? ColumnType.varchar(-1) : ColumnType.of(kind);
  }

  /** Whether values of a source type can be kept in a declared one without loss. */
  static boolean fits(ColumnType source, ColumnType declared) {
    Kind from = source.kind();
    Kind to = declared.kind();
    if (to == Kind.VARCHAR) {
      return true;
    }
    if (from.isInteger() && (to.isInteger() || to == Kind.DECIMAL)) {
      return to == Kind.DECIMAL || to.ordinal() >= from.ordinal();
    }
    if (from == Kind.ARRAY && to == Kind.ARRAY) {
      return fits(source.element(), declared.element());
    }
    return from == to || from == Kind.REAL && to == Kind.DOUBLE;
  }

  /**
   * Sets a column from the server's text of its value.
   *
   * @throws FormatException if it does not fit the column
   */
  static void set(RowBuilder into, int index, byte[] bytes, int from, int length) {
    Column column = into.schema().column(index);
    Kind kind = column.type().kind();
    if (kind == Kind.VARCHAR && column.type().precision() < 0) {
      into.setBytes(index, bytes, from, length);
      return;
    }
    if (kind == Kind.BIGINT || kind == Kind.INTEGER || kind == Kind.SMALLINT) {
      long value = integer(bytes, from, length);
      if (value != Long.MIN_VALUE) {
        into.setLong(index, value);
        return;
      }
    }
    set(into, index, column, new String(bytes, from, length, StandardCharsets.UTF_8));
  }

  /** The digits as a number, or Long.MIN_VALUE if they are not plain ones. */
  private static long integer(byte[] bytes, int from, int length) {
    int at = from;
    int end = from + length;
    boolean negative = length > 1 && bytes[at] == '-';
    at += negative ? 1 : 0;
    if (at == end || end - at > 18) {
      return Long.MIN_VALUE;
    }
    long value = 0;
    for (; at < end; at++) {
      int digit = bytes[at] - '0';
      if (digit < 0 || digit > 9) {
        return Long.MIN_VALUE;
      }
      value = value * 10 + digit;
    }
    return negative ? -value : value;
  }

  static void set(RowBuilder into, int index, Column column, String text) {
    try {
      switch (column.type().kind()) {
        case BOOLEAN -> into.setLong(index, text.startsWith("t") ? 1 : 0);
        case DECIMAL -> into.setDecimal(index, new BigDecimal(text));
        case TIMESTAMP -> into.setLong(index, timestamp(text));
        case VARBINARY -> into.setBoxed(index, HexFormat.of().parseHex(text, 2, text.length()));
        case ARRAY -> into.setBoxed(index, new ArrayText(text, column.type().element()).read());
        default -> into.setParsed(index, text);
      }
    } catch (FormatException e) {
      throw e;
    } catch (RuntimeException e) {
      throw new FormatException(
          "column " + column.name() + ": \"" + text + "\" is not of type " + column.type().sql());
    }
  }

  /** {@code 2026-03-02 06:14:09.12} in UTC, or with an offset behind it. */
  private static long timestamp(String text) {
    int sign = Math.max(text.indexOf('+', 11), text.indexOf('-', 11));
    if (sign < 0) {
      return Casts.toTimestamp(text);
    }
    String offset = text.substring(sign);
    String iso =
        text.substring(0, sign).replace(' ', 'T')
            + (offset.length() == 3 ? offset + ":00" : offset);
    var utc = OffsetDateTime.parse(iso).withOffsetSameInstant(ZoneOffset.UTC).toLocalDateTime();
    return dripledger.engine.row.BoxedRows.micros(utc);
  }

  /** The text form of an array of one dimension: {@code {a,"b c",NULL}}. */
  private static final class ArrayText {
    private final String text;
    private final ColumnType element;
    private int at = 1;

    ArrayText(String text, ColumnType element) {
      if (!text.startsWith("{") || text.startsWith("{{")) {
        throw new IllegalArgumentException("not an array of one dimension");
      }
      this.text = text;
      this.element = element;
    }

    List<Object> read() {
      List<Object> values = new ArrayList<>();
      while (text.charAt(at) != '}') {
        values.add(one());
        if (text.charAt(at) == ',') {
          at++;
        }
      }
      return values;
    }

    private Object one() {
      StringBuilder value = new StringBuilder();
      boolean quoted = text.charAt(at) == '"';
      at += quoted ? 1 : 0;
      while (quoted ? text.charAt(at) != '"' : ",}".indexOf(text.charAt(at)) < 0) {
        if (text.charAt(at) == '\\') {
          at++;
        }
        value.append(text.charAt(at++));
      }
      at += quoted ? 1 : 0;
      if (!quoted && value.toString().equals("NULL")) {
        return null;
      }
      Column column = new Column("element", element.withNullable(true));
      RowBuilder builder = new RowBuilder(Schema.of(column));
      PostgresTypes.set(builder, 0, column, value.toString());
      return builder.boxed(0);
    }
  }
}
