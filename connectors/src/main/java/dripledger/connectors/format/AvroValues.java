package dripledger.connectors.format;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.math.BigDecimal;
import java.math.BigInteger;
import java.nio.ByteBuffer;
import java.time.LocalDate;
import java.time.LocalTime;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import org.apache.avro.LogicalType;
import org.apache.avro.LogicalTypes;
import org.apache.avro.Schema;
import org.apache.avro.generic.GenericFixed;
import org.apache.avro.generic.IndexedRecord;

/** Avro data and schemas (specification 1.12) as plain values and columns. Pure functions. */
final class AvroValues {
  private AvroValues() {}

  /** A record as plain values by field name. */
  static Map<String, Object> record(IndexedRecord record) {
    Map<String, Object> values = new LinkedHashMap<>();
    for (Schema.Field field : record.getSchema().getFields()) {
      values.put(field.name(), plain(record.get(field.pos()), field.schema()));
    }
    return values;
  }

  private static Object plain(Object datum, Schema schema) {
    if (datum == null) {
      return null;
    }
    LogicalType logical = schema.getLogicalType();
    return switch (schema.getType()) {
      case UNION ->
          plain(
              datum,
              schema
                  .getTypes()
                  .get(org.apache.avro.generic.GenericData.get().resolveUnion(schema, datum)));
      case RECORD -> record((IndexedRecord) datum);
      case ARRAY -> {
        List<Object> list = new ArrayList<>();
        for (Object element : (Iterable<?>) datum) {
          list.add(plain(element, schema.getElementType()));
        }
        yield list;
      }
      case MAP -> {
        Map<String, Object> map = new LinkedHashMap<>();
        ((Map<?, ?>) datum)
            .forEach((k, v) -> map.put(k.toString(), plain(v, schema.getValueType())));
        yield map;
      }
      case STRING, ENUM -> datum.toString();
      case INT -> integer(((Number) datum).longValue(), logical);
      case LONG -> integer((Long) datum, logical);
      case FLOAT -> ((Number) datum).doubleValue();
      case BYTES -> bytes(remaining((ByteBuffer) datum), logical);
      case FIXED -> bytes(((GenericFixed) datum).bytes(), logical);
      default -> datum;
    };
  }

  private static Object integer(long value, LogicalType logical) {
    if (logical instanceof LogicalTypes.Date) {
      return LocalDate.ofEpochDay(value);
    }
    if (logical instanceof LogicalTypes.TimeMillis) {
      return LocalTime.ofNanoOfDay(value * 1_000_000);
    }
    if (logical instanceof LogicalTypes.TimeMicros) {
      return LocalTime.ofNanoOfDay(value * 1000);
    }
    if (logical instanceof LogicalTypes.TimestampMillis
        || logical instanceof LogicalTypes.LocalTimestampMillis) {
      return BoxedRows.timestamp(Math.multiplyExact(value, 1000L));
    }
    return logical instanceof LogicalTypes.TimestampMicros
            || logical instanceof LogicalTypes.LocalTimestampMicros
        ? BoxedRows.timestamp(value)
        : (Object) value;
  }

  private static Object bytes(byte[] value, LogicalType logical) {
    return logical instanceof LogicalTypes.Decimal d
        ? new BigDecimal(new BigInteger(value), d.getScale())
        : value;
  }

  private static byte[] remaining(ByteBuffer buffer) {
    byte[] bytes = new byte[buffer.remaining()];
    buffer.duplicate().get(bytes);
    return bytes;
  }

  /** The columns a record schema says. */
  static List<Column> columns(Schema record) {
    return record.getFields().stream().map(f -> new Column(f.name(), type(f.schema()))).toList();
  }

  private static ColumnType type(Schema schema) {
    LogicalType logical = schema.getLogicalType();
    ColumnType type =
        switch (schema.getType()) {
          case UNION -> {
            List<Schema> others =
                schema.getTypes().stream().filter(t -> t.getType() != Schema.Type.NULL).toList();
            boolean nullable = others.size() < schema.getTypes().size();
            yield others.size() == 1
                ? type(others.get(0)).withNullable(nullable)
                : ColumnType.varchar(-1).withNullable(nullable);
          }
          case RECORD ->
              ColumnType.row(
                  columns(schema).stream()
                      .map(c -> new Column(c.name(), c.type().withNullable(true)))
                      .toList());
          case ARRAY -> ColumnType.array(type(schema.getElementType()).withNullable(true));
          case BOOLEAN -> ColumnType.of(Kind.BOOLEAN);
          case INT -> integerType(logical, Kind.INTEGER);
          case LONG -> integerType(logical, Kind.BIGINT);
          case FLOAT -> ColumnType.of(Kind.REAL);
          case DOUBLE -> ColumnType.of(Kind.DOUBLE);
          case BYTES, FIXED ->
              logical instanceof LogicalTypes.Decimal d
                  ? ColumnType.decimal(Math.min(38, d.getPrecision()), d.getScale())
                  : ColumnType.of(Kind.VARBINARY);
          default -> ColumnType.varchar(-1);
        };
    return schema.getType() == Schema.Type.UNION
        ? type
        : type.withNullable(schema.getType() == Schema.Type.NULL);
  }

  private static ColumnType integerType(LogicalType logical, Kind otherwise) {
    if (logical instanceof LogicalTypes.Date) {
      return ColumnType.of(Kind.DATE);
    }
    if (logical instanceof LogicalTypes.TimeMillis || logical instanceof LogicalTypes.TimeMicros) {
      return ColumnType.of(Kind.TIME);
    }
    boolean timestamp =
        logical instanceof LogicalTypes.TimestampMillis
            || logical instanceof LogicalTypes.TimestampMicros
            || logical instanceof LogicalTypes.LocalTimestampMillis
            || logical instanceof LogicalTypes.LocalTimestampMicros;
    return ColumnType.of(timestamp ? Kind.TIMESTAMP : otherwise);
  }
}
