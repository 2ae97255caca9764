package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.atomic.AtomicBoolean;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/**
 * Joins with views on the key of these, whose rows are looked up where they are, against
 * PostgreSQL: views that are groups, that are made of groups, and that keep rows of their own, of
 * keys that may be NULL, long, and in another order; also where both sides come from one input.
 */
class ViewLookUpOracleTest extends BesidePostgres {
  /** Joined with, by name; a key is said where that is another than the query's. */
  private static Map<String, String> views() {
    Map<String, String> v = new LinkedHashMap<>();
    v.put(
        "per_gate",
        "SELECT gate, COUNT(*) AS n, SUM(grams) AS grams, MIN(service) AS least FROM parcel GROUP BY"
            + " gate");
    v.put(
        "per_two",
        "SELECT COUNT(*) AS n, service, MAX(grams) AS grams, gate FROM parcel GROUP BY gate, service");
    v.put(
        "mean",
        "SELECT gate || '' AS label, 12 / SUM(grams) AS mean, gate FROM parcel WHERE grams > 0 GROUP BY"
            + " gate HAVING COUNT(*) > 1");
    v.put(
        "by_number",
        "SELECT MOD(parcel, 3) AS third, grams, COUNT(*) AS n FROM parcel GROUP BY grams, MOD(parcel,"
            + " 3)");
    v.put(
        "sum_of_scans",
        "SELECT gate, SUM(grams) + 1 AS large, COUNT(grams) AS n FROM scan GROUP BY gate");
    v.put(
        "halls_of_parcels",
        "SELECT p.parcel, g.hall, g.capacity FROM parcel AS p JOIN gate AS g ON p.gate = g.gate");
    v.put(
        "checked_gate", "SELECT hall || '!' AS hall, capacity, gate FROM gate WHERE capacity > 1");
    v.put(
        "first_scans",
        "SELECT parcel, MIN(grams) AS grams, MAX(gate) AS gate FROM scan GROUP BY parcel");
    return v;
  }

  private static Map<String, String> joins() {
    Map<String, String> q = new LinkedHashMap<>();
    q.put(
        "events_with_groups",
        "SELECT s.parcel, s.grams, g.n, g.least FROM scan AS s JOIN v_per_gate AS g ON g.gate ="
            + " s.gate");
    q.put(
        "what_they_are_made_of",
        "SELECT p.parcel, g.n, g.grams FROM parcel AS p LEFT JOIN v_per_gate AS g ON g.gate = p.gate");
    q.put(
        "on_the_left",
        "SELECT g.n, t.capacity, t.gate FROM v_per_gate AS g RIGHT JOIN gate AS t ON t.gate = g.gate");
    q.put(
        "two_columns",
        "SELECT p.parcel, t.n, t.grams FROM parcel AS p JOIN v_per_two AS t ON t.service = p.service"
            + " AND t.gate = p.gate");
    q.put(
        "two_the_other_way",
        "SELECT c.id, t.n FROM surcharge AS c LEFT JOIN v_per_two AS t ON c.area = t.gate AND c.service"
            + " = t.service");
    q.put(
        "made_of_groups",
        "SELECT t.gate, m.label, m.mean FROM gate AS t LEFT JOIN v_mean AS m ON m.gate = t.gate");
    q.put(
        "numbers_that_may_be_null",
        "SELECT c.id, b.n FROM surcharge AS c LEFT JOIN v_by_number AS b ON c.cents = b.grams AND"
            + " MOD(c.id, 3) = b.third");
    q.put(
        "numbers_grouped",
        "SELECT b.third, COUNT(*) AS c, SUM(b.n) AS n FROM scan AS s JOIN v_by_number AS b ON s.grams ="
            + " b.grams AND MOD(s.parcel, 3) = b.third GROUP BY b.third");
    q.put(
        "on_groups_of_events",
        "SELECT t.gate, s.n, s.large FROM gate AS t JOIN v_sum_of_scans AS s ON s.gate = t.gate");
    q.put(
        "a_view_of_a_join",
        "SELECT s.parcel, h.hall, h.capacity + 1 AS more FROM scan AS s LEFT JOIN v_halls_of_parcels AS"
            + " h ON h.parcel = s.parcel");
    q.put(
        "rows_of_one_table",
        "SELECT p.parcel, g.hall FROM parcel AS p JOIN v_checked_gate AS g ON g.gate = p.gate AND"
            + " g.capacity >= p.grams");
    q.put(
        "one_above_another",
        "SELECT p.parcel, g.n, m.mean, h.hall FROM parcel AS p JOIN v_per_gate AS g ON g.gate = p.gate"
            + " LEFT JOIN v_mean AS m ON m.gate = p.gate LEFT JOIN v_halls_of_parcels AS h ON h.parcel"
            + " = p.parcel");
    q.put(
        "with_itself",
        "SELECT a.gate, a.n, b.n AS other FROM v_per_gate AS a JOIN v_per_gate AS b ON a.least ="
            + " b.gate");
    q.put(
        "with_a_table_and_a_view",
        "SELECT s.parcel, t.hall, g.n FROM scan AS s LEFT JOIN gate AS t ON t.gate = s.gate LEFT JOIN"
            + " v_per_gate AS g ON g.gate = s.gate");
    q.put(
        "of_two_views",
        "SELECT f.parcel, f.grams, g.n FROM v_first_scans AS f JOIN v_per_gate AS g ON g.gate ="
            + " f.gate");
    q.put(
        "views_by_the_same_key",
        "SELECT f.parcel, f.gate, h.hall FROM v_first_scans AS f LEFT JOIN v_halls_of_parcels AS h ON"
            + " h.parcel = f.parcel");
    q.put(
        "by_an_index",
        "SELECT s.parcel, s.grams, g.gate FROM scan AS s JOIN v_per_gate AS g ON g.n = s.grams");
    q.put(
        "by_an_index_on_text",
        "SELECT t.gate, g.gate AS other, g.n FROM gate AS t LEFT JOIN v_per_gate AS g ON g.least ="
            + " t.hall");
    q.put(
        "by_an_index_on_what_is_made",
        "SELECT c.id, m.gate FROM surcharge AS c JOIN v_mean AS m ON m.mean = c.cents");
    q.put(
        "by_an_index_where_null_is_equal",
        "SELECT c.id, b.third, b.n FROM surcharge AS c LEFT JOIN v_by_number AS b ON b.grams IS NOT"
            + " DISTINCT FROM c.cents");
    q.put(
        "all_with_all",
        "SELECT t.gate, g.n FROM gate AS t CROSS JOIN v_per_two AS g WHERE g.n > 1");
    q.put(
        "in_a_condition",
        "SELECT parcel FROM parcel AS p WHERE grams > (SELECT n FROM v_per_gate AS g WHERE g.gate ="
            + " p.gate)");
    q.put(
        "queries_inside",
        "SELECT p.parcel, (SELECT COUNT(*) FROM scan AS s WHERE s.parcel = p.parcel) AS n, (SELECT"
            + " SUM(q.grams) FROM parcel AS q WHERE q.gate = p.gate) AS grams FROM parcel AS p");
    q.put(
        "first_of_each",
        "SELECT s.gate, g.n FROM scan AS s JOIN v_per_gate AS g ON g.gate = s.gate ORDER BY g.n DESC,"
            + " s.gate, s.parcel LIMIT 3");
    return q;
  }

  /** PostgreSQL's words: a view is a query in FROM. */
  private static String theirs(String sql) {
    String text = sql;
    for (Map.Entry<String, String> view : views().entrySet()) {
      text = text.replace("v_" + view.getKey() + " AS", "(" + view.getValue() + ") AS");
    }
    return text;
  }

  private static List<OracleRun.Query> queries() {
    List<OracleRun.Query> views = OracleRun.Query.all(views());
    List<OracleRun.Query> joins =
        joins().entrySet().stream()
            .map(q -> new OracleRun.Query(q.getKey(), q.getValue(), theirs(q.getValue())))
            .toList();
    List<OracleRun.Query> all = new ArrayList<>();
    for (int i = 0; i < joins.size(); i++) {
      if (i < views.size()) {
        all.add(views.get(i)); // the first, third and so on are made first
      }
      all.add(joins.get(i));
    }
    return all;
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void everyViewEqualsPostgresAtEveryEpoch(long seed) throws Exception {
    new OracleRun(
            cluster,
            JoinOracleTest.TABLES,
            "scan (parcel INTEGER, gate VARCHAR, grams INTEGER)",
            queries(),
            JoinOracleTest::changes)
        .run("lookups" + seed, seed);
  }

  /** Of each relation that is looked up in, EXPLAIN says so, and nothing of it is kept. */
  @Test
  void nothingIsKeptOfWhatIsLookedUp() {
    try (TestEngine db = new TestEngine()) {
      db.run(JoinOracleTest.TABLES);
      db.run("CREATE STREAM scan (parcel INTEGER, gate VARCHAR, grams INTEGER)");
      views().forEach((name, sql) -> db.run("CREATE MATERIALIZED VIEW v_" + name + " AS " + sql));
      joins().forEach((name, sql) -> db.run("CREATE MATERIALIZED VIEW j_" + name + " AS " + sql));
      db.run(
          "INSERT INTO parcel SELECT i, 'G' || i, 's', i % 9 FROM generate_series(1, 20000) AS t (i)");
      assertThat(explained(db, "events_with_groups")).contains("look up in v_per_gate by its key");
      assertThat(explained(db, "two_the_other_way")).contains("look up in v_per_two by its key");
      assertThat(explained(db, "made_of_groups")).contains("look up in v_mean by its key");
      assertThat(explained(db, "a_view_of_a_join"))
          .contains("look up in v_halls_of_parcels by its");
      assertThat(db.state("j_events_with_groups").keys()).isZero();
      assertThat(db.state("j_events_with_groups").bytes()).isLessThan(100_000);
      assertThat(
              db.rows(
                  "EXPLAIN SELECT g.n FROM parcel AS p JOIN v_per_gate AS g ON g.gate = p.gate"))
          .anyMatch(line -> line.contains("by key gate, as the other side asks"));
    }
  }

  private static String explained(TestEngine db, String join) {
    return String.join("\n", db.rows("EXPLAIN j_" + join));
  }

  /** A row that the view cannot compute is none, and meets nobody until it can be computed. */
  @Test
  void aRowThatFailsMeetsNobody() {
    try (TestEngine db = new TestEngine()) {
      db.run(JoinOracleTest.TABLES);
      db.run(
          "CREATE MATERIALIZED VIEW part AS SELECT gate, 100 / (SUM(grams) - 5) AS part FROM parcel GROUP"
              + " BY gate;"
              + "CREATE MATERIALIZED VIEW joined AS SELECT g.gate, p.part FROM gate AS g LEFT JOIN part AS"
              + " p ON p.gate = g.gate;"
              + "INSERT INTO gate VALUES ('G1', 'h', 1);"
              + "INSERT INTO parcel VALUES (1, 'G1', 's', 5)");
      assertThat(db.rows("SELECT * FROM joined")).containsExactly("[G1, null]");
      assertThat(db.state("part").rejects()).isOne();
      db.run("INSERT INTO parcel VALUES (2, 'G1', 's', 20)");
      assertThat(db.rows("SELECT * FROM joined")).containsExactly("[G1, 5]");
      db.run("UPDATE parcel SET grams = 0 WHERE parcel = 2");
      assertThat(db.rows("SELECT * FROM joined")).containsExactly("[G1, null]");
      db.run("DELETE FROM parcel WHERE parcel = 1; UPDATE gate SET hall = 'i'");
      assertThat(db.rows("SELECT * FROM joined")).containsExactly("[G1, -20]");
    }
  }

  /** A view is filled while those it looks rows up in change, and goes on as they do. */
  @Test
  void viewsChangeWhileAnotherIsFilled() {
    try (TestEngine db = new TestEngine()) {
      db.run(JoinOracleTest.TABLES);
      db.run(
          "INSERT INTO parcel SELECT i, 'G' || i % 500, 's' || i % 3, i % 9 FROM generate_series(1,"
              + " 40000) AS t (i);"
              + "CREATE MATERIALIZED VIEW v_per_gate AS "
              + views().get("per_gate")
              + ";CREATE MATERIALIZED VIEW v_mean AS "
              + views().get("mean"));
      AtomicBoolean stop = new AtomicBoolean();
      CompletableFuture<Integer> changes =
          CompletableFuture.supplyAsync(
              () -> {
                int count = 0;
                for (; !stop.get(); count++) {
                  db.run(
                      "UPDATE parcel SET grams = grams + 1, gate = 'G' || (parcel + %d) %% 510 WHERE parcel"
                              .formatted(count)
                          + " % 501 = "
                          + count % 501);
                }
                return count;
              });
      String query =
          "SELECT p.parcel, g.n, m.mean FROM parcel AS p JOIN v_per_gate AS g ON g.gate = p.gate LEFT JOIN"
              + " v_mean AS m ON m.gate = p.gate";
      for (int i = 0; i < 3; i++) {
        db.run("CREATE MATERIALIZED VIEW x" + i + " AS " + query);
      }
      stop.set(true);
      assertThat(changes.join()).isPositive();
      String plain =
          "SELECT p.parcel, g.n, m.mean FROM parcel AS p JOIN (SELECT gate, COUNT(*) AS n FROM parcel GROUP"
              + " BY gate) AS g ON g.gate = p.gate LEFT JOIN (%s) AS m ON m.gate = p.gate ORDER BY parcel"
                  .formatted(views().get("mean"));
      List<String> expected = db.rows(plain);
      for (int i = 0; i < 3; i++) {
        assertThat(db.rows("SELECT * FROM x" + i + " ORDER BY parcel")).isEqualTo(expected);
      }
    }
  }
}
