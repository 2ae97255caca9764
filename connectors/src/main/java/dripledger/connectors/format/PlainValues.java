package dripledger.connectors.format;

import dripledger.engine.expr.Casts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.math.BigDecimal;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Base64;
import java.util.List;
import java.util.Map;
import tools.jackson.databind.json.JsonMapper;

/**
 * Values as plain objects (Boolean, Long, Double, BigDecimal, String, byte[], LocalDate, LocalTime,
 * LocalDateTime, List, Map by field name) to the types of columns: how formats without a decoder of
 * their own become rows. Nothing is lost silently: what does not fit is refused.
 */
final class PlainValues {
  private static final JsonMapper JSON = JsonMapper.builder().build();

  private PlainValues() {}

  /** Sets the columns that a record has. */
  static void setAll(Map<?, ?> record, FieldTree fields, RowBuilder into, DriftLog drift) {
    record.forEach((name, value) -> setField((String) name, value, fields, into, drift));
  }

  private static void setField(
      String name, Object value, FieldTree fields, RowBuilder into, DriftLog drift) {
    int column = fields.column(name);
    FieldTree inside = fields.group(name);
    String path = fields.path() + name;
    if (column >= 0) {
      set(value, into.schema().column(column), column, into, drift);
    } else if (inside != null && value instanceof Map<?, ?> map) {
      setAll(map, inside, into, drift);
    } else if (inside != null && value != null) {
      throw new FormatException("field " + path + ": " + text(value) + " is not an object");
    } else if (drift != null && value != null && !drift.known(path)) {
      drift.newField(path, typeName(value), text(value));
    }
  }

  private static void set(Object value, Column column, int index, RowBuilder into, DriftLog drift) {
    try {
      into.setBoxed(index, boxed(value, column.type()));
    } catch (FormatException e) {
      throw e;
    } catch (RuntimeException e) {
      if (drift != null) {
        drift.misfit(column.name(), typeName(value), text(value));
      }
      throw new FormatException(
          "column "
              + column.name()
              + ": "
              + (value instanceof String ? "\"" + text(value) + "\"" : text(value))
              + " is not of type "
              + column.type().sql());
    }
  }

  /** The value in the boxed form of a column's type. */
  static Object boxed(Object value, ColumnType type) {
    if (value == null) {
      return null;
    }
    return switch (type.kind()) {
      case VARCHAR -> value instanceof String s ? s : text(value);
      case VARBINARY -> value instanceof byte[] b ? b : Base64.getDecoder().decode((String) value);
      case BOOLEAN -> value instanceof Boolean b ? b : Casts.toBoolean((String) value);
      case SMALLINT -> Casts.shortRange(integer(value));
      case INTEGER -> Casts.intRange(integer(value));
      case BIGINT -> integer(value);
      case REAL, DOUBLE ->
          value instanceof Number n ? (Object) n.doubleValue() : Casts.toDouble((String) value);
      case DECIMAL -> Casts.fit(decimal(value), type.precision(), type.scale());
      case TIMESTAMP ->
          value instanceof LocalDateTime t
              ? t
              : value instanceof LocalDate d
                  ? d.atStartOfDay()
                  : value instanceof Long millis
                      ? BoxedRows.timestamp(Math.multiplyExact(millis, 1000L))
                      : BoxedRows.timestamp(Casts.toTimestamp((String) value));
      case DATE ->
          value instanceof LocalDate d ? d : LocalDate.ofEpochDay(Casts.toDate((String) value));
      case TIME ->
          value instanceof LocalTime t
              ? t
              : LocalTime.ofNanoOfDay(Casts.toTime((String) value) * 1000);
      case ROW -> {
        Object[] fields = new Object[type.fields().size()];
        Map<?, ?> map = (Map<?, ?>) value;
        for (int i = 0; i < fields.length; i++) {
          Column field = type.fields().get(i);
          fields[i] = boxed(map.get(field.name()), field.type());
        }
        yield Arrays.asList(fields);
      }
      case ARRAY -> {
        List<Object> elements = new ArrayList<>();
        for (Object element : (List<?>) value) {
          elements.add(boxed(element, type.element()));
        }
        yield elements;
      }
      default -> throw new IllegalArgumentException(type.sql());
    };
  }

  private static long integer(Object value) {
    return value instanceof Long l ? l : decimal(value).longValueExact();
  }

  private static BigDecimal decimal(Object value) {
    if (value instanceof BigDecimal d) {
      return d;
    }
    return value instanceof Double d
        ? BigDecimal.valueOf(d)
        : new BigDecimal(value.toString().strip());
  }

  /** The value as text; what has structure as JSON. */
  static String text(Object value) {
    if (value instanceof Map || value instanceof List) {
      return JSON.writeValueAsString(jsonReady(value));
    }
    if (value instanceof BigDecimal d) {
      return d.toPlainString();
    }
    if (value instanceof LocalDateTime t) {
      return Casts.isoTimestamp(BoxedRows.micros(t));
    }
    return value instanceof byte[] b ? Base64.getEncoder().encodeToString(b) : value.toString();
  }

  private static Object jsonReady(Object value) {
    if (value instanceof Map<?, ?> map) {
      Map<Object, Object> ready = new java.util.LinkedHashMap<>();
      map.forEach((k, v) -> ready.put(k, jsonReady(v)));
      return ready;
    }
    if (value instanceof List<?> list) {
      return list.stream().map(PlainValues::jsonReady).toList();
    }
    return value == null || value instanceof Boolean || value instanceof Number
        ? value
        : text(value);
  }

  /** The type a value looks like. */
  static String typeName(Object value) {
    if (value instanceof Long) {
      return "BIGINT";
    }
    if (value instanceof Number) {
      return value instanceof BigDecimal ? "DECIMAL" : "DOUBLE";
    }
    if (value instanceof Boolean) {
      return "BOOLEAN";
    }
    if (value instanceof LocalDateTime) {
      return "TIMESTAMP";
    }
    if (value instanceof LocalDate) {
      return "DATE";
    }
    return value instanceof Map
        ? "ROW"
        : value instanceof List
            ? "ARRAY"
            : value instanceof byte[] ? Kind.VARBINARY.name() : Kind.VARCHAR.name();
  }
}
