package dripledger.connectors.format;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.math.BigDecimal;
import java.math.RoundingMode;
import java.nio.ByteBuffer;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.util.ArrayList;
import java.util.List;
import org.apache.avro.LogicalType;
import org.apache.avro.LogicalTypes;
import org.apache.avro.Schema;
import org.apache.avro.generic.GenericData;
import org.apache.avro.generic.GenericRecord;

/** Rows as Avro data (specification 1.12), and the schemas that say so. Pure functions. */
final class AvroRows {
  private AvroRows() {}

  /**
   * The schema of columns.
   *
   * @throws EngineException if a column's name cannot be one there
   */
  static Schema schema(String name, List<Column> columns) {
    Schema record = Schema.createRecord(name(name), null, null, false);
    List<Schema.Field> fields = new ArrayList<>();
    for (Column c : columns) {
      Schema type = type(name + "_" + c.name(), c.type());
      if (c.type().nullable()) {
        Schema either = Schema.createUnion(Schema.create(Schema.Type.NULL), type);
        fields.add(new Schema.Field(name(c.name()), either, null, Schema.Field.NULL_DEFAULT_VALUE));
      } else {
        fields.add(new Schema.Field(name(c.name()), type));
      }
    }
    record.setFields(fields);
    return record;
  }

  private static String name(String name) {
    if (!name.matches("[A-Za-z_][A-Za-z0-9_]*")) {
      throw new EngineException(
          Code.INVALID,
          "\"" + name + "\" cannot be a name in Avro",
          "letters, digits and _ are allowed; write … AS another_name");
    }
    return name;
  }

  private static Schema type(String name, ColumnType type) {
    return switch (type.kind()) {
      case BOOLEAN -> Schema.create(Schema.Type.BOOLEAN);
      case SMALLINT, INTEGER -> Schema.create(Schema.Type.INT);
      case BIGINT -> Schema.create(Schema.Type.LONG);
      case REAL -> Schema.create(Schema.Type.FLOAT);
      case DOUBLE -> Schema.create(Schema.Type.DOUBLE);
      case DECIMAL ->
          LogicalTypes.decimal(type.precision(), type.scale())
              .addToSchema(Schema.create(Schema.Type.BYTES));
      case VARBINARY -> Schema.create(Schema.Type.BYTES);
      case DATE -> LogicalTypes.date().addToSchema(Schema.create(Schema.Type.INT));
      case TIME -> LogicalTypes.timeMicros().addToSchema(Schema.create(Schema.Type.LONG));
      case TIMESTAMP -> LogicalTypes.timestampMicros().addToSchema(Schema.create(Schema.Type.LONG));
      case ROW -> schema(name, type.fields());
      case ARRAY -> {
        Schema element = type(name, type.element());
        yield Schema.createArray(
            type.element().nullable()
                ? Schema.createUnion(Schema.create(Schema.Type.NULL), element)
                : element);
      }
      default -> Schema.create(Schema.Type.STRING);
    };
  }

  /** A row as a record; what the record has no column for is its default. */
  static GenericRecord record(List<Column> columns, Object[] row, Schema schema) {
    GenericData.Record record = new GenericData.Record(schema);
    for (Schema.Field field : schema.getFields()) {
      int c = indexOf(columns, field.name());
      record.put(
          field.pos(),
          c < 0
              ? GenericData.get().getDefaultValue(field)
              : datum(row[c], columns.get(c).type(), field.schema()));
    }
    return record;
  }

  private static int indexOf(List<Column> columns, String name) {
    for (int c = 0; c < columns.size(); c++) {
      if (columns.get(c).name().equals(name)) {
        return c;
      }
    }
    return -1;
  }

  private static Schema alternative(Schema union, boolean isNull) {
    return union.getTypes().stream()
        .filter(s -> isNull == (s.getType() == Schema.Type.NULL))
        .findFirst()
        .orElse(union.getTypes().get(0));
  }

  private static Object datum(Object value, ColumnType type, Schema schema) {
    if (schema.getType() == Schema.Type.UNION) {
      return datum(value, type, alternative(schema, value == null));
    }
    if (value == null) {
      return null;
    }
    LogicalType logical = schema.getLogicalType();
    return switch (schema.getType()) {
      case INT ->
          value instanceof LocalDate d
              ? (int) d.toEpochDay()
              : (Object) (int) whole(value, logical);
      case LONG -> whole(value, logical);
      case FLOAT -> ((Number) value).floatValue();
      case DOUBLE -> ((Number) value).doubleValue();
      case STRING -> value instanceof List<?> list ? JsonRows.text(list) : PlainText.of(value);
      case BYTES ->
          ByteBuffer.wrap(
              logical instanceof LogicalTypes.Decimal d
                  ? new BigDecimal(value.toString())
                      .setScale(d.getScale(), RoundingMode.UNNECESSARY)
                      .unscaledValue()
                      .toByteArray()
                  : (byte[]) value);
      case ARRAY -> {
        List<Object> elements = new ArrayList<>();
        for (Object element : (List<?>) value) {
          elements.add(datum(element, type.element(), schema.getElementType()));
        }
        yield elements;
      }
      case RECORD -> record(type.fields(), ((List<?>) value).toArray(), schema);
      default -> value;
    };
  }

  private static long whole(Object value, LogicalType logical) {
    if (value instanceof LocalDateTime t) {
      long micros = BoxedRows.micros(t);
      boolean millis =
          logical instanceof LogicalTypes.TimestampMillis
              || logical instanceof LogicalTypes.LocalTimestampMillis;
      return millis ? Math.floorDiv(micros, 1000) : micros;
    }
    if (value instanceof LocalTime t) {
      long nanos = t.toNanoOfDay();
      return logical instanceof LogicalTypes.TimeMillis ? nanos / 1_000_000 : nanos / 1000;
    }
    return value instanceof LocalDate d ? d.toEpochDay() : ((Number) value).longValue();
  }

  /**
   * Sees whether all that columns can hold can be written under a schema.
   *
   * @throws EngineException if not, with which column and why
   */
  static void check(List<Column> columns, Schema schema) {
    if (schema.getType() != Schema.Type.RECORD) {
      throw unfit("the schema is not a record", null);
    }
    for (Schema.Field field : schema.getFields()) {
      if (indexOf(columns, field.name()) < 0 && !field.hasDefaultValue()) {
        throw unfit(
            "field \"" + field.name() + "\" of the schema has no column and no default",
            "SELECT … AS " + field.name());
      }
    }
    for (Column c : columns) {
      Schema.Field field = schema.getField(c.name());
      if (field == null) {
        throw unfit(
            "the schema has no field \"" + c.name() + "\"", "leave the column out, or name it so");
      }
      String why = unfit(c.type(), field.schema());
      if (why != null) {
        throw unfit("column \"" + c.name() + "\": " + why, null);
      }
    }
  }

  private static EngineException unfit(String message, String hint) {
    return new EngineException(Code.INVALID, message, hint);
  }

  private static String unfit(ColumnType type, Schema field) {
    boolean union = field.getType() == Schema.Type.UNION;
    boolean nullable =
        union && field.getTypes().stream().anyMatch(s -> s.getType() == Schema.Type.NULL);
    if (type.nullable() && !nullable) {
      return "it can be NULL, and the schema's field cannot; COALESCE gives it a value";
    }
    if (union && field.getTypes().size() > 2) {
      return "the schema's field is one of several types";
    }
    Schema schema = union ? alternative(field, false) : field;
    LogicalType logical = schema.getLogicalType();
    boolean fits =
        switch (schema.getType()) {
          case BOOLEAN -> type.kind() == Kind.BOOLEAN;
          case INT ->
              logical instanceof LogicalTypes.Date
                  ? type.kind() == Kind.DATE
                  : logical instanceof LogicalTypes.TimeMillis
                      ? type.kind() == Kind.TIME
                      : type.kind() == Kind.INTEGER || type.kind() == Kind.SMALLINT;
          case LONG -> fitsLong(type.kind(), logical);
          case FLOAT -> type.kind() == Kind.REAL;
          case DOUBLE -> type.kind().isFloating();
          case STRING -> true;
          case BYTES ->
              logical instanceof LogicalTypes.Decimal d
                  ? type.kind() == Kind.DECIMAL
                      && type.scale() <= d.getScale()
                      && type.precision() - type.scale() <= d.getPrecision() - d.getScale()
                  : type.kind() == Kind.VARBINARY;
          case ARRAY ->
              type.kind() == Kind.ARRAY && unfit(type.element(), schema.getElementType()) == null;
          case RECORD -> {
            if (type.kind() == Kind.ROW) {
              check(type.fields(), schema);
            }
            yield type.kind() == Kind.ROW;
          }
          default -> false;
        };
    return fits ? null : type.sql() + " does not fit the schema's " + schema;
  }

  private static boolean fitsLong(Kind kind, LogicalType logical) {
    if (logical == null) {
      return kind.isInteger();
    }
    return logical instanceof LogicalTypes.TimeMicros ? kind == Kind.TIME : kind == Kind.TIMESTAMP;
  }
}
