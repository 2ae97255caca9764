package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.math.BigDecimal;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.ResultSetMetaData;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.util.List;
import org.junit.jupiter.api.Test;

/** Values of all types to and from a standard driver. */
class WireTypesTest extends WireService {
  @Test
  void everyTypeIsReadInTextAndInBinary() throws Exception {
    for (String transfer : List.of("prepareThreshold=0", "prepareThreshold=-1")) {
      try (Connection c = service.connect(transfer);
          Statement s = c.createStatement();
          PreparedStatement insert =
              c.prepareStatement(
                  "INSERT INTO kinds VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ARRAY['a','b c'],"
                      + " ARRAY[1, 2], NULL)")) {
        insert.setInt(1, 1);
        insert.setBoolean(2, true);
        insert.setShort(3, (short) -7);
        insert.setLong(4, Long.MIN_VALUE);
        insert.setFloat(5, 1.5f);
        insert.setDouble(6, 1e300);
        insert.setBigDecimal(7, new BigDecimal("-12345678.0900"));
        insert.setString(8, "Übung, \"drei\"");
        insert.setBytes(9, new byte[] {0, -1, 65});
        insert.setObject(10, LocalDate.of(1999, 12, 31));
        insert.setObject(11, java.time.LocalTime.of(6, 14, 9, 120_000_000));
        insert.setObject(12, LocalDateTime.of(2026, 3, 2, 6, 14, 9, 120_000_000));
        assertThat(insert.executeUpdate()).isEqualTo(1);
        try (PreparedStatement select =
            c.prepareStatement("SELECT * FROM kinds WHERE id = ? AND yes")) {
          select.setInt(1, 1);
          try (ResultSet r = select.executeQuery()) {
            assertThat(r.next()).isTrue();
            assertThat(r.getBoolean("yes")).isTrue();
            assertThat(r.getShort("small")).isEqualTo((short) -7);
            assertThat(r.getLong("big")).isEqualTo(Long.MIN_VALUE);
            assertThat(r.getFloat("approx")).isEqualTo(1.5f);
            assertThat(r.getDouble("wide")).isEqualTo(1e300);
            assertThat(r.getBigDecimal("exact")).isEqualTo(new BigDecimal("-12345678.0900"));
            assertThat(r.getString("word")).isEqualTo("Übung, \"drei\"");
            assertThat(r.getBytes("raw")).isEqualTo(new byte[] {0, -1, 65});
            assertThat(r.getObject("day", LocalDate.class)).isEqualTo("1999-12-31");
            assertThat(r.getString("hour")).startsWith("06:14:09.12");
            assertThat(r.getObject("at", LocalDateTime.class)).isEqualTo("2026-03-02T06:14:09.12");
            assertThat((Object[]) r.getArray("tags").getArray()).containsExactly("a", "b c");
            assertThat((Object[]) r.getArray("numbers").getArray()).containsExactly(1L, 2L);
            assertThat(r.getString("scanner")).isNull();
            ResultSetMetaData m = r.getMetaData();
            assertThat(m.getColumnTypeName(7)).isEqualTo("numeric");
            assertThat(m.getPrecision(7)).isEqualTo(20);
            assertThat(m.getScale(7)).isEqualTo(4);
            assertThat(m.getTableName(7)).isEqualTo("kinds");
            assertThat(m.getColumnTypeName(15)).isEqualTo("json");
          }
        }
        assertThat(s.executeUpdate("DELETE FROM kinds")).isEqualTo(1);
      }
    }
  }

  /** One text, prepared on the server from its fifth run on, also once the catalog has changed. */
  /** Lengths of time as values, in every form that clients send, against PostgreSQL. */
  @Test
  void aLengthOfTimeIsAValue() throws Exception {
    String sum = "SELECT TIMESTAMP '2026-03-02 06:00:00' + ? AS at";
    for (String transfer : List.of("prepareThreshold=0", "prepareThreshold=-1")) {
      try (Connection ours = service.connect(transfer);
          Connection theirs = service.records();
          PreparedStatement o = ours.prepareStatement(sum);
          PreparedStatement t = theirs.prepareStatement(sum)) {
        for (String length :
            List.of(
                "1 day",
                "-36 hours",
                "90 secs",
                "1 day 02:03:04.5",
                "-00:00:01",
                "3 days -01:00:00",
                "2 weeks 5 min 6.25 s",
                "00:00:00",
                "P1DT2H3M4.5S",
                "@ 1 day 30 mins ago",
                "2 ms",
                "-1.5 days",
                "123456:00:00")) {
          for (PreparedStatement s : List.of(o, t)) {
            org.postgresql.util.PGobject value = new org.postgresql.util.PGobject();
            value.setType("interval");
            value.setValue(length);
            s.setObject(1, value);
          }
          assertThat(rows(o.executeQuery())).as(length).isEqualTo(rows(t.executeQuery()));
        }
        o.setNull(1, java.sql.Types.OTHER, "interval");
        assertThat(rows(o.executeQuery())).isEqualTo("null\n");
        for (String wrong : List.of("1 month", "soon", "", "1", "1 day x", "2 us")) {
          org.postgresql.util.PGobject value = new org.postgresql.util.PGobject();
          value.setType("interval");
          value.setValue(wrong);
          o.setObject(1, value);
          assertThatThrownBy(o::executeQuery)
              .as(wrong)
              .satisfies(
                  e ->
                      assertThat(((SQLException) e).getSQLState()).isIn("22P02", "0A000", "42000"));
        }
      }
    }
  }
}
