package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.query.Result;
import dripledger.engine.row.ColumnType.Kind;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;

/** What is not as in PostgreSQL, line by line as docs/language.md lists it. */
class DifferencesTest {
  private static TestEngine db;

  @BeforeAll
  static void start() {
    db = new TestEngine();
    db.run(
        "CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate VARCHAR, grams INTEGER, cost DECIMAL(8, 2),"
            + " ratio DOUBLE PRECISION, due DATE, seen TIMESTAMP, code CHAR(5));"
            + "INSERT INTO parcel VALUES (1, 'b', 1, 4.50, 1e16, DATE '2026-03-04', TIMESTAMP '2026-03-02"
            + " 06:00:01.25', 'x'), (2, 'Z', 2, 0.10, 1, DATE '2026-03-05', TIMESTAMP '2026-03-02 06:00:02',"
            + " 'y'), (3, 'b', 2, 1.00, -1e16, NULL, NULL, 'z'), (4, 'a', 2, 1.00, NULL, NULL, NULL, 'z')");
  }

  @AfterAll
  static void stop() {
    db.close();
  }

  private static String one(String expression) {
    String row = db.rows("SELECT " + expression + " AS x FROM parcel WHERE parcel = 1").get(0);
    return row.substring(1, row.length() - 1);
  }

  private static String all(String aggregate) {
    String row = db.rows("SELECT " + aggregate + " AS x FROM parcel").get(0);
    return row.substring(1, row.length() - 1);
  }

  private static Kind kind(String expression) {
    Result.Rows rows = (Result.Rows) db.run("SELECT " + expression + " AS x FROM parcel");
    return rows.columns().get(0).type().kind();
  }

  @Test
  void averagesHaveSixteenDigits() {
    assertThat(all("AVG(grams)")).isEqualTo("1.7500000000000000");
    assertThat(all("AVG(cost)")).isEqualTo("1.6500000000000000");
  }

  @Test
  void numbersWithoutAPrecisionHaveTwelve() {
    assertThat(one("4.5::numeric")).isEqualTo("4.500000000000");
    assertThat(one("CAST('0.1' AS DECIMAL)")).isEqualTo("0.100000000000");
    assertThat(one("CAST(grams AS NUMERIC)")).isEqualTo("1.000000000000");
    assertThat(db.error("SELECT '1e30'::numeric AS x").getMessage()).isNotBlank();
  }

  @Test
  void quotientsHaveSixOrMore() {
    assertThat(one("cost / 7")).startsWith("0.642857");
    assertThat(one("cost / 3.0000000")).startsWith("1.5000000");
  }

  @Test
  void sumsOfFloatingPointAreRoundedOnce() {
    assertThat(all("SUM(ratio)")).isEqualTo("1.0");
    assertThat(
            db.rows(
                "SELECT SUM(ratio) OVER (ORDER BY parcel DESC) AS s FROM parcel WHERE parcel < 4"))
        .containsExactlyInAnyOrder("[-1.0E16]", "[-1.0E16]", "[1.0]");
  }

  @Test
  void partsOfTimesAreWholeNumbers() {
    assertThat(kind("EXTRACT(YEAR FROM due)")).isEqualTo(Kind.BIGINT);
    assertThat(kind("EXTRACT(HOUR FROM seen)")).isEqualTo(Kind.BIGINT);
    assertThat(one("EXTRACT(SECOND FROM seen)")).isEqualTo("1.250000");
    assertThat(kind("EXTRACT(EPOCH FROM seen)")).isEqualTo(Kind.DECIMAL);
  }

  @Test
  void charactersAreNotPaddedAndAnAgeIsText() {
    assertThat(one("code || '!'")).isEqualTo("x!");
    assertThat(one("age(TIMESTAMP '2026-03-04 02:00:00', TIMESTAMP '2026-02-01 00:00:00')"))
        .isEqualTo("1 mon 3 days 02:00:00");
    assertThat(kind("age(seen, seen)")).isEqualTo(Kind.VARCHAR);
  }

  @Test
  void jsonIsWrittenWithoutBlanks() {
    assertThat(one("'{\"a\": [1, 2]}'::json -> 'a'")).isEqualTo("[1,2]");
    assertThat(one("json_build_object('a', json_build_array(1, 2), 'b', '[1]')"))
        .contains("[1")
        .contains("\"[1]\"");
  }

  @Test
  void textIsSortedByCodePoint() {
    assertThat(db.rows("SELECT gate FROM parcel ORDER BY gate, parcel"))
        .containsExactly("[Z]", "[a]", "[b]", "[b]");
    assertThat(all("MIN(gate)")).isEqualTo("Z");
  }

  @Test
  void numbersAndTextAreCastByHand() {
    for (String query :
        new String[] {
          "SELECT parcel FROM parcel WHERE gate = grams",
          "SELECT gate + grams AS x FROM parcel",
          "SELECT gate FROM parcel UNION SELECT grams FROM parcel",
          "SELECT CASE WHEN grams > 1 THEN gate ELSE grams END AS x FROM parcel",
          "SELECT COALESCE(gate, due) AS x FROM parcel",
          "SELECT CASE WHEN grams > 1 THEN '2' ELSE grams END AS x FROM parcel",
          "SELECT '2' AS x FROM parcel UNION SELECT grams FROM parcel"
        }) {
      assertThat(db.error(query).hint()).as(query).isNotBlank();
    }
    assertThat(db.rows("SELECT parcel FROM parcel WHERE grams = '1'")).containsExactly("[1]");
    assertThat(db.rows("SELECT parcel FROM parcel WHERE cost = '4.5'")).containsExactly("[1]");
  }

  @Test
  void aDateIsTruncatedToADateAndPairsAreCounted() {
    assertThat(kind("date_trunc('month', due)")).isEqualTo(Kind.DATE);
    assertThat(one("date_trunc('month', due)")).isEqualTo("2026-03-01");
    assertThat(all("COUNT(DISTINCT gate, grams)")).isEqualTo("4");
    assertThat(all("STRING_AGG(grams, ',')")).isEqualTo("1,2,2,2");
  }

  @Test
  void equalRowsAreToldApartByAllTheirColumns() {
    String numbered = "SELECT parcel, ROW_NUMBER() OVER (ORDER BY grams) AS n FROM parcel";
    for (int i = 0; i < 3; i++) {
      assertThat(db.rows(numbered))
          .containsExactlyInAnyOrder("[1, 1]", "[2, 2]", "[3, 3]", "[4, 4]");
      assertThat(db.rows("SELECT parcel FROM parcel ORDER BY grams DESC LIMIT 2"))
          .containsExactly("[4]", "[3]");
    }
    assertThat(all("ARRAY_TO_STRING(ARRAY_AGG(gate), '')")).isEqualTo("Zabb");
    assertThat(all("STRING_AGG(gate, '')")).isEqualTo("Zabb");
  }

  @Test
  void deviationsAreOfExactSums() {
    assertThat(Double.parseDouble(all("STDDEV_POP(1e9 + grams)"))).isEqualTo(0.4330127018922193);
    assertThat(Double.parseDouble(all("VAR_POP(1e9 + grams)"))).isEqualTo(0.1875);
    assertThat(Double.parseDouble(all("COVAR_POP(1e9 + grams, grams)"))).isEqualTo(0.1875);
  }

  @Test
  void hexadecimalIsOfSixtyFourBits() {
    assertThat(one("to_hex(-grams)")).isEqualTo("ffffffffffffffff");
    assertThat(one("CARDINALITY(CAST(ARRAY[] AS INTEGER ARRAY))")).isEqualTo("0");
    assertThat(db.error("SELECT ARRAY[] AS x").getMessage()).isNotBlank();
  }

  @Test
  void hashesTakeTextAndExpressionsDoNotReferBack() {
    assertThat(one("ENCODE(SHA256('a'), 'hex')")).startsWith("ca978112ca1bbdca");
    assertThat(kind("LOG(cost)")).isEqualTo(Kind.DOUBLE);
    assertThat(db.error("SELECT regexp_like('aa', '(a)\\1') AS x").getMessage()).isNotBlank();
    assertThat(all("APPROX_COUNT_DISTINCT(gate)")).isEqualTo("3");
  }

  /** What to_char does not write is refused, also if PostgreSQL knows it or takes any length. */
  @Test
  void numbersAreWrittenByUsualPatterns() {
    assertThat(db.error("SELECT to_char(5, 'RN') AS x").getMessage()).contains("RN");
    assertThat(db.error("SELECT to_char(5, '9.99EEEE') AS x").getMessage()).contains("EEEE");
    assertThat(db.error("SELECT to_char(5, REPEAT('9', 101)) AS x").getMessage()).contains("100");
    assertThat(db.error("SELECT to_char(5, REPEAT('x', 300000)) AS x").getMessage())
        .contains("1000 characters");
    assertThat(db.error("SELECT to_char(1 / 0e0 + grams, '9') AS x FROM parcel").getMessage())
        .isNotBlank();
  }

  /** What the page says is refused says so at its place. */
  @Test
  void whatIsNotSupportedIsRefused() {
    for (String query :
        new String[] {
          "SELECT parcel FROM parcel ORDER BY grams FETCH FIRST 1 ROWS WITH TIES",
          "SELECT ARRAY(SELECT parcel FROM parcel) AS x",
          "SELECT seen AT TIME ZONE 'UTC' AS x FROM parcel",
          "SELECT parcel FROM parcel WHERE (gate, grams) = (SELECT gate, grams FROM parcel WHERE parcel = 1)",
          "SELECT PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY gate) AS x FROM parcel"
        }) {
      assertThat(db.error(query).line()).as(query).isOne();
    }
  }
}
