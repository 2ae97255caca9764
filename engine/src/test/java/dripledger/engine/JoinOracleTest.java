package dripledger.engine;

import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/**
 * Queries over several relations, against PostgreSQL: after every epoch of seeded random changes to
 * all of them, with checkpoints and crashes in between, every view equals what PostgreSQL answers,
 * and so does the query asked once. Values are few, so that rows meet, and often NULL.
 */
class JoinOracleTest extends BesidePostgres {
  static final String TABLES =
      """
      CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate VARCHAR, service VARCHAR, grams INTEGER);
      CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, capacity INTEGER);
      CREATE TABLE surcharge (service VARCHAR, area VARCHAR, cents BIGINT, id INTEGER PRIMARY KEY)
      """;

  private static Map<String, String> queries() {
    Map<String, String> q = new LinkedHashMap<>();
    q.put(
        "inner_join",
        "SELECT p.parcel, p.grams, g.hall FROM parcel AS p JOIN gate AS g ON p.gate = g.gate");
    q.put(
        "left_join",
        "SELECT p.parcel, g.hall, g.capacity FROM parcel AS p LEFT JOIN gate AS g ON p.gate = g.gate");
    q.put(
        "right_join",
        "SELECT p.parcel, g.gate FROM parcel AS p RIGHT JOIN gate AS g ON p.gate = g.gate");
    q.put(
        "full_join",
        "SELECT p.parcel, s.id, s.cents FROM parcel AS p FULL JOIN surcharge AS s ON p.service ="
            + " s.service");
    q.put(
        "cross_join",
        "SELECT g.gate, s.id FROM gate AS g CROSS JOIN surcharge AS s WHERE s.cents > 5");
    q.put(
        "condition",
        "SELECT p.parcel, g.gate FROM parcel AS p LEFT JOIN gate AS g ON p.gate = g.gate AND p.grams >"
            + " g.capacity");
    q.put(
        "no_equality",
        "SELECT p.parcel, g.gate FROM parcel AS p JOIN gate AS g ON p.grams < g.capacity");
    q.put(
        "null_is_null",
        "SELECT p.parcel, s.id FROM parcel AS p JOIN surcharge AS s ON p.service IS NOT DISTINCT FROM"
            + " s.service");
    q.put(
        "two_keys",
        "SELECT a.id, b.id AS other FROM surcharge AS a JOIN surcharge AS b ON a.service = b.service"
            + " AND a.area = b.area AND a.id < b.id");
    q.put(
        "other_types",
        "SELECT p.parcel, s.id FROM parcel AS p JOIN surcharge AS s ON p.grams = s.cents");
    q.put(
        "three",
        "SELECT p.parcel, g.hall, s.cents FROM parcel AS p JOIN gate AS g ON p.gate = g.gate LEFT JOIN"
            + " surcharge AS s ON p.service = s.service AND s.area = g.hall");
    q.put("using_columns", "SELECT gate, hall, grams FROM parcel JOIN gate USING (gate)");
    q.put("natural_join", "SELECT gate, parcel, capacity FROM parcel NATURAL JOIN gate");
    q.put(
        "grouped_join",
        "SELECT g.hall, COUNT(*) AS n, SUM(p.grams) AS grams, MAX(p.parcel) AS last FROM parcel AS p"
            + " JOIN gate AS g ON p.gate = g.gate GROUP BY g.hall");
    q.put(
        "join_of_groups",
        "SELECT a.gate, a.n, b.hall FROM (SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate) AS a"
            + " LEFT JOIN gate AS b ON a.gate = b.gate");
    q.put(
        "two_groups",
        "SELECT a.n, COUNT(*) AS c FROM (SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate) AS a"
            + " JOIN (SELECT service, COUNT(*) AS n FROM surcharge GROUP BY service) AS b ON a.n = b.n"
            + " GROUP BY a.n");
    q.put(
        "full_join_of_groups",
        "SELECT a.gate, a.n, b.gate AS other, b.grams FROM (SELECT gate, COUNT(*) AS n FROM parcel"
            + " GROUP BY gate) AS a FULL JOIN (SELECT gate, SUM(grams) AS grams FROM scan GROUP BY gate)"
            + " AS b ON a.gate = b.gate");
    q.put(
        "full_join_of_single_rows",
        "SELECT a.n, b.n AS other FROM (SELECT COUNT(*) AS n FROM parcel) AS a FULL JOIN (SELECT"
            + " COUNT(*) AS n FROM scan) AS b ON a.n = b.n");
    q.put(
        "in_query",
        "SELECT parcel FROM parcel WHERE gate IN (SELECT gate FROM gate WHERE capacity > 3)");
    q.put(
        "not_in_query",
        "SELECT parcel FROM parcel WHERE service NOT IN (SELECT service FROM surcharge WHERE cents >"
            + " 6)");
    q.put(
        "exists_query",
        "SELECT gate FROM gate AS g WHERE EXISTS (SELECT 1 FROM parcel AS p WHERE p.gate = g.gate AND"
            + " p.grams > g.capacity)");
    q.put(
        "not_exists",
        "SELECT gate, hall FROM gate AS g WHERE NOT EXISTS (SELECT 1 FROM parcel AS p WHERE p.gate ="
            + " g.gate)");
    q.put(
        "exists_or",
        "SELECT gate FROM gate AS g WHERE capacity > 7 OR EXISTS (SELECT 1 FROM parcel AS p WHERE"
            + " p.gate = g.gate)");
    q.put(
        "exists_as_column",
        "SELECT gate, EXISTS (SELECT 1 FROM parcel AS p WHERE p.gate = g.gate) AS used FROM gate AS g");
    q.put(
        "in_as_column",
        "SELECT id, service IN (SELECT service FROM parcel) AS known FROM surcharge");
    q.put(
        "scalar_query",
        "SELECT parcel, grams - (SELECT MIN(grams) FROM parcel) AS above FROM parcel");
    q.put(
        "scalar_in_where",
        "SELECT parcel FROM parcel WHERE grams > (SELECT AVG(grams) FROM parcel)");
    q.put(
        "correlated_scalar",
        "SELECT g.gate, (SELECT SUM(p.grams) FROM parcel AS p WHERE p.gate = g.gate) AS grams FROM gate"
            + " AS g");
    q.put(
        "correlated_count",
        "SELECT g.gate, (SELECT COUNT(*) FROM parcel AS p WHERE p.gate = g.gate) AS n FROM gate AS g");
    q.put(
        "constant_of_a_grouping_beside_a_correlated_query",
        "(SELECT gate, COUNT(*) AS n FROM parcel AS p WHERE grams = (SELECT MAX(q.grams) FROM parcel"
            + " AS q WHERE q.gate <= p.gate) GROUP BY gate) UNION ALL (SELECT i.hall, AVG(i.one) FROM"
            + " (SELECT hall, 1 AS one FROM gate) AS i WHERE i.hall <> '' GROUP BY ROLLUP (i.hall,"
            + " i.one))");
    q.put(
        "condition_that_is_never_true",
        "SELECT a.gate, b.gate AS other FROM gate AS a LEFT JOIN gate AS b ON a.hall = b.hall AND CASE"
            + " WHEN b.gate IS DISTINCT FROM b.gate THEN a.hall END BETWEEN CASE WHEN a.gate >= b.gate"
            + " THEN a.gate ELSE b.gate END AND 'a'");
    q.put(
        "list_on_the_outer_side",
        "SELECT g.gate, p.parcel FROM gate AS g LEFT JOIN parcel AS p ON g.gate = p.gate AND p.parcel IN"
            + " (2, 5, 9) WHERE CHAR_LENGTH(p.service) IS DISTINCT FROM p.grams");
    q.put(
        "alternatives_with_a_common_key",
        "SELECT p.parcel, g.hall FROM parcel AS p, gate AS g WHERE (p.gate = g.gate AND p.grams > 3) OR"
            + " (p.gate = g.gate AND g.capacity < 4 AND p.service = 's1')");
    q.put("any_query", "SELECT parcel FROM parcel WHERE grams = ANY (SELECT capacity FROM gate)");
    q.put("all_query", "SELECT parcel FROM parcel WHERE grams >= ALL (SELECT capacity FROM gate)");
    q.put(
        "having_query",
        "SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate HAVING COUNT(*) > (SELECT COUNT(*) FROM"
            + " gate) / 2");
    q.put(
        "twice_with",
        "WITH t AS (SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate) SELECT a.gate, b.gate AS"
            + " other FROM t AS a JOIN t AS b ON a.n = b.n AND a.gate < b.gate");
    q.put(
        "events_join",
        "SELECT s.parcel, s.grams, p.service, g.hall FROM scan AS s JOIN parcel AS p ON s.parcel ="
            + " p.parcel LEFT JOIN gate AS g ON s.gate = g.gate");
    q.put(
        "failing_condition",
        "SELECT p.parcel, g.gate FROM parcel AS p JOIN gate AS g ON p.gate = g.gate AND 100 /"
            + " NULLIF(g.capacity, 0) > 15");
    q.put(
        "intersected",
        "SELECT gate FROM parcel INTERSECT SELECT gate FROM gate WHERE capacity > 2");
    q.put(
        "intersected_all",
        "SELECT service FROM parcel INTERSECT ALL SELECT service FROM surcharge");
    q.put(
        "excepted", "SELECT service, gate FROM parcel EXCEPT SELECT service, area FROM surcharge");
    // Where the service is NULL, too, an aggregate has its row.
    q.put(
        "counts_behind_a_join",
        "SELECT p.parcel, c.n FROM gate AS g RIGHT JOIN parcel AS p ON g.gate = p.service CROSS JOIN"
            + " LATERAL (SELECT COUNT(*) AS n, MAX(cents) AS m FROM surcharge AS s WHERE s.service ="
            + " p.service) AS c WHERE c.m NOT IN (SELECT capacity FROM gate WHERE gate = 'G9')");
    q.put(
        "count_and_one",
        "SELECT p.parcel, (SELECT COUNT(*) + 1 FROM surcharge AS s WHERE s.service = p.service) AS n,"
            + " (SELECT MAX(cents) FROM surcharge AS s WHERE s.service = p.service) AS m, (SELECT"
            + " COUNT(*) + 2 FROM gate AS g WHERE g.hall = p.service) AS h FROM parcel AS p LEFT JOIN"
            + " gate AS g ON p.service = g.gate");
    q.put(
        "one_row_by_chance",
        "SELECT p.parcel, (SELECT cents FROM surcharge AS s WHERE s.service = p.service AND s.id ="
            + " p.grams) AS c, (SELECT hall FROM gate AS g WHERE g.gate = p.gate AND g.capacity > 2) || 'x'"
            + " AS h FROM parcel AS p WHERE (SELECT s.id FROM surcharge AS s WHERE s.id + 1 = p.grams) IS"
            + " NOT NULL OR p.grams > 2");
    q.put(
        "ordered_by_expressions",
        "SELECT gate, STRING_AGG(service || 'x', ',' ORDER BY service || 'x', parcel + 1 DESC) AS s,"
            + " STRING_AGG(service, ',' ORDER BY DATE '2026-03-02' - grams * INTERVAL '1 day', DATE"
            + " '2026-03-02' + parcel) AS t FROM parcel GROUP BY gate");
    q.put("excepted_all", "SELECT service FROM parcel EXCEPT ALL SELECT service FROM surcharge");
    q.put(
        "mixed_types",
        "SELECT grams FROM parcel EXCEPT SELECT cents FROM surcharge INTERSECT SELECT capacity FROM"
            + " gate");
    q.put(
        "lost",
        "SELECT parcel FROM parcel EXCEPT SELECT parcel FROM scan UNION SELECT MAX(grams) FROM scan");
    return q;
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void everyViewEqualsPostgresAtEveryEpoch(long seed) throws Exception {
    new OracleRun(
            cluster,
            TABLES,
            "scan (parcel INTEGER, gate VARCHAR, grams INTEGER)",
            OracleRun.Query.all(queries()),
            JoinOracleTest::changes)
        .run("joins" + seed, seed);
  }

  /** One epoch's changes. */
  static List<String> changes(Random random) {
    List<String> statements = new ArrayList<>();
    for (int i = 0; i <= random.nextInt(5); i++) {
      int k = random.nextInt(24);
      String gate = "G" + random.nextInt(7);
      switch (random.nextInt(10)) {
        case 0, 1, 2 -> {
          statements.add("DELETE FROM parcel WHERE parcel = " + k);
          statements.add(
              "INSERT INTO parcel VALUES ("
                  + k
                  + ", "
                  + text(random, "G", 7)
                  + ", "
                  + text(random, "s", 4)
                  + ", "
                  + number(random)
                  + ")");
        }
        case 3, 4 -> {
          statements.add("DELETE FROM gate WHERE gate = '" + gate + "'");
          String rest = text(random, "h", 3) + ", " + number(random) + ")";
          statements.add("INSERT INTO gate VALUES ('" + gate + "', " + rest);
        }
        case 5, 6 -> {
          statements.add("DELETE FROM surcharge WHERE id = " + k);
          String row = text(random, "s", 4) + ", " + text(random, "h", 3) + ", " + number(random);
          statements.add("INSERT INTO surcharge VALUES (" + row + ", " + k + ")");
        }
        case 7 ->
            statements.add(
                "INSERT INTO scan VALUES ("
                    + k
                    + ", "
                    + text(random, "G", 7)
                    + ", "
                    + number(random)
                    + ")");
        case 8 ->
            statements.add(
                "UPDATE parcel SET gate = '"
                    + gate
                    + "', grams = grams + 1 WHERE MOD(parcel, 4) = "
                    + random.nextInt(4));
        default ->
            statements.add(
                random.nextInt(6) == 0
                    ? "DELETE FROM " + List.of("gate", "parcel", "surcharge").get(random.nextInt(3))
                    : "DELETE FROM gate WHERE capacity = " + random.nextInt(9));
      }
    }
    return statements;
  }

  private static String text(Random random, String prefix, int values) {
    String longer = random.nextInt(4) == 0 ? " with a name that is too long to be kept inline" : "";
    return random.nextInt(6) == 0 ? "NULL" : "'" + prefix + random.nextInt(values) + longer + "'";
  }

  private static String number(Random random) {
    return random.nextInt(6) == 0 ? "NULL" : "" + random.nextInt(10);
  }
}
