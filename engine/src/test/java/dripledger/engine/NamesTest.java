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
import java.util.Set;
import org.junit.jupiter.api.Test;

/** Words that PostgreSQL allows as names are names here too, without quotes. */
class NamesTest {
  /** Those that mean something else where a name may stand, and need quotes: docs/language.md. */
  private static final Set<String> QUOTED =
      Set.of(
          ("alter begin between bigint bit boolean by call char character cube "
                  + "decimal delete double drop exists explain extract float insert int "
                  + "integer interval merge nchar new next numeric overlay position precision "
                  + "real rollup row set skip smallint substring trim uescape unknown update "
                  + "values varchar")
              .split(" "));

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
          refused.add(word);
        }
      }
    }
    assertThat(refused).containsExactlyInAnyOrderElementsOf(QUOTED);
  }

  @Test
  void theOthersAreNamesInQuotes() {
    try (TestEngine db = new TestEngine()) {
      for (String word : QUOTED) {
        String name = '"' + word + '"';
        db.run(
            "CREATE TABLE "
                + name
                + " ("
                + name
                + " INTEGER PRIMARY KEY); INSERT INTO "
                + name
                + " VALUES (7)");
        assertThat(db.rows("SELECT t." + name + " FROM " + name + " AS t")).containsExactly("[7]");
      }
    }
  }
}
