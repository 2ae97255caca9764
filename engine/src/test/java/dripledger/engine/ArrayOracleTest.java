package dripledger.engine;

import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/** Arrays taken apart, made and asked, and queries that read the row beside them. */
class ArrayOracleTest extends BesidePostgres {
  private static final String TABLES =
      "CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, capacity INTEGER);"
          + "CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate VARCHAR, grams INTEGER, marks"
          + " VARCHAR ARRAY, weights INTEGER ARRAY)";

  private static Map<String, String> queries() {
    Map<String, String> q = new LinkedHashMap<>();
    q.put(
        "elements",
        "SELECT p.parcel, m.mark FROM parcel AS p CROSS JOIN UNNEST(p.marks) AS m (mark)");
    q.put(
        "numbered",
        "SELECT p.parcel, m.mark, m.n FROM parcel AS p, UNNEST(p.marks) WITH ORDINALITY AS m (mark, n)"
            + " WHERE m.n > 1 AND p.grams > 2");
    q.put(
        "outer_elements",
        "SELECT p.parcel, m.mark, m.n FROM parcel AS p LEFT JOIN UNNEST(p.marks) WITH ORDINALITY AS m"
            + " (mark, n) ON TRUE");
    q.put(
        "counted_elements",
        "SELECT m.mark, COUNT(*) AS n, SUM(p.grams) AS grams FROM parcel AS p, UNNEST(p.marks) AS m"
            + " (mark) GROUP BY m.mark");
    q.put(
        "two_apart",
        "SELECT p.parcel, m.mark, w.weight FROM parcel AS p, UNNEST(p.marks) AS m (mark),"
            + " UNNEST(p.weights) AS w (weight) WHERE w.weight < p.grams");
    q.put(
        "joined_elements",
        "SELECT p.parcel, g.hall FROM parcel AS p, UNNEST(p.marks) AS m (mark) JOIN gate AS g ON m.mark"
            + " = g.gate");
    q.put(
        "series", "SELECT p.parcel, n.x FROM parcel AS p, generate_series(1, p.grams, 2) AS n (x)");
    q.put(
        "series_outer",
        "SELECT p.parcel, n FROM parcel AS p LEFT JOIN generate_series(p.grams, 3) AS n ON TRUE");
    q.put(
        "series_of_times",
        "SELECT t.x, COUNT(p.parcel) AS n FROM generate_series(TIMESTAMP '2026-03-02 06:00:00', TIMESTAMP"
            + " '2026-03-02 06:08:00', INTERVAL '1 minute') AS t (x) LEFT JOIN parcel AS p ON TIMESTAMP"
            + " '2026-03-02 06:00:00' + p.grams * INTERVAL '1 minute' = t.x GROUP BY t.x");
    q.put(
        "series_of_months",
        "SELECT m FROM generate_series(DATE '2026-01-31', DATE '2026-06-30', INTERVAL '1 month') AS m");
    q.put(
        "series_down",
        "SELECT x FROM generate_series(9, 2, -3) AS s (x) UNION ALL SELECT"
            + " generate_series FROM generate_series(1, 2)");
    q.put(
        "numbered_series",
        "SELECT p.parcel, s.x, s.n FROM parcel AS p, generate_series(p.grams, 8) WITH ORDINALITY AS s (x,"
            + " n) WHERE s.n < 4");
    q.put(
        "text_apart",
        "SELECT p.parcel, t.x FROM parcel AS p, string_to_table('a-' || p.gate || '-b', '-') AS t (x)");
    q.put(
        "json_apart",
        "SELECT p.parcel, e.x, e.n FROM parcel AS p, json_array_elements_text(CAST('[1, \"' || p.gate ||"
            + " '\", null]' AS JSON)) WITH ORDINALITY AS e (x, n)");
    q.put(
        "json_keys",
        "SELECT k, COUNT(*) AS n FROM parcel AS p, json_object_keys(CAST('{\"' || p.gate || '\": 1,"
            + " \"all\": 2}' AS JSON)) AS k GROUP BY k");
    q.put(
        "arrays_joined",
        "SELECT p.parcel, u.x FROM parcel AS p, UNNEST(p.weights || ARRAY[p.grams]) AS u (x)");
    q.put(
        "text_of_array",
        "SELECT parcel, array_to_string(marks, '+', '?') AS t, array_position(weights, grams) AS at,"
            + " array_length(weights || weights, 1) AS n FROM parcel");
    q.put("scan_elements", "SELECT s.parcel, w.x FROM scan AS s, UNNEST(s.weights) AS w (x)");
    q.put(
        "made_array",
        "SELECT p.parcel, u.x FROM parcel AS p, UNNEST(ARRAY[p.grams, 3, NULL]) AS u (x)");
    q.put("of_nothing_else", "SELECT u.x FROM UNNEST(ARRAY['b', 'abc', 'b']) AS u (x)");
    q.put(
        "places",
        "SELECT parcel, marks[1] AS first, weights[grams] AS at_grams, CARDINALITY(marks) AS n,"
            + " CARDINALITY(weights) + 1 AS m FROM parcel");
    q.put("any_text", "SELECT parcel FROM parcel WHERE 'G1' = ANY (marks)");
    q.put(
        "any_number",
        "SELECT parcel, grams = ANY (weights) AS found, 2 < ANY (weights) AS above FROM parcel");
    q.put(
        "all_numbers",
        "SELECT parcel, grams >= ALL (weights) AS most, grams <> ALL (weights) AS no FROM parcel");
    q.put("any_constant", "SELECT parcel FROM parcel WHERE grams = ANY (ARRAY[1, 3, 5])");
    q.put("any_none", "SELECT parcel, NOT gate = ANY (ARRAY['G1', NULL]) AS other FROM parcel");
    q.put(
        "collected",
        "SELECT gate, CARDINALITY(ARRAY_AGG(grams ORDER BY parcel)) AS n, (ARRAY_AGG(grams ORDER BY"
            + " parcel))[1] AS first FROM parcel GROUP BY gate");
    q.put(
        "exists_element",
        "SELECT parcel FROM parcel AS p WHERE EXISTS (SELECT 1 FROM UNNEST(p.marks) AS m (mark) WHERE"
            + " m.mark > p.gate)");
    q.put(
        "in_elements",
        "SELECT parcel, gate NOT IN (SELECT mark FROM UNNEST(p.marks) AS m (mark)) AS out FROM parcel AS"
            + " p");
    q.put(
        "sum_of_elements",
        "SELECT parcel, (SELECT SUM(x) FROM UNNEST(p.weights) AS w (x)) AS sum FROM parcel AS p");
    q.put(
        "lateral_first",
        "SELECT g.gate, p.parcel, p.grams FROM gate AS g, LATERAL (SELECT parcel, grams FROM parcel AS"
            + " p WHERE p.gate = g.gate ORDER BY p.grams DESC NULLS LAST, p.parcel LIMIT 2) AS p");
    q.put(
        "lateral_outer",
        "SELECT g.gate, p.parcel FROM gate AS g LEFT JOIN LATERAL (SELECT parcel FROM parcel AS p WHERE"
            + " p.gate = g.gate AND p.grams > g.capacity) AS p ON TRUE");
    q.put(
        "lateral_count",
        "SELECT g.gate, p.n, p.most FROM gate AS g, LATERAL (SELECT COUNT(*) AS n, MAX(grams) AS most"
            + " FROM parcel AS p WHERE p.gate = g.gate) AS p");
    q.put(
        "lateral_never",
        "(SELECT g.hall, p.most FROM gate AS g CROSS JOIN LATERAL (SELECT COUNT(*) AS n, MAX(grams) AS"
            + " most FROM parcel AS p WHERE p.gate = g.gate) AS p WHERE p.n IS NULL) UNION ALL (SELECT"
            + " g.hall, (SELECT MAX(p.grams) FROM parcel AS p WHERE p.gate <= g.gate) FROM gate AS g)");
    q.put(
        "lateral_computed",
        "SELECT g.gate, p.twice FROM gate AS g, LATERAL (SELECT g.capacity * 2 AS twice) AS p WHERE"
            + " p.twice > 4");
    q.put(
        "lateral_below",
        "SELECT g.gate, p.n FROM gate AS g CROSS JOIN LATERAL (SELECT hall, COUNT(*) AS n FROM parcel"
            + " AS p JOIN gate AS o ON p.gate = o.gate WHERE p.grams > g.capacity GROUP BY hall) AS p");
    return q;
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void everyViewEqualsPostgresAtEveryEpoch(long seed) throws Exception {
    new OracleRun(
            cluster,
            TABLES,
            "scan (parcel INTEGER, weights INTEGER ARRAY)",
            OracleRun.Query.all(queries()),
            ArrayOracleTest::changes)
        .run("arrays" + seed, seed);
  }

  private static List<String> changes(Random random) {
    List<String> statements = new ArrayList<>();
    for (int i = 0; i <= random.nextInt(4); i++) {
      int k = random.nextInt(20);
      String gate = "'G" + random.nextInt(6) + "'";
      switch (random.nextInt(7)) {
        case 0, 1, 2 -> {
          statements.add("DELETE FROM parcel WHERE parcel = " + k);
          statements.add(
              "INSERT INTO parcel VALUES (%d, %s, %s, %s, %s)"
                  .formatted(k, gate, number(random), array(random, true), array(random, false)));
        }
        case 3 -> {
          statements.add("DELETE FROM gate WHERE gate = " + gate);
          statements.add(
              "INSERT INTO gate VALUES (%s, 'h%d', %s)"
                  .formatted(gate, random.nextInt(3), number(random)));
        }
        case 4 ->
            statements.add("INSERT INTO scan VALUES (" + k + ", " + array(random, false) + ")");
        case 5 ->
            statements.add(
                "UPDATE parcel SET weights = ARRAY[grams, 2], grams = grams + 1 WHERE MOD(parcel, 5) = "
                    + random.nextInt(5));
        default -> statements.add("DELETE FROM parcel WHERE gate = " + gate);
      }
    }
    return statements;
  }

  private static String number(Random random) {
    return random.nextInt(6) == 0 ? "NULL" : "" + random.nextInt(9);
  }

  private static String array(Random random, boolean texts) {
    if (random.nextInt(5) == 0) {
      return "NULL";
    }
    List<String> values = new ArrayList<>();
    for (int i = 0; i <= random.nextInt(4); i++) {
      String value = texts ? "'G" + random.nextInt(8) + "'" : "" + random.nextInt(9);
      values.add(i > 0 && random.nextInt(5) == 0 ? "NULL" : value);
    }
    return "ARRAY[" + String.join(", ", values) + "]";
  }
}
