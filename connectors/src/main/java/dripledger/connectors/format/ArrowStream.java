package dripledger.connectors.format;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import java.io.IOException;
import java.io.OutputStream;
import java.math.BigDecimal;
import java.nio.channels.Channels;
import java.nio.charset.StandardCharsets;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.util.List;
import org.apache.arrow.memory.RootAllocator;
import org.apache.arrow.vector.BigIntVector;
import org.apache.arrow.vector.BitVector;
import org.apache.arrow.vector.DateDayVector;
import org.apache.arrow.vector.DecimalVector;
import org.apache.arrow.vector.FieldVector;
import org.apache.arrow.vector.Float4Vector;
import org.apache.arrow.vector.Float8Vector;
import org.apache.arrow.vector.IntVector;
import org.apache.arrow.vector.SmallIntVector;
import org.apache.arrow.vector.TimeMicroVector;
import org.apache.arrow.vector.TimeStampMicroTZVector;
import org.apache.arrow.vector.VarBinaryVector;
import org.apache.arrow.vector.VarCharVector;
import org.apache.arrow.vector.VectorSchemaRoot;
import org.apache.arrow.vector.complex.ListVector;
import org.apache.arrow.vector.complex.StructVector;
import org.apache.arrow.vector.ipc.ArrowStreamWriter;
import org.apache.arrow.vector.types.DateUnit;
import org.apache.arrow.vector.types.FloatingPointPrecision;
import org.apache.arrow.vector.types.TimeUnit;
import org.apache.arrow.vector.types.pojo.ArrowType;
import org.apache.arrow.vector.types.pojo.Field;
import org.apache.arrow.vector.types.pojo.FieldType;
import org.apache.arrow.vector.types.pojo.Schema;

/** Rows as an Arrow stream (the IPC streaming format), batch by batch. Single thread. */
final class ArrowStream implements RowStream {
  static final String MEDIA_TYPE = "application/vnd.apache.arrow.stream";

  private static final int BATCH_ROWS = 4096;
  private static final long BATCH_BYTES = 4L << 20;
  private static final long MOST_BYTES = 256L << 20; // of one batch, in memory

  private final List<Column> columns;
  private final OutputStream out;
  private final RootAllocator allocator = new RootAllocator(MOST_BYTES);
  private final VectorSchemaRoot root;
  private final ArrowStreamWriter writer;
  private int rows; // of the batch
  private long bytes; // of its texts, about

  ArrowStream(List<Column> columns, OutputStream out) throws IOException {
    this.columns = columns;
    this.out = out;
    root =
        VectorSchemaRoot.create(
            new Schema(columns.stream().map(c -> field(c.name(), c.type())).toList()), allocator);
    writer = new ArrowStreamWriter(root, null, Channels.newChannel(out));
    writer.start();
  }

  private static Field field(String name, ColumnType type) {
    List<Field> children =
        switch (type.kind()) {
          case ROW -> type.fields().stream().map(f -> field(f.name(), f.type())).toList();
          case ARRAY -> List.of(field("element", type.element()));
          default -> null;
        };
    return new Field(name, new FieldType(type.nullable(), arrow(type), null), children);
  }

  private static ArrowType arrow(ColumnType type) {
    return switch (type.kind()) {
      case BOOLEAN -> new ArrowType.Bool();
      case SMALLINT -> new ArrowType.Int(16, true);
      case INTEGER -> new ArrowType.Int(32, true);
      case BIGINT -> new ArrowType.Int(64, true);
      case REAL -> new ArrowType.FloatingPoint(FloatingPointPrecision.SINGLE);
      case DOUBLE -> new ArrowType.FloatingPoint(FloatingPointPrecision.DOUBLE);
      case DECIMAL -> new ArrowType.Decimal(type.precision(), type.scale(), 128);
      case VARBINARY -> new ArrowType.Binary();
      case DATE -> new ArrowType.Date(DateUnit.DAY);
      case TIME -> new ArrowType.Time(TimeUnit.MICROSECOND, 64);
      case TIMESTAMP -> new ArrowType.Timestamp(TimeUnit.MICROSECOND, "UTC");
      case ROW -> new ArrowType.Struct();
      case ARRAY -> new ArrowType.List();
      default -> new ArrowType.Utf8();
    };
  }

  @Override
  public void write(Object[] row) throws IOException {
    for (int c = 0; c < row.length; c++) {
      set(root.getVector(c), rows, columns.get(c).type(), row[c]);
    }
    rows++;
    if (rows == BATCH_ROWS || bytes > BATCH_BYTES) {
      batch();
    }
  }

  private void batch() throws IOException {
    root.setRowCount(rows);
    writer.writeBatch();
    root.allocateNew();
    rows = 0;
    bytes = 0;
  }

  private void set(FieldVector vector, int at, ColumnType type, Object value) {
    if (value == null) {
      if (vector.getValueCapacity() <= at) {
        vector.reAlloc();
      }
      vector.setNull(at);
      return;
    }
    switch (type.kind()) {
      case BOOLEAN -> ((BitVector) vector).setSafe(at, (Boolean) value ? 1 : 0);
      case SMALLINT -> ((SmallIntVector) vector).setSafe(at, ((Long) value).shortValue());
      case INTEGER -> ((IntVector) vector).setSafe(at, ((Long) value).intValue());
      case BIGINT -> ((BigIntVector) vector).setSafe(at, (Long) value);
      case REAL -> ((Float4Vector) vector).setSafe(at, ((Double) value).floatValue());
      case DOUBLE -> ((Float8Vector) vector).setSafe(at, (Double) value);
      case DECIMAL ->
          ((DecimalVector) vector).setSafe(at, ((BigDecimal) value).setScale(type.scale()));
      case VARBINARY -> {
        bytes += ((byte[]) value).length;
        ((VarBinaryVector) vector).setSafe(at, (byte[]) value);
      }
      case DATE -> ((DateDayVector) vector).setSafe(at, (int) ((LocalDate) value).toEpochDay());
      case TIME -> ((TimeMicroVector) vector).setSafe(at, ((LocalTime) value).toNanoOfDay() / 1000);
      case TIMESTAMP ->
          ((TimeStampMicroTZVector) vector).setSafe(at, BoxedRows.micros((LocalDateTime) value));
      case ROW -> struct((StructVector) vector, at, type, (List<?>) value);
      case ARRAY -> list((ListVector) vector, at, type, (List<?>) value);
      default -> {
        byte[] text = PlainText.of(value).getBytes(StandardCharsets.UTF_8);
        bytes += text.length;
        ((VarCharVector) vector).setSafe(at, text);
      }
    }
  }

  private void struct(StructVector vector, int at, ColumnType type, List<?> values) {
    vector.setIndexDefined(at);
    for (int f = 0; f < values.size(); f++) {
      FieldVector child = (FieldVector) vector.getChildByOrdinal(f);
      set(child, at, type.fields().get(f).type(), values.get(f));
    }
  }

  private void list(ListVector vector, int at, ColumnType type, List<?> values) {
    int from = vector.startNewValue(at);
    for (int i = 0; i < values.size(); i++) {
      set(vector.getDataVector(), from + i, type.element(), values.get(i));
    }
    vector.endValue(at, values.size());
  }

  @Override
  public void close() throws IOException {
    try (allocator;
        root;
        writer) {
      if (rows > 0) {
        batch();
      }
      writer.end();
    } finally {
      out.close();
    }
  }
}
