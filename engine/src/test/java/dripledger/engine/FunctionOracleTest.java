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
import java.time.Duration;
import java.time.temporal.ChronoUnit;
import java.util.ArrayList;
import java.util.List;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;
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
        "s || k + 1 || '-' || k * 2",
        "s || 'x' LIKE '%x'",
        "'a' || k % 3 = 'a1'",
        "'a' || -k",
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
        "t + INTERVAL '5 minutes'",
        "t - INTERVAL '1 day 2 hours 30 min'",
        "t + INTERVAL '1.5 hours'",
        "t + INTERVAL '-2 weeks'",
        "t + INTERVAL '1 year 2 mons'",
        "t - INTERVAL '02:03:04.5'",
        "t - TIMESTAMP '2026-03-01 00:00:00'",
        "TIMESTAMP '2026-03-01 00:00:00' - c",
        "c - t",
        "c - DATE '2026-03-01'",
        "c + 3",
        "3 + c",
        "c - i % 100",
        "c + INTERVAL '1 day'",
        "INTERVAL '36 hours' + c",
        "c - INTERVAL '90 minutes'",
        "c + INTERVAL '1' MONTH",
        "c - INTERVAL '2 months'",
        "CAST(t AS TIME) - TIME '01:00:00'",
        "t - (t - INTERVAL '5 minutes')",
        "(t - TIMESTAMP '2026-03-01 00:00:00') * 2",
        "t - TIMESTAMP '2026-03-01 00:00:00' > INTERVAL '1 day'",
        "CAST(age(t, TIMESTAMP '2026-03-05 07:00:00') AS VARCHAR)",
        "CAST(age(TIMESTAMP '2026-03-31 07:00:00', t) AS VARCHAR)",
        "CAST(age(c, t) AS VARCHAR)",
        "CAST(age(t, c) AS VARCHAR)",
        "CAST(age(t, t) AS VARCHAR)",
        // regular expressions
        "regexp_replace(s, '[0-9]+', '<\\&>')",
        "regexp_replace(s, '([a-z])([a-z])', '\\2\\1', 'g')",
        "regexp_replace(s, 'Q', 'x', 'gi')",
        "regexp_like(s, '^[A-Z]+\\d+$')",
        "regexp_like(s, '^g', 'i')",
        "regexp_count(s, '[aeiou]')",
        "regexp_substr(s, '[a-z]+')",
        // more text
        "CONCAT_WS('-', s, i, NULL, 'x')",
        "CONCAT_WS(s, 'a', 'b')",
        "encode(decode('c0ffee', 'hex'), 'base64')",
        "encode(sha256(decode('c0ffee', 'hex')), 'hex')",
        "encode(sha512(decode('', 'hex')), 'hex')",
        // more numbers
        "log(x * x + 1)",
        "ln(x * x + 1)",
        "gcd(i, 12)",
        "lcm(k, 12)",
        "div(d, 2)",
        "width_bucket(x, 0, 10, 5)",
        "width_bucket(x, 10, -10, 4)",
        "asin(x / 1e16)",
        "acos(x / 1e16)",
        "sinh(x / 1e15)",
        "cosh(x / 1e15)",
        "tanh(x)",
        "cot(x + 1)",
        // more of time
        "date_bin(INTERVAL '15 minutes', t, TIMESTAMP '2001-01-01 00:05:00')",
        "date_bin(INTERVAL '7 days', t, TIMESTAMP '2001-01-01 00:00:00')",
        "make_date(2026, 3, k)",
        "make_timestamp(2026, 3, k, 5, 6, 7.25)",
        "to_date('2026-03-' || k, 'YYYY-MM-DD')",
        "to_date('5 Mar 26', 'DD Mon YY')",
        "to_char(t, 'YYYY-MM-DD HH24:MI:SS.US')",
        "to_char(t, 'FMMonth FMDD, YYYY')",
        "to_char(t, 'Day|Dy|DAY|Mon|MON|Month|')",
        "to_char(t, 'HH12:MI AM \"o''clock\" Q DDD IW IYYY WW D ID')",
        "to_char(c, 'DD.MM.YY')",
        "date_part('epoch', t)",
        "date_part('hour', t)",
        "date_part('dow', c)",
        "date_part('week', t)",
        // JSON
        "json_extract_path_text('{\"a\": {\"b\": [1, \"x\", null]}}', 'a', 'b', '1')",
        "json_extract_path_text('{\"a\": null}', 'a')",
        "json_extract_path_text('{\"a\": 1.50}', s)",
        "json_array_length('[1, 2, [3]]')",
        "json_typeof('[1]')",
        "CAST('{\"a\": {\"b\": [1, \"x\", null]}}' AS JSON) -> 'a' -> 'b' ->> '0'",
        "CAST('{\"a\": {\"b\": [1, \"x\", null]}}' AS JSON) -> 'a' -> 'b' ->> 1",
        "CAST('{\"a\": {\"b\": [1, \"x\", null]}}' AS JSON) #>> '{a,b,0}'",
        "CAST('{\"a\": {\"b\": [1, \"x\", null]}}' AS JSON) #>> ARRAY['a', 'b', '2']",
        "(CAST('[[5]]' AS JSON) #> '{0}') ->> -1",
        "CAST('[[5], 6]' AS JSON) ->> -1",
        "CAST('[[5], 6]' AS JSON) ->> k",
        "CAST('[[5], 6]' AS JSON) ->> '0'",
        "CAST('{\"a\": 7}' AS JSON) ->> 'a' || 'x'",
        "CAST(CAST('{\"a\": 7}' AS JSON) ->> 'a' AS INTEGER) + 1",
        "(CAST('{\"a\": 7}' AS JSON) ->> 'a')::int = 7",
        "UPPER(CAST('{\"a\": \"x\"}' AS JSON) ->> LOWER('A'))",
        "jsonb_array_length('[1, 2, [3]]')",
        "jsonb_typeof('{}')",
        "jsonb_extract_path_text('{\"a\": 1}', 'a')",
        // arrays
        "CARDINALITY(ARRAY[1, 2] || ARRAY[i])",
        "(ARRAY[1, i] || ARRAY[2])[3]",
        "array_length(ARRAY[k, 1, 2], 1)",
        "array_length(ARRAY[k] || CAST(NULL AS INTEGER ARRAY), 1)",
        "array_to_string(array_append(ARRAY['a', s], 'z'), '-')",
        "array_to_string(array_prepend(s, ARRAY['a']), '-', '?')",
        "array_to_string(ARRAY[1, i, 3], ', ')",
        "array_to_string(array_cat(ARRAY[d], ARRAY[1.500]), s)",
        "array_position(ARRAY['a', s, NULL], s)",
        "array_position(ARRAY[1, 13], i)",
        "CARDINALITY(string_to_array(s, '-'))",
        "(string_to_array(s, ' '))[2]",
        "array_to_string(regexp_split_to_array(s, '[a-e -]'), '|')",
        // casts that may fail
        "CAST(i AS VARCHAR)",
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

  @Test
  void aCastThatMayFailAnswersNothing() {
    List<String> ours = new ArrayList<>();
    for (String value :
        List.of(
            "TRY_CAST('12' AS INTEGER)",
            "TRY_CAST('1x' AS INTEGER)",
            "TRY_CAST(3000000000 AS INTEGER)",
            "TRY_CAST('2026-02-30' AS DATE)",
            "TRY_CAST('2026-02-28' AS DATE)",
            "TRY_CAST(NULL AS DATE)",
            "TRY_CAST('1e5' AS DECIMAL(4, 2))",
            "TRY_CAST('yes' AS BOOLEAN)")) {
      ours.add(text(((Result.Rows) db.run("SELECT " + value)).rows().get(0)[0]));
    }
    assertThat(ours)
        .containsExactly("12", "null", "null", "null", "2026-02-28", "null", "null", "true");
  }

  @Test
  void timesAreReadByPattern() throws SQLException {
    for (String each :
        List.of(
            "to_timestamp('2026-03-02 06:14:09.5', 'YYYY-MM-DD HH24:MI:SS.MS')",
            "to_timestamp('02/03/2026 06:14 pm', 'DD/MM/YYYY HH12:MI am')",
            "to_timestamp('March 2, 2026', 'Month DD, YYYY')")) {
      Object ours = ((Result.Rows) db.run("SELECT " + each)).rows().get(0)[0];
      try (ResultSet r =
          oracle.executeQuery("SELECT (" + each + ") AT TIME ZONE current_setting('timezone')")) {
        r.next();
        assertThat(text(ours)).as(each).isEqualTo(text(r.getObject(1)));
      }
    }
    assertThat(db.rows("SELECT to_timestamp(1772432049.25)"))
        .containsExactly("[2026-03-02T06:14:09.250]");
  }

  @Test
  void aPartOfJsonIsWrittenWithoutBlanks() {
    assertThat(db.rows("SELECT '{\"a\": [1,  2]}' -> 'a'")).containsExactly("[[1,2]]");
  }

  @Test
  void whatIsReadFromNothingMayDependOnSomething() throws SQLException {
    for (String each :
        List.of(
            "SELECT 1 WHERE TRUE",
            "SELECT 1 WHERE FALSE",
            "SELECT 7 AS n WHERE EXISTS (SELECT 1 FROM edge WHERE k > 4) UNION ALL SELECT 8 WHERE 1 > 2",
            "SELECT k, (SELECT s WHERE f) FROM edge ORDER BY k",
            "SELECT k FROM edge AS e WHERE EXISTS (SELECT 1 WHERE e.i > 0) ORDER BY k",
            "SELECT COUNT(*) WHERE 1 = 2")) {
      List<String> theirs = new ArrayList<>();
      try (ResultSet r = oracle.executeQuery(each)) {
        while (r.next()) {
          List<String> row = new ArrayList<>();
          for (int i = 1; i <= r.getMetaData().getColumnCount(); i++) {
            row.add(text(r.getObject(i)));
          }
          theirs.add(row.toString());
        }
      }
      assertThat(db.rows(each)).as(each).isEqualTo(theirs);
    }
    String once = "INSERT INTO edge (k) SELECT 9 WHERE NOT EXISTS (SELECT 1 FROM edge WHERE k = 9)";
    db.run(once);
    db.run(once);
    assertThat(db.rows("SELECT COUNT(*) FROM edge WHERE k = 9")).containsExactly("[1]");
    db.run("DELETE FROM edge WHERE k = 9");
    assertThat(db.error("SELECT * WHERE TRUE")).isNotNull();
  }

  @Test
  void textIsNoNumber() {
    for (String each : List.of("s % 3", "('a' || k) % 3", "MOD(s, 3)", "s * 2", "-s")) {
      assertThat(db.error("SELECT " + each + " FROM edge"))
          .hasMessageContaining("does not go with these types");
    }
  }

  @Test
  void whatIsNoIntervalOrPatternSaysSo() {
    assertThat(db.error("SELECT t + INTERVAL '5 parsecs' FROM edge"))
        .hasMessageContaining("no unit of time \"parsecs\"");
    assertThat(db.error("SELECT t + INTERVAL '1 month 1 day' FROM edge"))
        .hasMessageContaining("of months or of days and less");
    assertThat(db.error("SELECT regexp_like(s, '(') FROM edge"))
        .hasMessageContaining("not a regular expression");
    // Takes other machines for ever.
    assertThat(db.rows("SELECT regexp_like(REPEAT('a', 50000), '(a*)*b')"))
        .containsExactly("[false]");
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
    if (value instanceof org.postgresql.util.PGInterval i) {
      return Duration.ofDays(i.getDays())
          .plusHours(i.getHours())
          .plusMinutes(i.getMinutes())
          .plusSeconds(i.getWholeSeconds())
          .plus(i.getMicroSeconds(), ChronoUnit.MICROS)
          .toString();
    }
    return String.valueOf(value);
  }

  private static String number(BigDecimal value) {
    BigDecimal rounded = value.round(new MathContext(13));
    return rounded.signum() == 0 ? "0" : rounded.stripTrailingZeros().toPlainString();
  }
}
