package dripledger.engine.row;

import static org.assertj.core.api.Assertions.assertThat;

import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collections;
import java.util.Comparator;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.Test;

class SortKeyCodecTest {
  private static byte[] key(Schema schema, Object... values) {
    RowWriter writer = new RowWriter(new RowLayout(schema), 64);
    writer.begin();
    BoxedRows.write(writer, values);
    int[] all = new int[schema.size()];
    Arrays.setAll(all, i -> i);
    SortKeyCodec.ByteSink sink = new SortKeyCodec.ByteSink();
    new SortKeyCodec(new RowLayout(schema), all).encode(writer.bytes(), 0, sink);
    return sink.toByteArray();
  }

  private static <T> void sortsLike(ColumnType type, List<T> values, Comparator<T> order) {
    Schema schema = Schema.of(new Column("c", type));
    List<T> expected = new ArrayList<>(values);
    expected.sort(Comparator.nullsLast(order));
    List<T> actual = new ArrayList<>(values);
    actual.sort((a, b) -> Arrays.compareUnsigned(key(schema, a), key(schema, b)));
    assertThat(actual).isEqualTo(expected);
  }

  @Test
  void bytesSortAsTheValuesDo() {
    Random random = new Random(1);
    List<Long> longs =
        new ArrayList<>(Arrays.asList(0L, -1L, 1L, Long.MIN_VALUE, Long.MAX_VALUE, null));
    List<Double> doubles =
        new ArrayList<>(
            Arrays.asList(0.0, -1.5, 1e300, -1e300, Double.NaN, Double.NEGATIVE_INFINITY, null));
    List<BigDecimal> wide = new ArrayList<>(Arrays.asList(BigDecimal.ZERO.setScale(2), null));
    List<String> texts =
        new ArrayList<>(
            Arrays.asList("", "a", "a\0", "a\0b", "ab", "\uD83D\uDE00", "\uFFFD", null));
    for (int i = 0; i < 200; i++) {
      longs.add(random.nextLong());
      doubles.add(random.nextGaussian() * Math.pow(10, random.nextInt(20)));
      wide.add(
          new BigDecimal(new java.math.BigInteger(120, random), 2)
              .multiply(BigDecimal.valueOf(random.nextBoolean() ? 1 : -1)));
      texts.add(
          random
              .ints(random.nextInt(6), 0, 300)
              .collect(StringBuilder::new, StringBuilder::appendCodePoint, StringBuilder::append)
              .toString());
    }
    sortsLike(ColumnType.of(ColumnType.Kind.BIGINT), longs, Comparator.naturalOrder());
    sortsLike(ColumnType.of(ColumnType.Kind.DOUBLE), doubles, Comparator.naturalOrder());
    sortsLike(ColumnType.decimal(38, 2), wide, Comparator.naturalOrder());
    sortsLike(
        ColumnType.varchar(-1),
        texts,
        (a, b) -> Arrays.compare(a.codePoints().toArray(), b.codePoints().toArray()));
  }

  @Test
  void aShorterKeyIsAPrefixOfTheKeysItCovers() {
    Schema two =
        Schema.of(
            new Column("a", ColumnType.varchar(-1)),
            new Column("b", ColumnType.of(ColumnType.Kind.DATE)));
    byte[] whole = key(two, "G0", java.time.LocalDate.of(2026, 3, 2));
    byte[] first = key(Schema.of(two.column(0)), "G0");
    assertThat(Arrays.copyOf(whole, first.length)).isEqualTo(first);
    byte[] other = key(two, "G01", null);
    assertThat(Arrays.copyOf(other, first.length)).isNotEqualTo(first);
  }

  @Test
  void everyValueHasOneEncoding() {
    Schema schema =
        Schema.of(
            new Column("d", ColumnType.of(ColumnType.Kind.DOUBLE)),
            new Column("n", ColumnType.decimal(10, 2)),
            new Column("t", ColumnType.varchar(-1)));
    RowWriter writer = new RowWriter(new RowLayout(schema), 64);
    List<byte[]> rows = new ArrayList<>();
    for (Object[] values :
        List.of(
            new Object[] {0.0, new BigDecimal("1.5"), null},
            new Object[] {-0.0, new BigDecimal("1.500"), null})) {
      writer.truncate(0);
      writer.begin();
      BoxedRows.write(writer, values);
      rows.add(Arrays.copyOf(writer.bytes(), writer.finish()));
    }
    assertThat(rows.get(0)).isEqualTo(rows.get(1));
    assertThat(Collections.singletonList(BoxedRows.read(new RowLayout(schema), rows.get(0), 0)[1]))
        .containsExactly(new BigDecimal("1.50"));
  }
}
