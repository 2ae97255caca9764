package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.PostgresCluster;
import dripledger.engine.query.Result;
import java.math.BigDecimal;
import java.math.MathContext;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.List;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/**
 * Scalar expressions, one by one, over rows with edge values and NULLs: PostgreSQL's answer is
 * ours.
 */
class FunctionOracleTest {
  private static final String TABLE =
      "CREATE TABLE edge (k INTEGER PRIMARY KEY, i INTEGER, b BIGINT, d DECIMAL(12, 3), x DOUBLE PRECISION,"
          + " s VARCHAR, t TIMESTAMP, c DATE, f BOOLEAN)";
  private static final List<String> ROWS =
      List.of(
          "(1, 0, 0, 0, 0e0, '', TIMESTAMP '2026-03-02 06:14:09.123456', DATE '2026-03-02', TRUE)",
          "(2, -7, -9000000000, -1.005, -2.5e0, 'G07', TIMESTAMP '1969-12-31 23:59:59.999999', DATE"
              + " '1969-12-31', FALSE)",
          "(3, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)",
          "(4, 2147483647, 9223372036854775807, 999999999.999, 1e15, 'Quill haven-QH', TIMESTAMP"
              + " '2024-02-29 00:00:00', DATE '2024-02-29', TRUE)",
          "(5, 13, 42, 12.345, 0.1e0, 'äöü ß %_x', TIMESTAMP '2026-12-28 12:30:00.5', DATE '2027-01-03',"
              + " NULL)");

  private static PostgresCluster cluster;
  private static Connection connection;
  private static Statement oracle;
  private static TestEngine db;

  @BeforeAll
  static void start() throws Exception {
    cluster = PostgresCluster.temporary();
    connection =
        DriverManager.getConnection(
            cluster.jdbcUrl(PostgresCluster.DATABASE), PostgresCluster.USER, "loopback");
    oracle = connection.createStatement();
    db = new TestEngine();
    String insert = "INSERT INTO edge VALUES " + String.join(", ", ROWS);
    oracle.execute(TABLE);
    oracle.execute(insert);
    db.run(TABLE);
    db.run(insert);
  }

  @AfterAll
  static void stop() throws SQLException {
    db.close();
    connection.close();
    cluster.close();
  }

  @ParameterizedTest
  @ValueSource(
      strings = {
        // logic with NULL
        "f AND i > 0",
        "f OR i > 0",
        "NOT f",
        "f IS TRUE",
        "f IS NOT FALSE",
        "f IS UNKNOWN",
        "i = b",
        "f AND NULL",
        "i <> 13 OR f",
        "i IS DISTINCT FROM b",
        "s IS NOT DISTINCT FROM NULL",
        "i BETWEEN -10 AND 13",
        "i NOT BETWEEN 1 AND 20",
        "i IN (0, 13, NULL)",
        "i NOT IN (0, 13)",
        "s = 'G07'",
        "s > 'G'",
        "s <= 'Quill haven-QH'",
        "x < d",
        "i < d",
        "t < c",
        "t >= TIMESTAMP '2026-01-01 00:00:00'",
        // numbers
        "i / 2",
        "i % 5",
        "MOD(i, 3)",
        "-i",
        "ABS(i)",
        "ABS(d)",
        "SIGN(d)",
        "b - 1",
        "d + 1",
        "d - i",
        "d * 2.5",
        "d * d",
        "x + 1",
        "x * i",
        "x / 4",
        "ROUND(d)",
        "ROUND(d, 2)",
        "ROUND(d, 1)",
        "FLOOR(d)",
        "CEIL(d)",
        "FLOOR(x)",
        "CEIL(x)",
        "ROUND(x)",
        "TRUNC(d, 1)",
        "POWER(x, 2)",
        "EXP(d / 1000000000)",
        "SQRT(ABS(x))",
        "LN(ABS(x) + 1)",
        "LOG10(ABS(d) + 1)",
        "GREATEST(i, 5)",
        "LEAST(d, 3)",
        "GREATEST(i, b, 1)",
        "COALESCE(i, 7)",
        "COALESCE(d, i, 1)",
        "NULLIF(i, 13)",
        "CASE WHEN i > 0 THEN 'p' WHEN i < 0 THEN 'n' ELSE 'z' END",
        "CASE i WHEN 0 THEN 1.5 WHEN 13 THEN 2 END",
        "CASE WHEN i = 0 THEN 0 ELSE 100 / i END",
        // casts
        "CAST(i AS VARCHAR)",
        "CAST(b AS DECIMAL(25, 2))",
        "CAST(d AS INTEGER)",
        "CAST(x AS BIGINT)",
        "CAST(d AS DOUBLE PRECISION)",
        "CAST(x AS DECIMAL(20, 4))",
        "CAST(f AS VARCHAR)",
        "CAST(d AS VARCHAR)",
        "CAST(x AS VARCHAR)",
        "CAST(t AS VARCHAR)",
        "CAST(c AS VARCHAR)",
        "CAST(t AS DATE)",
        "CAST(c AS TIMESTAMP)",
        "CAST(t AS TIME)",
        "CAST(CAST(i AS VARCHAR) AS BIGINT)",
        "CAST('  42 ' AS INTEGER)",
        "CAST('1e3' AS DOUBLE PRECISION)",
        "CAST('yes' AS BOOLEAN)",
        "CAST('2026-03-02T06:00:00' AS TIMESTAMP)",
        "CAST('2026-03-02 06:14' AS TIMESTAMP)",
        "CAST(' 2028-02-29 ' AS TIMESTAMP)",
        "CAST('2026-03-02 23:14:09.5' AS DATE)",
        "CAST('06:14' AS TIME)",
        "ROUND(2.5)",
        "ROUND(-0.125, 2)",
        "CAST(2.5 AS INTEGER)",
        "CAST(3.5e0 AS INTEGER)",
        "7 / 2",
        "MOD(-7, 3)",
        "SUBSTRING('abc' FROM 0 FOR 2)",
        "CAST(1.10 AS VARCHAR)",
        "CAST('06:14:09.123456' AS TIME)",
        "CAST(s AS VARCHAR(3))",
        "i::bigint + 1",
        // text
        "s || 'x'",
        "CONCAT(s, i, d)",
        "CASE WHEN k < 5 THEN UPPER(s) END",
        "CASE WHEN k < 5 THEN LOWER(s) END",
        "CASE WHEN k < 5 THEN INITCAP(s) END",
        "CHAR_LENGTH(s)",
        "LENGTH(s)",
        "OCTET_LENGTH(s)",
        "SUBSTRING(s FROM 2)",
        "SUBSTRING(s FROM 0 FOR 3)",
        "SUBSTRING(s FROM -1 FOR 4)",
        "LEFT(s, 2)",
        "LEFT(s, -1)",
        "RIGHT(s, 2)",
        "RIGHT(s, -1)",
        "LPAD(s, 6)",
        "LPAD(s, 6, 'ab')",
        "RPAD(s, 6, 'ab')",
        "LPAD(s, 2)",
        "TRIM(s)",
        "TRIM(LEADING 'G' FROM s)",
        "LTRIM('  ' || s)",
        "RTRIM(s || '  ')",
        "REPLACE(s, '0', '-')",
        "TRANSLATE(s, 'G0', 'x')",
        "REVERSE(s)",
        "REPEAT(s, 2)",
        "POSITION('-' IN s)",
        "STRPOS(s, '7')",
        "SPLIT_PART(s, '-', 2)",
        "SPLIT_PART(s, '-', 1)",
        "ASCII(s)",
        "MD5(s)",
        "s LIKE 'G%'",
        "s LIKE '%\\%%'",
        "s LIKE '___'",
        "s NOT LIKE '%0%'",
        "s ILIKE 'q%'",
        "s LIKE '%!%%' ESCAPE '!'",
        // time
        "EXTRACT(YEAR FROM t)",
        "EXTRACT(MONTH FROM t)",
        "EXTRACT(DAY FROM t)",
        "EXTRACT(HOUR FROM t)",
        "EXTRACT(MINUTE FROM t)",
        "EXTRACT(SECOND FROM t)",
        "EXTRACT(EPOCH FROM t)",
        "EXTRACT(DOW FROM t)",
        "EXTRACT(DOY FROM c)",
        "EXTRACT(WEEK FROM t)",
        "EXTRACT(QUARTER FROM c)",
        "EXTRACT(ISODOW FROM c)",
        "EXTRACT(ISOYEAR FROM c)",
        "date_trunc('second', t)",
        "date_trunc('minute', t)",
        "date_trunc('day', t)",
        "date_trunc('week', t)",
        "date_trunc('month', t)",
        "date_trunc('quarter', t)",
        "date_trunc('year', t)",
        "t + INTERVAL '90' MINUTE",
        "t - INTERVAL '1' DAY",
        "t + INTERVAL '1' MONTH",
        "t - INTERVAL '13' MONTH",
        "t + INTERVAL '1' YEAR",
        "t > TIMESTAMP '2026-03-02 06:14:09.123455'",
        "c = DATE '2024-02-29'",
      })
  void equalsPostgres(String expression) throws SQLException {
    String sql = "SELECT k, " + expression + " AS v FROM edge ORDER BY k";
    List<String> ours = new ArrayList<>();
    for (Object[] row : ((Result.Rows) db.run(sql)).rows()) {
      ours.add(row[0] + ": " + text(row[1]));
    }
    List<String> theirs = new ArrayList<>();
    try (ResultSet r = oracle.executeQuery(sql)) {
      while (r.next()) {
        theirs.add(r.getInt(1) + ": " + text(r.getObject(2)));
      }
    }
    assertThat(ours).isEqualTo(theirs);
  }

  private static String text(Object value) {
    if (value instanceof Double d) {
      return Double.isFinite(d) ? number(new BigDecimal(d)) : d.toString();
    }
    if (value instanceof Number n) {
      return number(new BigDecimal(n.toString()));
    }
    if (value instanceof java.sql.Timestamp t) {
      return t.toLocalDateTime().toString();
    }
    if (value instanceof java.sql.Time t) {
      return String.valueOf(t.toLocalTime().withNano(0));
    }
    if (value instanceof java.time.LocalTime t) {
      return String.valueOf(t.withNano(0));
    }
    if (value instanceof java.sql.Date d) {
      return d.toLocalDate().toString();
    }
    return String.valueOf(value);
  }

  private static String number(BigDecimal value) {
    BigDecimal rounded = value.round(new MathContext(13));
    return rounded.signum() == 0 ? "0" : rounded.stripTrailingZeros().toPlainString();
  }
}
