package dripledger.connectors.format;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.io.Closeable;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.math.BigDecimal;
import java.math.BigInteger;
import java.nio.file.Path;
import java.time.LocalDate;
import java.time.LocalTime;
import java.util.ArrayList;
import java.util.Iterator;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.NoSuchElementException;
import org.apache.parquet.column.page.PageReadStore;
import org.apache.parquet.example.data.Group;
import org.apache.parquet.example.data.simple.convert.GroupRecordConverter;
import org.apache.parquet.hadoop.ParquetFileReader;
import org.apache.parquet.io.ColumnIOFactory;
import org.apache.parquet.io.LocalInputFile;
import org.apache.parquet.io.RecordReader;
import org.apache.parquet.schema.GroupType;
import org.apache.parquet.schema.LogicalTypeAnnotation;
import org.apache.parquet.schema.LogicalTypeAnnotation.DecimalLogicalTypeAnnotation;
import org.apache.parquet.schema.LogicalTypeAnnotation.TimeUnit;
import org.apache.parquet.schema.LogicalTypeAnnotation.TimestampLogicalTypeAnnotation;
import org.apache.parquet.schema.MessageType;
import org.apache.parquet.schema.PrimitiveType;
import org.apache.parquet.schema.Type;

/** Parquet files. Stateless. */
public final class ParquetFiles {
  private ParquetFiles() {}

  /** The records of a file as plain values; the iterator is to be closed. */
  public static Iterator<Map<String, Object>> read(Path file) throws IOException {
    return new Records(ParquetFileReader.open(new LocalInputFile(file)));
  }

  /** The columns the file's schema says. */
  public static List<Column> columns(Path file) throws IOException {
    try (ParquetFileReader reader = ParquetFileReader.open(new LocalInputFile(file))) {
      return columns(reader.getFooter().getFileMetaData().getSchema());
    }
  }

  private static final class Records implements Iterator<Map<String, Object>>, Closeable {
    private final ParquetFileReader reader;
    private final MessageType schema;
    private RecordReader<Group> rows;
    private long left;

    Records(ParquetFileReader reader) {
      this.reader = reader;
      schema = reader.getFooter().getFileMetaData().getSchema();
    }

    @Override
    public boolean hasNext() {
      try {
        while (left == 0) {
          PageReadStore pages = reader.readNextRowGroup();
          if (pages == null) {
            return false;
          }
          left = pages.getRowCount();
          rows =
              new ColumnIOFactory()
                  .getColumnIO(schema)
                  .getRecordReader(pages, new GroupRecordConverter(schema));
        }
        return true;
      } catch (IOException e) {
        throw new UncheckedIOException(e);
      }
    }

    @Override
    public Map<String, Object> next() {
      if (!hasNext()) {
        throw new NoSuchElementException();
      }
      left--;
      return values(rows.read(), schema);
    }

    @Override
    public void close() throws IOException {
      reader.close();
    }
  }

  private static Map<String, Object> values(Group group, GroupType type) {
    Map<String, Object> values = new LinkedHashMap<>();
    for (int f = 0; f < type.getFieldCount(); f++) {
      Type field = type.getType(f);
      int count = group.getFieldRepetitionCount(f);
      if (isList(field)) {
        values.put(field.getName(), count == 0 ? null : list(group.getGroup(f, 0)));
      } else if (field.isRepetition(Type.Repetition.REPEATED)) {
        List<Object> all = new ArrayList<>();
        for (int i = 0; i < count; i++) {
          all.add(value(group, f, i, field));
        }
        values.put(field.getName(), all);
      } else {
        values.put(field.getName(), count == 0 ? null : value(group, f, 0, field));
      }
    }
    return values;
  }

  private static boolean isList(Type field) {
    return !field.isPrimitive()
        && field.getLogicalTypeAnnotation()
            instanceof LogicalTypeAnnotation.ListLogicalTypeAnnotation;
  }

  /** The standard's three levels: the list, its repeated group, the element. */
  private static List<Object> list(Group list) {
    List<Object> all = new ArrayList<>();
    Type repeated = list.getType().getType(0);
    for (int i = 0; i < list.getFieldRepetitionCount(0); i++) {
      if (repeated.isPrimitive()) {
        all.add(value(list, 0, i, repeated));
      } else {
        Group element = list.getGroup(0, i);
        boolean there = element.getFieldRepetitionCount(0) > 0;
        all.add(there ? value(element, 0, 0, element.getType().getType(0)) : null);
      }
    }
    return all;
  }

  private static Object value(Group group, int field, int index, Type type) {
    if (!type.isPrimitive()) {
      return values(group.getGroup(field, index), type.asGroupType());
    }
    PrimitiveType primitive = type.asPrimitiveType();
    LogicalTypeAnnotation logical = primitive.getLogicalTypeAnnotation();
    return switch (primitive.getPrimitiveTypeName()) {
      case BOOLEAN -> group.getBoolean(field, index);
      case FLOAT -> (double) group.getFloat(field, index);
      case DOUBLE -> group.getDouble(field, index);
      case INT32 -> number(group.getInteger(field, index), logical);
      case INT64 -> number(group.getLong(field, index), logical);
      case INT96 -> throw new FormatException("column " + type.getName() + ": INT96 is not read");
      default -> {
        byte[] bytes = group.getBinary(field, index).getBytes();
        if (logical instanceof DecimalLogicalTypeAnnotation d) {
          yield new BigDecimal(new BigInteger(bytes), d.getScale());
        }
        yield logical == null ? bytes : new String(bytes, java.nio.charset.StandardCharsets.UTF_8);
      }
    };
  }

  private static Object number(long value, LogicalTypeAnnotation logical) {
    if (logical instanceof DecimalLogicalTypeAnnotation d) {
      return BigDecimal.valueOf(value, d.getScale());
    }
    if (logical instanceof LogicalTypeAnnotation.DateLogicalTypeAnnotation) {
      return LocalDate.ofEpochDay(value);
    }
    if (logical instanceof TimestampLogicalTypeAnnotation t) {
      return BoxedRows.timestamp(micros(value, t.getUnit()));
    }
    if (logical instanceof LogicalTypeAnnotation.TimeLogicalTypeAnnotation t) {
      return LocalTime.ofNanoOfDay(micros(value, t.getUnit()) * 1000);
    }
    return value;
  }

  private static long micros(long value, TimeUnit unit) {
    return switch (unit) {
      case MILLIS -> Math.multiplyExact(value, 1000L);
      case MICROS -> value;
      case NANOS -> Math.floorDiv(value, 1000L);
    };
  }

  private static List<Column> columns(GroupType type) {
    return type.getFields().stream()
        .map(
            f ->
                new Column(
                    f.getName(),
                    columnType(f).withNullable(!f.isRepetition(Type.Repetition.REQUIRED))))
        .toList();
  }

  private static ColumnType columnType(Type field) {
    if (isList(field)) {
      Type repeated = field.asGroupType().getType(0);
      Type element = repeated.isPrimitive() ? repeated : repeated.asGroupType().getType(0);
      return ColumnType.array(columnType(element).withNullable(true));
    }
    if (!field.isPrimitive()) {
      return ColumnType.row(
          columns(field.asGroupType()).stream()
              .map(c -> new Column(c.name(), c.type().withNullable(true)))
              .toList());
    }
    LogicalTypeAnnotation logical = field.getLogicalTypeAnnotation();
    if (logical instanceof DecimalLogicalTypeAnnotation d) {
      return ColumnType.decimal(Math.min(38, d.getPrecision()), d.getScale());
    }
    if (logical instanceof LogicalTypeAnnotation.DateLogicalTypeAnnotation) {
      return ColumnType.of(Kind.DATE);
    }
    if (logical instanceof TimestampLogicalTypeAnnotation) {
      return ColumnType.of(Kind.TIMESTAMP);
    }
    if (logical instanceof LogicalTypeAnnotation.TimeLogicalTypeAnnotation) {
      return ColumnType.of(Kind.TIME);
    }
    return switch (field.asPrimitiveType().getPrimitiveTypeName()) {
      case BOOLEAN -> ColumnType.of(Kind.BOOLEAN);
      case INT32 -> ColumnType.of(Kind.INTEGER);
      case INT64 -> ColumnType.of(Kind.BIGINT);
      case FLOAT -> ColumnType.of(Kind.REAL);
      case DOUBLE -> ColumnType.of(Kind.DOUBLE);
      default -> logical == null ? ColumnType.of(Kind.VARBINARY) : ColumnType.varchar(-1);
    };
  }
}
