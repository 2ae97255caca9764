package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.PostgresCluster;
import dripledger.engine.error.EngineException;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.ResultSet;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.List;
import org.junit.jupiter.api.Test;

/** Words that PostgreSQL allows as names are names here too, without quotes. */
class NamesTest {
  @Test
  void wordsThatPostgresAllowsAreNames() throws Exception {
    List<String> words = new ArrayList<>();
    try (PostgresCluster cluster = PostgresCluster.temporary();
        Connection c =
            DriverManager.getConnection(
                cluster.jdbcUrl("postgres"), PostgresCluster.USER, "loopback");
        Statement s = c.createStatement();
        ResultSet r =
            s.executeQuery(
                "SELECT word FROM pg_get_keywords() WHERE catcode IN ('U', 'C') ORDER BY word")) {
      while (r.next()) {
        words.add(r.getString(1));
      }
    }
    words.addAll(
        List.of("one", "per", "rank", "row_number", "lead", "lag", "abs", "mod", "even", "open"));
    assertThat(words).hasSizeGreaterThan(350);
    List<String> refused = new ArrayList<>();
    try (TestEngine db = new TestEngine()) {
      for (String word : words) {
        try {
          db.run("CREATE TABLE " + word + " (" + word + " INTEGER PRIMARY KEY, k INTEGER)");
          db.run("INSERT INTO " + word + " VALUES (1, 2)");
          db.run("UPDATE " + word + " SET k = 3 WHERE " + word + " = 1");
          assertThat(db.rows("SELECT " + word + ", k AS " + word + " FROM " + word))
              .containsExactly("[1, 3]");
          assertThat(db.rows("SELECT t." + word + " FROM " + word + " AS t WHERE " + word + " > 0"))
              .containsExactly("[1]");
          assertThat(
                  db.rows(
                      "SELECT COUNT(*) AS n FROM " + word + " GROUP BY " + word + " ORDER BY n"))
              .containsExactly("[1]");
          db.run("DROP TABLE " + word);
        } catch (EngineException e) {
          refused.add(word + ": " + e.getMessage() + " " + e.line() + ":" + e.column());
        }
      }
    }
    assertThat(refused).isEmpty();
  }

  /** What is wrong is still said where it is, not where a word was tried as a name. */
  @Test
  void errorsKeepTheirPlace() {
    try (TestEngine db = new TestEngine()) {
      db.run("CREATE TABLE gate (gate VARCHAR PRIMARY KEY, interval INTEGER, row INTEGER)");
      for (String each :
          new String[] {
            "SELECT interval, row FROM gate WHERE interval >: ends too early@1:48",
            "SELECT row\nFROM gate ORDER a BY row: did not expect \"a\"@2:17",
            "DROP TABEL gate: did not expect \"DROP\"@1:1",
            "SELECT row FROM gate WHERE row = 1 1: did not expect \"1\"@1:36",
            "SELECT rows FROM gate: no column \"rows\"@1:8"
          }) {
        int says = each.lastIndexOf(": ");
        int at = each.lastIndexOf('@');
        EngineException e = db.error(each.substring(0, says));
        assertThat(e).hasMessageContaining(each.substring(says + 2, at));
        assertThat(e.line() + ":" + e.column()).as(each).isEqualTo(each.substring(at + 1));
      }
      db.run("CREATE VIEW row AS SELECT row AS values, interval FROM gate -- 'row\n WHERE row > 0");
      assertThat(db.rows("SELECT values FROM row")).isEmpty();
    }
  }

  /** Every beginning of a statement, with blanks behind it that an editor leaves there. */
  @Test
  void everyBeginningIsAnsweredOrRefusedWithItsPlace() {
    String sql =
        "WITH a AS (SELECT 'x' AS n, \"y\" * 2 FROM (VALUES (1)) AS t (\"y\"))\n"
            + "SELECT n, CASE WHEN n > 'w' THEN -1 END AS m FROM a WHERE n IN ('x', 'z') LIMIT 3";
    try (TestEngine db = new TestEngine()) {
      for (int cut = 0; cut <= sql.length(); cut++) {
        if (cut > 0 && cut < sql.length() && Character.isLetter(sql.charAt(cut))) {
          continue; // within a word
        }
        for (String behind : new String[] {"", " ", "   ", "\n", " \r\n\t", "\r", "-- x"}) {
          String text = sql.substring(0, cut) + behind;
          try {
            db.run(text);
          } catch (EngineException e) {
            assertThat(e.getMessage()).as(text).isNotBlank();
          } catch (RuntimeException e) {
            throw new AssertionError("after: " + text.replace("\r", "\\r") + "|", e);
          }
        }
      }
    }
  }
}
