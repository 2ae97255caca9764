package dripledger.connectors.format;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import java.math.BigDecimal;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.util.List;
import org.apache.parquet.example.data.Group;
import org.apache.parquet.example.data.simple.SimpleGroup;
import org.apache.parquet.io.api.Binary;
import org.apache.parquet.schema.GroupType;
import org.apache.parquet.schema.LogicalTypeAnnotation;
import org.apache.parquet.schema.LogicalTypeAnnotation.TimeUnit;
import org.apache.parquet.schema.MessageType;
import org.apache.parquet.schema.PrimitiveType.PrimitiveTypeName;
import org.apache.parquet.schema.Type;
import org.apache.parquet.schema.Type.Repetition;
import org.apache.parquet.schema.Types;

/** Rows as Parquet records, and the schemas that say so. Pure functions. */
final class ParquetRows {
  private static final int LONG_DIGITS = 18; // of a decimal that fits 64 bits

  private ParquetRows() {}

  static MessageType schema(String name, List<Column> columns) {
    return new MessageType(name, columns.stream().map(c -> type(c.name(), c.type())).toList());
  }

  private static Type type(String name, ColumnType type) {
    Repetition repetition = type.nullable() ? Repetition.OPTIONAL : Repetition.REQUIRED;
    return switch (type.kind()) {
      case ROW ->
          new GroupType(
              repetition, name, type.fields().stream().map(f -> type(f.name(), f.type())).toList());
      case ARRAY -> Types.list(repetition).element(type("element", type.element())).named(name);
      case BOOLEAN -> Types.primitive(PrimitiveTypeName.BOOLEAN, repetition).named(name);
      case SMALLINT, INTEGER -> Types.primitive(PrimitiveTypeName.INT32, repetition).named(name);
      case BIGINT -> Types.primitive(PrimitiveTypeName.INT64, repetition).named(name);
      case REAL -> Types.primitive(PrimitiveTypeName.FLOAT, repetition).named(name);
      case DOUBLE -> Types.primitive(PrimitiveTypeName.DOUBLE, repetition).named(name);
      case DATE ->
          logical(PrimitiveTypeName.INT32, LogicalTypeAnnotation.dateType(), repetition, name);
      case TIME ->
          logical(
              PrimitiveTypeName.INT64,
              LogicalTypeAnnotation.timeType(true, TimeUnit.MICROS),
              repetition,
              name);
      case TIMESTAMP ->
          logical(
              PrimitiveTypeName.INT64,
              LogicalTypeAnnotation.timestampType(true, TimeUnit.MICROS),
              repetition,
              name);
      case DECIMAL ->
          logical(
              type.precision() <= LONG_DIGITS ? PrimitiveTypeName.INT64 : PrimitiveTypeName.BINARY,
              LogicalTypeAnnotation.decimalType(type.scale(), type.precision()),
              repetition,
              name);
      case VARBINARY -> Types.primitive(PrimitiveTypeName.BINARY, repetition).named(name);
      default ->
          logical(PrimitiveTypeName.BINARY, LogicalTypeAnnotation.stringType(), repetition, name);
    };
  }

  private static Type logical(
      PrimitiveTypeName kept, LogicalTypeAnnotation as, Repetition repetition, String name) {
    return Types.primitive(kept, repetition).as(as).named(name);
  }

  static Group group(List<Column> columns, Object[] row, GroupType schema) {
    Group group = new SimpleGroup(schema);
    for (int c = 0; c < row.length; c++) {
      if (row[c] != null) {
        add(group, c, row[c], columns.get(c).type());
      }
    }
    return group;
  }

  private static void add(Group group, int field, Object value, ColumnType type) {
    switch (type.kind()) {
      case ROW ->
          group.add(
              field,
              group(
                  type.fields(),
                  ((List<?>) value).toArray(),
                  group.getType().getType(field).asGroupType()));
      case ARRAY -> {
        Group list = group.addGroup(field);
        for (Object element : (List<?>) value) {
          Group each = list.addGroup(0);
          if (element != null) {
            add(each, 0, element, type.element());
          }
        }
      }
      case BOOLEAN -> group.add(field, (Boolean) value);
      case SMALLINT, INTEGER -> group.add(field, ((Long) value).intValue());
      case BIGINT -> group.add(field, (Long) value);
      case REAL -> group.add(field, ((Double) value).floatValue());
      case DOUBLE -> group.add(field, (Double) value);
      case DATE -> group.add(field, (int) ((LocalDate) value).toEpochDay());
      case TIME -> group.add(field, ((LocalTime) value).toNanoOfDay() / 1000);
      case TIMESTAMP -> group.add(field, BoxedRows.micros((LocalDateTime) value));
      case DECIMAL -> {
        BigDecimal decimal = ((BigDecimal) value).setScale(type.scale());
        if (type.precision() <= LONG_DIGITS) {
          group.add(field, decimal.unscaledValue().longValueExact());
        } else {
          group.add(field, Binary.fromConstantByteArray(decimal.unscaledValue().toByteArray()));
        }
      }
      case VARBINARY -> group.add(field, Binary.fromConstantByteArray((byte[]) value));
      default -> group.add(field, Binary.fromString(PlainText.of(value)));
    }
  }
}
