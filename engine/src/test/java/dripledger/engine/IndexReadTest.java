package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;

/**
 * Conditions on a key and an order along it are reads of an index: they answer what a scan answers,
 * and touch fewer rows. A column that divides by a number no row asked for has tells which were
 * touched.
 */
class IndexReadTest {
  private final TestEngine db = new TestEngine();

  @BeforeEach
  void rows() {
    db.run(
        "CREATE TABLE t (hall VARCHAR NOT NULL, gate INTEGER NOT NULL, at TIMESTAMP NOT NULL,"
            + " n INTEGER, PRIMARY KEY (hall, gate, at))");
    StringBuilder insert = new StringBuilder("INSERT INTO t VALUES ");
    for (int i = 0; i < 600; i++) {
      insert
          .append(i == 0 ? "" : ", ")
          .append(
              "('%s', %d, '2026-03-02 0%d:00:00', %s)"
                  .formatted(
                      new String[] {"North", "Northeast", "South"}[i % 3],
                      i / 3 % 40 - 5,
                      i / 120,
                      i % 7 == 0 ? "NULL" : String.valueOf(i % 50)));
    }
    db.run(insert.toString());
    db.run("CREATE MATERIALIZED VIEW g AS SELECT gate, COUNT(*) AS n FROM t GROUP BY gate");
  }

  @AfterEach
  void close() {
    db.close();
  }

  private static final String[] CONDITIONS = {
    "hall = 'North'",
    "hall = 'North' AND gate = 3",
    "hall = 'North' AND gate = 3 AND at = TIMESTAMP '2026-03-02 02:00:00'",
    "hall IN ('South', 'North') AND gate IN (1, 2, 99)",
    "hall = 'South' AND gate > 20",
    "hall = 'South' AND gate >= 20 AND gate < 25",
    "hall = 'South' AND 20 <= gate AND 25 > gate",
    "hall = 'South' AND gate BETWEEN -3 AND 4 AND n IS NULL",
    "hall LIKE 'North%'",
    "hall LIKE 'Northe%' AND gate = 7",
    "hall LIKE '%st' AND gate = 7",
    "hall > 'North' AND hall < 'South'",
    "hall >= 'North' AND hall <= 'Northeast' AND n = 3",
    "gate = 7",
    "hall = 'North' OR gate = 7",
    "hall = 'North' AND gate = 3 AND at > TIMESTAMP '2026-03-02 01:00:00'",
    "hall = 'North' AND gate = NULL",
    "hall = 'North' AND gate = 100000",
    "hall = 'North' AND hall = 'South'",
    "hall = 'No' || 'rth' AND gate = 10 - 3 AND n = 2 * 9",
    "hall = 'South' AND gate = 3 AND at >= TIMESTAMP '2026-03-02 00:00:00' + INTERVAL '1 hour'",
  };

  @Test
  void conditionsOnAKeyAnswerWhatAScanAnswers() {
    for (String condition : CONDITIONS) {
      String scan =
          "SELECT hall, gate, at, n FROM t WHERE CASE WHEN "
              + condition
              + " THEN TRUE ELSE FALSE END ORDER BY hall, gate, at, n";
      String byKey = "SELECT hall, gate, at, n FROM t WHERE " + condition;
      List<String> expected = db.rows(scan);
      for (int round = 0; round < 3; round++) { // the order is made when asked for again
        assertThat(db.rows(byKey + " ORDER BY hall, gate, at, n"))
            .as(condition)
            .isEqualTo(expected);
        assertThat(db.rows(byKey)).as(condition).containsExactlyInAnyOrderElementsOf(expected);
        assertThat(db.value("SELECT COUNT(*) FROM t WHERE " + condition))
            .isEqualTo((long) expected.size());
      }
    }
  }

  @Test
  void anIndexReadTouchesNothingElse() {
    String[] queries = {
      "SELECT 1 / (gate - 7) FROM t WHERE hall = 'North' AND gate = 3",
      "SELECT 1 / (gate - 7) FROM t WHERE hall = 'North' AND gate IN (3, 4)",
      "SELECT 1 / (gate - 7) FROM t WHERE hall = 'North' AND gate > 7",
      "SELECT 1 / (gate - 7) FROM t WHERE hall = INITCAP('north') AND gate = 1 + 2",
      "SELECT 1 / (gate - 7) FROM t WHERE hall LIKE 'North%' ORDER BY hall, gate LIMIT 3",
      "SELECT 1 / (gate + 5) FROM t ORDER BY hall DESC, gate DESC LIMIT 3",
      "SELECT 1 / (gate - 34) AS q FROM t ORDER BY hall, gate, at LIMIT 3",
    };
    db.rows("SELECT COUNT(*) FROM t WHERE hall = 'x'");
    for (String query : queries) {
      db.run(query);
      assertThat(db.rows(query)).as(query).isNotEmpty();
    }
  }

  @Test
  void ordersAlongAKeyEqualSorting() {
    String[][] orders = {
      {"hall, gate, at", "hall || '', gate + 0, at"},
      {"hall DESC, gate DESC, at DESC", "hall || '' DESC, gate + 0 DESC, at DESC"},
      {"hall", "hall || ''"},
      {"hall DESC, gate", "hall || '' DESC, gate + 0"},
    };
    for (String[] order : orders) {
      for (String limit : new String[] {"", " LIMIT 7", " LIMIT 5 OFFSET 100", " OFFSET 590"}) {
        List<String> expected = db.rows("SELECT hall FROM t ORDER BY " + order[1] + limit);
        for (int round = 0; round < 2; round++) {
          assertThat(db.rows("SELECT hall FROM t ORDER BY " + order[0] + limit))
              .as(order[0] + limit)
              .isEqualTo(expected);
        }
      }
    }
    assertThat(db.rows("SELECT gate, n FROM g ORDER BY gate LIMIT 2"))
        .containsExactly("[-5, 15]", "[-4, 15]");
    assertThat(db.rows("SELECT gate, n FROM g ORDER BY gate DESC LIMIT 1"))
        .containsExactly("[34, 15]");
    assertThat(db.rows("SELECT gate FROM g WHERE gate > 32 ORDER BY gate DESC"))
        .containsExactly("[34]", "[33]");
  }

  @Test
  void nullsStandWhereTheyAreAskedFor() {
    db.run("CREATE TABLE u (k INTEGER PRIMARY KEY, s VARCHAR, d DOUBLE)");
    db.run(
        "INSERT INTO u VALUES (1, 'b', 1.5), (2, NULL, -0.5), (3, 'a', NULL), (4, '', 0.0),"
            + " (5, 'ä', -2), (6, 'b', 100)");
    assertThat(db.rows("SELECT k FROM u ORDER BY s, k"))
        .containsExactly("[4]", "[3]", "[1]", "[6]", "[5]", "[2]");
    assertThat(db.rows("SELECT k FROM u ORDER BY s DESC, k DESC"))
        .containsExactly("[2]", "[5]", "[6]", "[1]", "[3]", "[4]");
    assertThat(db.rows("SELECT k FROM u ORDER BY s NULLS FIRST, k LIMIT 2"))
        .containsExactly("[2]", "[4]");
    assertThat(db.rows("SELECT k FROM u ORDER BY s DESC NULLS LAST, k LIMIT 2"))
        .containsExactly("[5]", "[1]");
    assertThat(db.rows("SELECT k FROM u ORDER BY d, k"))
        .containsExactly("[5]", "[2]", "[4]", "[1]", "[6]", "[3]");
    assertThat(db.rows("SELECT k FROM u ORDER BY d DESC NULLS LAST"))
        .containsExactly("[6]", "[1]", "[4]", "[2]", "[5]", "[3]");
  }

  @Test
  void countsAreReadOff() {
    assertThat(db.value("SELECT COUNT(*) FROM t")).isEqualTo(600L);
    assertThat(db.rows("SELECT COUNT(*) AS a, COUNT(*) + 1 AS b FROM t"))
        .containsExactly("[600, 601]");
    assertThat(db.value("SELECT COUNT(*) FROM (SELECT gate FROM t) s")).isEqualTo(600L);
    assertThat(db.value("SELECT COUNT(*) FROM (SELECT gate FROM t WHERE gate > 30) s"))
        .isEqualTo(60L);
    db.run("DELETE FROM t WHERE gate = 7");
    assertThat(db.value("SELECT COUNT(*) FROM t")).isEqualTo(585L);
    assertThat(db.value("SELECT COUNT(n) FROM t")).isNotEqualTo(585L);
  }

  /**
   * A group whose sum does not fit its type has no row; it has its place in the order all the same.
   */
  @Test
  void aGroupThatGetsItsRowLateStandsInTheOrder() {
    db.run("CREATE TABLE s (id INTEGER PRIMARY KEY, k INTEGER NOT NULL, v DECIMAL(38, 0))");
    db.run("INSERT INTO s VALUES (1, 1, 1), (2, 3, 1)");
    db.run("CREATE MATERIALIZED VIEW sums AS SELECT k, SUM(v) AS v FROM s GROUP BY k");
    String ordered = "SELECT k FROM sums WHERE k >= 1 ORDER BY k";
    for (int i = 0; i < 3; i++) {
      assertThat(db.rows(ordered)).containsExactly("[1]", "[3]");
    }
    String large = "9" + "0".repeat(37); // two of them have too many digits
    db.run("INSERT INTO s VALUES (4, 2, " + large + "), (5, 2, " + large + ")");
    assertThat(db.state("sums").rejects()).isEqualTo(1);
    assertThat(db.rows(ordered)).containsExactly("[1]", "[3]");
    db.run("DELETE FROM s WHERE id = 4");
    assertThat(db.rows(ordered)).containsExactly("[1]", "[2]", "[3]");
  }

  /** Random rows that come and go; the order that is kept up to date says what sorting says. */
  @Test
  void theOrderIsRightWhileRowsComeAndGo() {
    Random random = new Random(5);
    List<Integer> there = new ArrayList<>();
    db.run("CREATE TABLE r (k INTEGER PRIMARY KEY, s VARCHAR)");
    for (int i = 0; i < 150; i++) {
      int k = random.nextInt(500);
      if (there.contains(k)) {
        db.run("DELETE FROM r WHERE k = " + k);
        there.remove((Integer) k);
      } else {
        db.run("INSERT INTO r VALUES (" + k + ", 'x" + k + "')");
        there.add(k);
      }
      int from = random.nextInt(500);
      List<String> expected =
          there.stream().filter(e -> e >= from).sorted().map(e -> "[" + e + "]").toList();
      assertThat(db.rows("SELECT k FROM r WHERE k >= " + from + " ORDER BY k")).isEqualTo(expected);
    }
  }
}
