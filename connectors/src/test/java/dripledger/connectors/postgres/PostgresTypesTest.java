package dripledger.connectors.postgres;

import static java.nio.charset.StandardCharsets.UTF_8;
import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.connectors.format.FormatException;
import dripledger.connectors.format.RowBuilder;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import java.util.HexFormat;
import org.junit.jupiter.api.Test;

class PostgresTypesTest {
  private static Object value(ColumnType type, String text) {
    RowBuilder row = new RowBuilder(Schema.of(new Column("c", type.withNullable(true))));
    byte[] bytes = ("__" + text + "__").getBytes(UTF_8);
    PostgresTypes.set(row, 0, bytes, 2, bytes.length - 4);
    return row.boxed(0);
  }

  private static Object value(Kind kind, String text) {
    return value(ColumnType.of(kind), text);
  }

  @Test
  void valuesAreReadFromTheServersText() {
    assertThat(value(Kind.BIGINT, "-9223372036854775808")).isEqualTo(Long.MIN_VALUE);
    assertThat(value(Kind.BIGINT, "123456789012345678")).isEqualTo(123456789012345678L);
    assertThat(value(Kind.SMALLINT, "-7")).isEqualTo(-7L);
    assertThat(value(Kind.BOOLEAN, "t")).isEqualTo(true);
    assertThat(value(Kind.BOOLEAN, "f")).isEqualTo(false);
    assertThat(value(Kind.DOUBLE, "1e-7")).isEqualTo(1e-7);
    assertThat(value(Kind.DOUBLE, "-Infinity")).isEqualTo(Double.NEGATIVE_INFINITY);
    assertThat(value(ColumnType.decimal(10, 2), "-12.5")).hasToString("-12.50");
    assertThat(value(Kind.DATE, "2026-03-02")).hasToString("2026-03-02");
    assertThat(value(Kind.TIME, "06:14:09.5")).hasToString("06:14:09.500");
    assertThat(value(ColumnType.varchar(3), "abc")).isEqualTo("abc");
    assertThat(HexFormat.of().formatHex((byte[]) value(Kind.VARBINARY, "\\x00ff")))
        .isEqualTo("00ff");
  }

  @Test
  void timesWithAZoneBecomeUtc() {
    assertThat(value(Kind.TIMESTAMP, "2026-03-02 06:14:09.123456"))
        .hasToString("2026-03-02T06:14:09.123456");
    assertThat(value(Kind.TIMESTAMP, "2026-03-02 07:00:00+01")).hasToString("2026-03-02T06:00");
    assertThat(value(Kind.TIMESTAMP, "2026-03-02 00:30:00.5+05:30"))
        .hasToString("2026-03-01T19:00:00.500");
    assertThat(value(Kind.TIMESTAMP, "2026-03-01 19:00:00-08")).hasToString("2026-03-02T03:00");
    assertThatThrownBy(() -> value(Kind.TIMESTAMP, "infinity"))
        .isInstanceOf(FormatException.class)
        .hasMessageContaining("\"infinity\" is not of type TIMESTAMP");
  }

  @Test
  void arraysAreReadWithQuotesAndNulls() {
    ColumnType texts = ColumnType.array(ColumnType.varchar(-1).withNullable(true));
    assertThat(value(texts, "{a,\"b c\",NULL,\"NULL\",\"x\\\"y\\\\z\",\"\",\"{,}\"}"))
        .hasToString("[a, b c, null, NULL, x\"y\\z, , {,}]");
    assertThat(value(texts, "{}")).hasToString("[]");
    ColumnType numbers = ColumnType.array(ColumnType.of(Kind.INTEGER).withNullable(true));
    assertThat(value(numbers, "{1,NULL,-3}")).hasToString("[1, null, -3]");
    assertThatThrownBy(() -> value(numbers, "{{1},{2}}")).isInstanceOf(FormatException.class);
    assertThatThrownBy(() -> value(numbers, "[0:1]={1,2}")).isInstanceOf(FormatException.class);
  }

  @Test
  void whatDoesNotFitIsRefused() {
    assertThatThrownBy(() -> value(Kind.SMALLINT, "70000x")).isInstanceOf(FormatException.class);
    assertThatThrownBy(() -> value(ColumnType.decimal(4, 2), "123.4"))
        .isInstanceOf(FormatException.class);
    assertThatThrownBy(() -> value(ColumnType.decimal(4, 2), "NaN"))
        .hasMessageContaining("\"NaN\" is not of type DECIMAL(4, 2)");
    assertThatThrownBy(() -> value(ColumnType.varchar(2), "abc"))
        .hasMessageContaining("longer than");
  }

  @Test
  void columnsGetTheTypeOfTheCatalog() {
    assertThat(PostgresTypes.type(1700, 655366).sql()).isEqualTo("DECIMAL(10, 2)");
    assertThat(PostgresTypes.type(1700, -1).sql()).isEqualTo("DECIMAL(38, 12)");
    assertThat(PostgresTypes.type(1043, 9).sql()).isEqualTo("VARCHAR(5)");
    assertThat(PostgresTypes.type(25, -1).sql()).isEqualTo("VARCHAR");
    assertThat(PostgresTypes.type(1007, -1).sql()).isEqualTo("INTEGER ARRAY");
    assertThat(PostgresTypes.type(1184, -1).sql()).isEqualTo("TIMESTAMP");
    assertThat(PostgresTypes.type(600, -1).sql()).as("a point").isEqualTo("VARCHAR");
  }

  @Test
  void aDeclaredTypeMayBeWider() {
    ColumnType integer = ColumnType.of(Kind.INTEGER);
    assertThat(PostgresTypes.fits(integer, ColumnType.of(Kind.BIGINT))).isTrue();
    assertThat(PostgresTypes.fits(integer, ColumnType.decimal(20, 0))).isTrue();
    assertThat(PostgresTypes.fits(integer, ColumnType.of(Kind.SMALLINT))).isFalse();
    assertThat(PostgresTypes.fits(integer, ColumnType.varchar(-1))).isTrue();
    assertThat(PostgresTypes.fits(ColumnType.of(Kind.REAL), ColumnType.of(Kind.DOUBLE))).isTrue();
    assertThat(PostgresTypes.fits(ColumnType.of(Kind.DOUBLE), ColumnType.of(Kind.REAL))).isFalse();
    assertThat(PostgresTypes.fits(ColumnType.of(Kind.DATE), ColumnType.of(Kind.TIMESTAMP)))
        .isFalse();
    assertThat(
            PostgresTypes.fits(
                ColumnType.array(integer), ColumnType.array(ColumnType.of(Kind.BIGINT))))
        .isTrue();
  }
}
