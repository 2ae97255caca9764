package dripledger.connectors.postgres;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.PostgresCluster;
import java.io.StringReader;
import java.math.BigDecimal;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.ResultSet;
import java.sql.Statement;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;
import org.postgresql.PGConnection;
import org.postgresql.copy.CopyManager;

/** What is written for COPY is what a database reads, whatever is in it. */
class CopyTextTest {
  private static PostgresCluster cluster;
  private static Connection connection;

  @BeforeAll
  static void start() throws Exception {
    cluster = PostgresCluster.temporary();
    connection =
        DriverManager.getConnection(
            cluster.jdbcUrl(PostgresCluster.DATABASE), PostgresCluster.USER, "loopback");
  }

  @AfterAll
  static void stop() throws Exception {
    connection.close();
    cluster.close();
  }

  private static void copy(String table, List<Object[]> rows) throws Exception {
    StringBuilder text = new StringBuilder();
    for (Object[] row : rows) {
      for (int i = 0; i < row.length; i++) {
        text.append(i > 0 ? "\t" : "");
        CopyText.append(text, row[i]);
      }
      text.append('\n');
    }
    CopyManager copies = connection.unwrap(PGConnection.class).getCopyAPI();
    copies.copyIn("COPY " + table + " FROM STDIN", new StringReader(text.toString()));
  }

  @Test
  void textOfAllKindsComesThrough() throws Exception {
    List<String> texts = new ArrayList<>();
    texts.addAll(
        List.of("", "\\N", "\\", "\\\\t", "a\tb", "a\nb", "a\rb", "\\.", "NULL", " x ", "'\""));
    Random random = new Random(1);
    String letters = "ab\\\t\n\r N.'\"\u00e4\u20ac\ud83d\ude80";
    for (int i = 0; i < 500; i++) {
      StringBuilder text = new StringBuilder();
      for (int n = random.nextInt(12); n > 0; n--) {
        int at = random.nextInt(letters.length() - 1);
        if (at == letters.length() - 2) {
          text.append(letters, at, at + 2);
        } else {
          text.append(letters.charAt(at));
        }
      }
      texts.add(text.toString());
    }
    List<Object[]> rows = new ArrayList<>();
    for (int i = 0; i < texts.size(); i++) {
      rows.add(new Object[] {(long) i, texts.get(i)});
    }
    try (Statement s = connection.createStatement()) {
      s.execute("CREATE TABLE texts (id BIGINT PRIMARY KEY, t TEXT)");
      copy("texts", rows);
      List<String> read = new ArrayList<>();
      try (ResultSet all = s.executeQuery("SELECT t FROM texts ORDER BY id")) {
        while (all.next()) {
          read.add(all.getString(1));
        }
      }
      assertThat(read).isEqualTo(texts);
    }
  }

  @Test
  void valuesOfEachTypeComeThrough() throws Exception {
    byte[] bytes = {0, 1, 92, 10, (byte) 200};
    LocalDateTime at = LocalDateTime.of(2026, 3, 2, 6, 0, 0, 123_456_000);
    List<Object[]> rows =
        List.of(
            new Object[] {
              1L,
              true,
              Long.MIN_VALUE,
              1.5,
              new BigDecimal("12.340"),
              at,
              LocalDate.of(2026, 3, 2),
              bytes
            },
            new Object[] {
              2L, false, 0L, Double.NaN, new BigDecimal("-0.001"), null, null, new byte[0]
            },
            new Object[] {3L, null, null, Double.NEGATIVE_INFINITY, null, null, null, null});
    try (Statement s = connection.createStatement()) {
      s.execute(
          "CREATE TABLE kinds (id BIGINT, b BOOLEAN, n BIGINT, x DOUBLE PRECISION, d NUMERIC, at TIMESTAMP,"
              + " day DATE, raw BYTEA)");
      copy("kinds", rows);
      try (ResultSet all = s.executeQuery("SELECT * FROM kinds ORDER BY id")) {
        assertThat(all.next()).isTrue();
        assertThat(all.getBoolean("b")).isTrue();
        assertThat(all.getLong("n")).isEqualTo(Long.MIN_VALUE);
        assertThat(all.getDouble("x")).isEqualTo(1.5);
        assertThat(all.getBigDecimal("d")).isEqualTo(new BigDecimal("12.340"));
        assertThat(all.getObject("at", LocalDateTime.class)).isEqualTo(at);
        assertThat(all.getObject("day", LocalDate.class)).isEqualTo(LocalDate.of(2026, 3, 2));
        assertThat(all.getBytes("raw")).isEqualTo(bytes);
        assertThat(all.next()).isTrue();
        assertThat(all.getDouble("x")).isNaN();
        assertThat(all.getBigDecimal("d")).isEqualTo(new BigDecimal("-0.001"));
        assertThat(all.getBytes("raw")).isEmpty();
        assertThat(all.next()).isTrue();
        for (String column : List.of("b", "n", "d", "at", "day", "raw")) {
          assertThat(all.getObject(column)).as(column).isNull();
        }
        assertThat(all.getDouble("x")).isEqualTo(Double.NEGATIVE_INFINITY);
      }
    }
  }
}
