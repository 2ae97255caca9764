package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.access.AccessStore;
import dripledger.engine.access.Caller;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.query.Result;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.CsvSource;

/** What roles may do, statement by statement. */
class AccessTest {
  private final TestEngine db = new TestEngine();
  private Caller dispatch;

  @BeforeEach
  void make() {
    db.run("CREATE STREAM scan (parcel BIGINT, gate VARCHAR)");
    db.run("CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR)");
    db.run("CREATE TABLE wage (who VARCHAR PRIMARY KEY, cents INTEGER)");
    db.run("INSERT INTO gate VALUES ('G01', 'North'), ('G02', 'South')");
    db.run("INSERT INTO wage VALUES ('a', 5)");
    db.run("CREATE VIEW hall AS SELECT DISTINCT hall FROM gate");
    db.run(
        "CREATE MATERIALIZED VIEW gate_load AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
    db.run("CREATE ENDPOINT in_hall (hall VARCHAR) AS SELECT gate FROM gate WHERE hall = :hall");
    db.run("CREATE ROLE dispatch OPTIONS (max_rows 3, statement_timeout '5 seconds')");
    db.run("GRANT SELECT ON gate_load, hall, in_hall TO dispatch");
    dispatch = db.engine.access().caller("dispatch", "a test");
  }

  @AfterEach
  void close() {
    db.close();
  }

  private String as(Caller caller, String script) {
    List<Result> results = new ArrayList<>();
    db.engine.execute(script, Map.of(), null, caller, results::add);
    Result last = results.get(results.size() - 1);
    return last instanceof Result.Rows rows
        ? rows.rows().stream().map(Arrays::toString).reduce("", String::concat)
        : ((Result.Done) last).message();
  }

  private String dispatch(String script) {
    return as(dispatch, script);
  }

  private String owner(String script) {
    return as(db.engine.access().owner(), script);
  }

  private EngineException refused(Caller caller, String script) {
    EngineException[] refused = new EngineException[1];
    assertThatThrownBy(() -> as(caller, script))
        .isInstanceOfSatisfying(EngineException.class, e -> refused[0] = e);
    assertThat(refused[0].code()).as("%s: %s", script, refused[0]).isEqualTo(Code.FORBIDDEN);
    return refused[0];
  }

  @Test
  void whatIsGrantedCanBeReadThoughWhatItReadsCannot() {
    db.run("INSERT INTO scan VALUES (1, 'G01'), (2, 'G01')");
    assertThat(dispatch("SELECT gate, n FROM gate_load")).isEqualTo("[G01, 2]");
    assertThat(dispatch("SELECT hall FROM hall ORDER BY hall")).isEqualTo("[North][South]");
    assertThat(dispatch("SELECT h.hall FROM hall h WHERE EXISTS (SELECT 1 FROM gate_load) LIMIT 1"))
        .isNotEmpty();
    assertThat(dispatch("SHOW VIEWS")).contains("gate_load").contains("hall");
    assertThat(dispatch("SHOW TABLES")).isEmpty();
    assertThat(dispatch("SHOW ENDPOINTS")).contains("in_hall");
    assertThat(dispatch("DESCRIBE gate_load")).contains("gate").contains("n");
    assertThat(dispatch("SHOW ROLES")).contains("SELECT on gate_load, hall, in_hall");
    assertThat(dispatch("SHOW GRANTS")).contains("gate_load");
    assertThat(dispatch("EXPLAIN SELECT gate FROM gate_load")).isNotEmpty();
    db.engine.follow("SELECT * FROM gate_load", Map.of(), dispatch).close();
    Caller owner = db.engine.access().owner();
    assertThat(
            db.engine
                .endpoints()
                .call(
                    db.engine.endpoints().endpoint("in_hall", dispatch),
                    Map.of("hall", "North"),
                    dispatch)
                .rows()
                .rows())
        .hasSize(1);
    assertThat(db.engine.endpoints().all(owner)).hasSize(1);
  }

  @ParameterizedTest
  @CsvSource(
      delimiter = '|',
      value = {
        "SELECT * FROM wage",
        "SELECT * FROM nothing_of_the_kind",
        "SELECT * FROM gate",
        "SELECT n FROM gate_load WHERE n > (SELECT MAX(cents) FROM wage)",
        "SELECT n FROM gate_load UNION ALL SELECT cents FROM wage",
        "WITH w AS (TABLE wage) SELECT * FROM w",
        "TABLE wage",
        "SELECT * FROM drip.history",
        "SELECT * FROM drip.journal",
        "DESCRIBE wage",
        "SHOW CREATE gate_load",
        "EXPLAIN SELECT * FROM hall",
        "EXPLAIN SELECT * FROM wage",
        "INSERT INTO scan VALUES (1, 'G01')",
        "INSERT INTO gate VALUES ('G03', 'North')",
        "UPDATE gate SET hall = 'x'",
        "DELETE FROM gate",
        "DROP VIEW hall",
        "DROP TABLE wage",
        "DROP VIEW nothing_of_the_kind",
        "CREATE VIEW mine AS SELECT * FROM hall",
        "CREATE MATERIALIZED VIEW mine AS SELECT * FROM hall",
        "CREATE STREAM mine (a INTEGER)",
        "CREATE TABLE mine (a INTEGER PRIMARY KEY)",
        "CREATE CONNECTION mine TYPE kafka OPTIONS (servers '127.0.0.1:1')",
        "CREATE ENDPOINT mine AS SELECT * FROM hall",
        "CREATE INDEX ON gate_load (n)",
        "REFRESH MATERIALIZED VIEW gate_load",
        "CREATE ROLE mine",
        "ALTER ROLE dispatch SET (max_rows 0)",
        "DROP ROLE dispatch",
        "GRANT SELECT ON gate_load TO dispatch",
        "GRANT SELECT ON SCHEMA public TO dispatch",
        "GRANT SELECT ON wage TO dispatch",
        "REVOKE SELECT ON gate_load FROM dispatch",
      })
  void everythingElseIsRefused(String statement) {
    var grants = db.engine.access().grants();
    refused(dispatch, statement);
    assertThat(db.engine.access().grants()).isEqualTo(grants);
    assertThat(db.engine.catalog().find("mine")).isNull();
    assertThat(db.engine.access().roles()).hasSize(2);
  }

  @Test
  void whatCannotBeReadSoundsLikeWhatIsNotThere() {
    String there = refused(dispatch, "SELECT * FROM wage").getMessage();
    String absent = refused(dispatch, "SELECT * FROM cage").getMessage();
    assertThat(there.replace("wage", "x")).isEqualTo(absent.replace("cage", "x"));
    assertThat(there).isEqualTo("there is no \"wage\" that role dispatch may read");
    assertThat(owner("SELECT COUNT(*) FROM drip.journal WHERE what = 'refused'")).isEqualTo("[2]");
    assertThat(refused(dispatch, "SELECT * FROM gate_lode").hint()).contains("gate_load");
    assertThatThrownBy(() -> db.engine.follow("TABLE wage", Map.of(), dispatch))
        .hasMessageContaining("there is no \"wage\"");
    assertThatThrownBy(() -> db.engine.endpoints().endpoint("wage", dispatch))
        .hasMessageContaining("for role dispatch");
  }

  @Test
  void whatIsRevokedIsGoneAtOnceAlsoWhatWasPrepared() {
    String query = "SELECT gate FROM gate_load";
    for (int i = 0; i < 4; i++) {
      dispatch(query);
    }
    assertThat(owner("REVOKE SELECT ON gate_load FROM dispatch")).contains("revoked 1 right");
    refused(dispatch, query);
    assertThat(owner("GRANT ALL ON SCHEMA public TO dispatch")).contains("granted 6 rights");
    dispatch(query);
    dispatch("SELECT * FROM wage; INSERT INTO scan VALUES (1, 'G07'); DELETE FROM wage");
    refused(dispatch, "DROP TABLE wage");
    db.run("REVOKE ALL ON SCHEMA public FROM dispatch");
    refused(dispatch, query);
    db.run("DROP ROLE dispatch");
    refused(dispatch, query);
  }

  @Test
  void aPusherPushesAndReadsNothing() {
    db.run("CREATE ROLE scanner; GRANT INSERT ON scan TO scanner");
    Caller scanner = db.engine.access().caller("scanner", null);
    as(scanner, "INSERT INTO scan VALUES (1, 'G01')");
    as(scanner, "DESCRIBE scan");
    assertThat(refused(scanner, "SELECT * FROM scan").getMessage())
        .isEqualTo("there is no \"scan\" that role scanner may read");
    assertThatThrownBy(() -> as(scanner, "INSERT INTO scan (gatee) VALUES ('x')"))
        .hasMessageContaining("gatee")
        .hasMessageNotContaining("role");
    refused(scanner, "INSERT INTO scan SELECT parcel, gate FROM scan");
    refused(scanner, "INSERT INTO scan SELECT cents, who FROM wage");
  }

  @Test
  void whoMakesSomethingOwnsIt() {
    db.run("CREATE ROLE builder; GRANT CREATE ON SCHEMA public TO builder");
    db.run("GRANT SELECT ON gate_load TO builder");
    Caller builder = db.engine.access().caller("builder", null);
    as(builder, "CREATE MATERIALIZED VIEW busy AS SELECT gate FROM gate_load WHERE n > 1");
    refused(builder, "CREATE VIEW w AS SELECT * FROM wage");
    assertThat(as(builder, "SHOW CREATE busy")).contains("gate_load");
    as(builder, "GRANT SELECT ON busy TO dispatch");
    assertThat(dispatch("SELECT * FROM busy")).isEmpty();
    as(builder, "CREATE OR REPLACE VIEW busy AS SELECT gate FROM gate_load");
    assertThat(dispatch("SELECT * FROM busy")).isEmpty(); // what was granted stays
    refused(builder, "CREATE OR REPLACE VIEW hall AS SELECT gate FROM gate_load");
    assertThatThrownBy(() -> db.run("DROP ROLE builder")).hasMessageContaining("has made");
    db.run("CREATE VIEW on_top AS SELECT * FROM busy");
    refused(builder, "DROP VIEW busy CASCADE");
    db.run("DROP VIEW on_top");
    as(builder, "DROP VIEW busy");
    db.run("CREATE VIEW busy AS SELECT * FROM wage");
    refused(dispatch, "SELECT * FROM busy"); // another of the same name
    refused(builder, "DROP VIEW busy");
    db.run("DROP ROLE builder");
  }

  @Test
  void boundsOfARoleHold() {
    db.run("CREATE TABLE many (n INTEGER PRIMARY KEY); GRANT SELECT ON many TO dispatch");
    db.run("INSERT INTO many VALUES (1), (2), (3), (4)");
    assertThatThrownBy(() -> dispatch("SELECT * FROM many"))
        .hasMessageContaining("more than 3 rows");
    assertThat(dispatch("SELECT * FROM many LIMIT 2")).isNotEmpty();
    db.run("ALTER ROLE dispatch SET (max_rows 0, max_memory '1 kb')");
    assertThat(dispatch("SELECT * FROM many")).isNotEmpty();
    assertThat(owner("SELECT max_rows, max_memory_bytes FROM drip.roles WHERE name = 'dispatch'"))
        .isEqualTo("[0, 1024]");
    assertThatThrownBy(() -> db.run("CREATE ROLE x OPTIONS (max_rows 'many')"))
        .hasMessageContaining("max_rows cannot be 'many'");
    assertThatThrownBy(() -> db.run("GRANT DELETE ON gate_load TO dispatch"))
        .hasMessageContaining("no meaning for a materialized view");
    assertThatThrownBy(() -> db.run("GRANT SELECT ON SCHEMA secret TO dispatch"))
        .hasMessageContaining("no schema");
    assertThatThrownBy(() -> db.run("GRANT SELECT ON gate TO nobody"))
        .hasMessageContaining("no role");
    assertThatThrownBy(() -> db.run("DROP ROLE owner")).hasMessageContaining("must be an owner");
  }

  @Test
  void rolesOutliveTheProcessAndWhatIsDoneIsInTheJournal() {
    db.run("GRANT SELECT ON drip.rejects TO dispatch");
    db.crash();
    dispatch = db.engine.access().caller("dispatch", "a test");
    assertThat(dispatch("SELECT COUNT(*) FROM drip.rejects")).isEqualTo("[0]");
    refused(dispatch, "TABLE wage");
    List<AccessStore.Noted> journal = db.engine.access().store().journal();
    AccessStore.Entry last = journal.get(journal.size() - 1).entry();
    assertThat(last.role() + last.via() + last.what() + last.object())
        .isEqualTo("dispatcha testrefusedwage");
    assertThat(owner("SELECT COUNT(*) FROM drip.journal WHERE what = 'define'"))
        .isNotEqualTo("[0]");
    assertThat(owner("SELECT privilege, name FROM drip.grants WHERE \"schema\" = 'drip'"))
        .isEqualTo("[SELECT, rejects]");
  }

  @ParameterizedTest
  @CsvSource(
      delimiter = '|',
      value = {
        "GRANT SELECT ON nowhere TO dispatch | 1:17 there is no \"nowhere\"",
        "GRANT USAGE ON gate TO dispatch | 1:16 USAGE has no meaning for a table (\"gate\")",
        "GRANT SELECT ON SCHEMA secret TO dispatch | 1:24 no schema \"secret\"",
        "GRANT SELECT ON gate TO nobody | 0:0 no role \"nobody\"",
        "GRANT SELECT ON gate TO owner | 0:0 the owner may do everything; nothing is granted to it",
        "CREATE ROLE dispatch | 0:0 there is a role \"dispatch\" already",
        "CREATE ROLE big OPTIONS (max_rows 'many') | 1:35 max_rows cannot be 'many'",
        "CREATE ROLE big OPTIONS (max_rowz 5) | 1:35 no option \"max_rowz\" of a role",
        "DROP ROLE nobody | 0:0 no role \"nobody\"",
      })
  void errorsSayWhatIsWrongAndWhere(String statement, String said) {
    EngineException e = db.error(statement);
    assertThat(e.line() + ":" + e.column() + " " + e.getMessage()).isEqualTo(said);
  }

  @Test
  void onlyItsOwnStatementsCanARoleCancel() {
    assertThatThrownBy(() -> dispatch("CANCEL 1")).hasMessageContaining("of role dispatch");
  }
}
