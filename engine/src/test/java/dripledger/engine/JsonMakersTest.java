package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import com.fasterxml.jackson.databind.DeserializationFeature;
import com.fasterxml.jackson.databind.JsonNode;
import com.fasterxml.jackson.databind.ObjectMapper;
import dripledger.engine.query.Result;
import java.sql.Connection;
import java.sql.ResultSet;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.List;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.CsvSource;
import org.junit.jupiter.params.provider.ValueSource;

/** JSON that is made of values: what is in it is what PostgreSQL puts into it. */
class JsonMakersTest extends BesidePostgres {
  private static final ObjectMapper JSON =
      new ObjectMapper().enable(DeserializationFeature.USE_BIG_DECIMAL_FOR_FLOATS);
  private static final String TABLE =
      "CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, area VARCHAR, grams INTEGER, price DECIMAL(10, 2),"
          + " speed DOUBLE PRECISION, fragile BOOLEAN, day DATE, at TIMESTAMP);"
          + "INSERT INTO parcel VALUES (1, 'Quillhaven', 250, 4.50, 1.5, TRUE, DATE '2026-03-02', TIMESTAMP"
          + " '2026-03-02 06:14:09.25'),"
          + "(2, 'a \"quoted\" \\ äöü', NULL, NULL, NULL, NULL, NULL, NULL),"
          + "(3, NULL, -7, 0.00, 0.1, FALSE, DATE '1969-12-31', TIMESTAMP '1969-12-31 23:59:59'),"
          + "(4, '', 2147483647, 12345678.90, 2, TRUE, DATE '2024-02-29', TIMESTAMP '2024-02-29 00:00:00')";

  private static Connection connection;
  private static Statement oracle;
  private static TestEngine db;

  @BeforeAll
  static void start() throws Exception {
    connection = database("json_makers");
    oracle = connection.createStatement();
    oracle.execute(TABLE);
    db = new TestEngine();
    db.run(TABLE);
  }

  @AfterAll
  static void stop() throws Exception {
    db.close();
    connection.close();
  }

  private static List<JsonNode> theirs(String sql) throws Exception {
    List<JsonNode> rows = new ArrayList<>();
    try (ResultSet r = oracle.executeQuery(sql)) {
      while (r.next()) {
        String text = r.getString(1);
        rows.add(text == null ? null : JSON.readTree(text));
      }
    }
    return rows;
  }

  private static List<JsonNode> ours(String sql) throws Exception {
    List<JsonNode> rows = new ArrayList<>();
    for (Object[] row : ((Result.Rows) db.run(sql)).rows()) {
      rows.add(row[0] == null ? null : JSON.readTree((String) row[0]));
    }
    return rows;
  }

  @ParameterizedTest
  @ValueSource(
      strings = {
        "json_build_object('parcel', parcel, 'area', area)",
        "jsonb_build_object('grams', grams, 'price', price, 'speed', speed, 'fragile', fragile)",
        "json_build_object('day', day, 'at', at)",
        "json_build_object(COALESCE(area, 'none') || parcel, 1, parcel, 'a number is a name')",
        "json_build_object()",
        "json_build_array()",
        "json_build_array(parcel, area, NULL, TRUE, 1.50)",
        "jsonb_build_array(json_build_object('a', area), json_build_array(grams))",
        "json_build_object('all', json_build_object('area', area, 'of', json_build_array(parcel, grams)))",
        "json_build_object('none', CAST(NULL AS VARCHAR))",
        "to_json(area)",
        "to_json(grams)",
        "to_jsonb(price)",
        "to_json(fragile)",
        "to_json(at)",
        "to_json(day)",
        "to_json(json_build_array(parcel))",
        "json_build_object('deep', json_build_object('x', price) -> 'x')",
        "json_build_object('left', LEFT(area, 3), 'less', grams - parcel, 'text', '<' || area || '>')",
        "CASE WHEN parcel > 2 THEN json_build_array(parcel) END",
        "to_json(json_build_object('a', area) ->> 'a' = area)"
      })
  void valuesBecomeWhatPostgresMakesOfThem(String expression) throws Exception {
    String sql = "SELECT " + expression + " FROM parcel ORDER BY parcel";
    assertThat(ours(sql)).isEqualTo(theirs(sql));
    db.run("CREATE MATERIALIZED VIEW made AS SELECT parcel, " + expression + " AS doc FROM parcel");
    assertThat(ours("SELECT doc FROM made ORDER BY parcel")).isEqualTo(theirs(sql));
    db.run("DROP MATERIALIZED VIEW made");
  }

  /** A document of each group, as a view that is kept up to date. */
  @Test
  void aViewOfDocumentsFollowsItsRows() throws Exception {
    String query =
        "SELECT json_build_object('fragile', fragile, 'parcels', json_agg(parcel), 'grams', SUM(grams),"
            + " 'by', json_object_agg(parcel, area)) AS doc FROM parcel WHERE parcel <> 2 GROUP BY fragile";
    db.run("CREATE MATERIALIZED VIEW groups_of AS " + query);
    String change = "UPDATE parcel SET grams = grams - 1 WHERE parcel = 4";
    String back = "UPDATE parcel SET grams = grams + 1 WHERE parcel = 4";
    for (String each : List.of("UPDATE parcel SET area = area", change, back)) {
      db.run(each);
      oracle.execute(each);
      assertThat(ours("SELECT doc FROM groups_of"))
          .containsExactlyInAnyOrderElementsOf(theirs(query));
    }
    db.run("DROP MATERIALIZED VIEW groups_of");
  }

  /** As the standard writes them: members that are NULL stay or are left out. */
  @ParameterizedTest
  @CsvSource(
      delimiter = '|',
      quoteCharacter = '`',
      value = {
        "JSON_OBJECT('a': parcel, 'b': grams) | {\"a\":2,\"b\":null}",
        "JSON_OBJECT('a': parcel, 'b': grams ABSENT ON NULL) | {\"a\":2}",
        "JSON_OBJECT(KEY 'a' VALUE day NULL ON NULL) | {\"a\":null}",
        "JSON_OBJECT('a': grams ABSENT ON NULL) | {}",
        "JSON_ARRAY(parcel, grams, 'x') | [2,\"x\"]",
        "JSON_ARRAY(parcel, grams NULL ON NULL) | [2,null]",
        "JSON_OBJECT('a': JSON_ARRAY(1, 2)) | {\"a\":[1,2]}",
      })
  void theStandardsFormsAreThere(String expression, String expected) throws Exception {
    assertThat(ours("SELECT " + expression + " FROM parcel WHERE parcel = 2"))
        .containsExactly(JSON.readTree(expected));
  }

  @ParameterizedTest
  @CsvSource(
      delimiter = '|',
      quoteCharacter = '`',
      value = {
        "json_build_object('a') | a name without a value",
        "json_build_object(CAST(NULL AS VARCHAR), 1) | a name in an object is NULL",
        "to_json(ARRAY[1]) | not supported yet: JSON of a value of type ARRAY",
      })
  void whatCannotBeSaysSo(String expression, String expected) {
    assertThat(db.error("SELECT " + expression)).hasMessageContaining(expected);
  }
}
