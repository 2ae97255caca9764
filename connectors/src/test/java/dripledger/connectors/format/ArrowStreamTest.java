package dripledger.connectors.format;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.io.ByteArrayInputStream;
import java.io.ByteArrayOutputStream;
import java.math.BigDecimal;
import java.nio.charset.StandardCharsets;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.util.Arrays;
import java.util.List;
import org.apache.arrow.memory.RootAllocator;
import org.apache.arrow.vector.DecimalVector;
import org.apache.arrow.vector.FieldVector;
import org.apache.arrow.vector.ipc.ArrowStreamReader;
import org.junit.jupiter.api.Test;

/** What is written is read back by the library's own reader. */
class ArrowStreamTest {
  private static final List<Column> COLUMNS =
      List.of(
          new Column("gate", ColumnType.varchar(-1)),
          new Column("yes", ColumnType.of(Kind.BOOLEAN)),
          new Column("small", ColumnType.of(Kind.SMALLINT)),
          new Column("grams", ColumnType.of(Kind.INTEGER)),
          new Column("parcel", ColumnType.of(Kind.BIGINT).notNull()),
          new Column("approx", ColumnType.of(Kind.REAL)),
          new Column("wide", ColumnType.of(Kind.DOUBLE)),
          new Column("price", ColumnType.decimal(20, 4)),
          new Column("raw", ColumnType.of(Kind.VARBINARY)),
          new Column("day", ColumnType.of(Kind.DATE)),
          new Column("hour", ColumnType.of(Kind.TIME)),
          new Column("at", ColumnType.of(Kind.TIMESTAMP)),
          new Column("tags", ColumnType.array(ColumnType.varchar(-1))),
          new Column(
              "scanner",
              ColumnType.row(
                  List.of(
                      new Column("id", ColumnType.varchar(-1)),
                      new Column("battery", ColumnType.of(Kind.DOUBLE))))));

  private static byte[] written(List<Column> columns, Iterable<Object[]> rows) throws Exception {
    ByteArrayOutputStream out = new ByteArrayOutputStream();
    try (RowStream stream = RowStream.of(RowStream.Format.ARROW, "v", columns, out)) {
      for (Object[] row : rows) {
        stream.write(row);
      }
    }
    return out.toByteArray();
  }

  @Test
  void valuesOfEveryTypeComeBack() throws Exception {
    Object[] full = {
      "Gühl",
      true,
      7L,
      1840L,
      1L << 40,
      1.5,
      -0.1,
      new BigDecimal("12.5"),
      new byte[] {1, 0, -1},
      LocalDate.of(2026, 3, 2),
      LocalTime.of(6, 14, 9, 120_000_000),
      LocalDateTime.of(2026, 3, 2, 6, 14, 9, 120_000_000),
      Arrays.asList("a", null, "c"),
      Arrays.asList("S-31", 0.82)
    };
    Object[] empty = new Object[full.length];
    empty[4] = 5L;
    byte[] bytes = written(COLUMNS, List.of(full, empty, full));
    try (RootAllocator allocator = new RootAllocator();
        ArrowStreamReader reader =
            new ArrowStreamReader(new ByteArrayInputStream(bytes), allocator)) {
      assertThat(reader.loadNextBatch()).isTrue();
      List<FieldVector> vectors = reader.getVectorSchemaRoot().getFieldVectors();
      assertThat(reader.getVectorSchemaRoot().getRowCount()).isEqualTo(3);
      for (int row : new int[] {0, 2}) {
        assertThat(String.valueOf(vectors.get(0).getObject(row))).isEqualTo("Gühl");
        assertThat(vectors.get(1).getObject(row)).isEqualTo(true);
        assertThat(vectors.get(2).getObject(row)).isEqualTo((short) 7);
        assertThat(vectors.get(3).getObject(row)).isEqualTo(1840);
        assertThat(vectors.get(4).getObject(row)).isEqualTo(1L << 40);
        assertThat(vectors.get(5).getObject(row)).isEqualTo(1.5f);
        assertThat(vectors.get(6).getObject(row)).isEqualTo(-0.1);
        assertThat(((DecimalVector) vectors.get(7)).getObject(row)).isEqualByComparingTo("12.5");
        assertThat((byte[]) vectors.get(8).getObject(row)).containsExactly(1, 0, -1);
        assertThat(vectors.get(9).getObject(row)).isEqualTo(20_514);
        assertThat(vectors.get(10).getObject(row)).isEqualTo(22_449_120_000L);
        assertThat(vectors.get(11).getObject(row)).isEqualTo(1_772_432_049_120_000L);
        assertThat(String.valueOf(vectors.get(12).getObject(row))).isEqualTo("[\"a\",null,\"c\"]");
        assertThat(String.valueOf(vectors.get(13).getObject(row)))
            .contains("S-31")
            .contains("0.82");
      }
      for (int c = 0; c < vectors.size(); c++) {
        assertThat(vectors.get(c).isNull(1)).isEqualTo(c != 4);
      }
      assertThat(reader.getVectorSchemaRoot().getSchema().findField("at").getType().toString())
          .isEqualTo("Timestamp(MICROSECOND, UTC)");
      assertThat(reader.loadNextBatch()).isFalse();
    }
  }

  @Test
  void manyRowsAreManyBatches() throws Exception {
    List<Object[]> rows =
        java.util.stream.LongStream.range(0, 10_000)
            .mapToObj(n -> new Object[] {n, "x".repeat((int) (n % 3000))})
            .toList();
    List<Column> columns = List.of(COLUMNS.get(4), COLUMNS.get(0));
    byte[] bytes = written(columns, rows);
    long next = 0;
    int batches = 0;
    try (RootAllocator allocator = new RootAllocator();
        ArrowStreamReader reader =
            new ArrowStreamReader(new ByteArrayInputStream(bytes), allocator)) {
      for (; reader.loadNextBatch(); batches++) {
        List<FieldVector> vectors = reader.getVectorSchemaRoot().getFieldVectors();
        for (int i = 0; i < reader.getVectorSchemaRoot().getRowCount(); i++, next++) {
          assertThat(vectors.get(0).getObject(i)).isEqualTo(next);
          assertThat(vectors.get(1).getObject(i).toString().getBytes(StandardCharsets.UTF_8))
              .hasSize((int) (next % 3000));
        }
      }
    }
    assertThat(next).isEqualTo(10_000);
    assertThat(batches).isGreaterThan(3);
    assertThat(written(columns, List.of())).isNotEmpty();
  }
}
