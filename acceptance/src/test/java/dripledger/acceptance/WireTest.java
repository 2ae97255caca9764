package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.io.ByteArrayInputStream;
import java.io.ByteArrayOutputStream;
import java.nio.charset.StandardCharsets;
import java.sql.Connection;
import java.sql.DatabaseMetaData;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.List;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.TimeUnit;
import org.junit.jupiter.api.Test;
import org.postgresql.PGConnection;
import org.postgresql.util.PSQLException;

/** SQL from a standard driver: reads, prepares, fetches, follows, copies and cancels. */
class WireTest extends WireService {
  @Test
  void whatIsPreparedIsAskedAgainAndAgain() throws Exception {
    try (Connection c = service.connect();
        PreparedStatement byKey =
            c.prepareStatement("SELECT hall, capacity_per_minute FROM gate WHERE gate = ?");
        PreparedStatement ranged =
            c.prepareStatement(
                "SELECT COUNT(*) FROM gate WHERE capacity_per_minute > ? AND hall <> ? AND gate ="
                    + " ANY (?)");
        PreparedStatement limited =
            c.prepareStatement("SELECT gate FROM gate ORDER BY gate LIMIT ? OFFSET ?")) {
      for (int i = 1; i <= 12; i++) {
        byKey.setString(1, "G%02d".formatted(i));
        assertThat(rows(byKey.executeQuery()))
            .isEqualTo((i % 2 == 0 ? "North" : "South") + "|" + (40 + i) + "\n");
        ranged.setInt(1, 41);
        ranged.setString(2, "South");
        ranged.setArray(3, c.createArrayOf("text", new Object[] {"G01", "G02", "G04"}));
        assertThat(rows(ranged.executeQuery())).isEqualTo("2\n");
        limited.setInt(1, 2);
        limited.setLong(2, i);
        assertThat(rows(limited.executeQuery()))
            .isEqualTo("G%02d\nG%02d\n".formatted(i + 1, i + 2));
        if (i == 8) {
          service.sql("CREATE VIEW something AS SELECT gate FROM gate; DROP VIEW something");
        }
      }
      byKey.setString(1, "none");
      assertThat(rows(byKey.executeQuery())).isEmpty();
      byKey.setString(1, null);
      assertThat(rows(byKey.executeQuery())).isEmpty();
    }
  }

  /** A read by an index is still right when the index has gone. */
  @Test
  void whatIsReadByAnIndexIsReadWithoutItToo() throws Exception {
    service.sql(
        "CREATE TABLE door (door INTEGER PRIMARY KEY, hall VARCHAR);"
            + " INSERT INTO door VALUES (1, 'North'), (2, 'South'), (3, 'North');"
            + " CREATE INDEX ON door (hall)");
    try (Connection c = service.connect();
        PreparedStatement byHall =
            c.prepareStatement("SELECT door FROM door WHERE hall = ? ORDER BY door");
        PreparedStatement unordered = c.prepareStatement("SELECT door FROM door WHERE hall = ?")) {
      for (int i = 0; i < 12; i++) {
        byHall.setString(1, "North");
        assertThat(rows(byHall.executeQuery())).isEqualTo("1\n3\n");
        unordered.setString(1, "South");
        assertThat(rows(unordered.executeQuery())).isEqualTo("2\n");
        if (i == 8) {
          service.sql("DROP INDEX ON door (hall)");
        }
      }
    }
    service.sql("DROP TABLE door");
  }

  @Test
  void aFetchSizeReadsPieceByPiece() throws Exception {
    try (Connection c = service.connect()) {
      c.setAutoCommit(false);
      try (Statement s = c.createStatement()) {
        s.setFetchSize(7);
        ResultSet rows = s.executeQuery("SELECT gate FROM gate ORDER BY gate DESC");
        assertThat(rows(rows).split("\n")).hasSize(20).startsWith("G20").endsWith("G01");
      }
      c.rollback();
    }
  }

  /** More rows than are ever gathered for an answer, whole or in pieces, all of one epoch. */
  @Test
  void anAnswerIsAsLongAsItIs() throws Exception {
    service.sql(
        "CREATE TABLE tote (n INTEGER PRIMARY KEY, hall VARCHAR); INSERT INTO tote"
            + " SELECT CAST(n AS INTEGER), 'North' FROM generate_series(1, 250000) AS s (n)");
    try (Connection c = service.connect();
        Connection other = service.connect();
        Statement s = c.createStatement();
        Statement change = other.createStatement()) {
      for (String isolation : List.of("READ COMMITTED", "REPEATABLE READ")) {
        s.execute("BEGIN ISOLATION LEVEL " + isolation);
        s.execute("DECLARE totes CURSOR FOR SELECT n, hall FROM tote WHERE n > 0");
        s.execute("DECLARE others CURSOR FOR SELECT hall, n FROM tote");
        long sum = sum(s, "FETCH 10 FROM totes", 1);
        change.execute("UPDATE tote SET n = -n");
        for (long piece = -1; piece != 0; sum += piece) {
          piece = sum(s, "FETCH 20000 FROM totes", 1);
        }
        assertThat(sum).isEqualTo(250_000L * 250_001 / 2);
        assertThat(sum(s, "FETCH ALL FROM others", 2)).isEqualTo(sum);
        s.execute("COMMIT");
        change.execute("UPDATE tote SET n = -n");
      }
      assertThat(sum(s, "SELECT n, hall FROM tote", 1)).isEqualTo(250_000L * 250_001 / 2);
      assertThat(sum(s, "TABLE tote", 1)).isEqualTo(250_000L * 250_001 / 2);
      c.setAutoCommit(false);
      s.setFetchSize(100);
      try (ResultSet rows = s.executeQuery("SELECT n FROM tote")) {
        assertThat(rows.next()).isTrue();
        assertThat(service.sql(OPEN)).isNotEmpty();
      }
      c.rollback();
      for (int i = 0; i < 100 && !service.sql(OPEN).isEmpty(); i++) {
        TimeUnit.MILLISECONDS.sleep(50);
      }
      assertThat(service.sql(OPEN)).isEmpty();
      // What the transaction has changed itself is seen by its cursors.
      s.executeUpdate("DELETE FROM tote WHERE n > 5");
      assertThat(sum(s, "SELECT n FROM tote", 1)).isEqualTo(15);
      c.rollback();
    }
    service.sql("DROP TABLE tote");
  }

  private static final String OPEN =
      "SELECT number FROM drip.activity WHERE statement = 'SELECT n FROM tote'";

  private static long sum(Statement statement, String sql, int column) throws SQLException {
    long sum = 0;
    try (ResultSet rows = statement.executeQuery(sql)) {
      while (rows.next()) {
        sum += rows.getLong(column);
      }
    }
    return sum;
  }

  @Test
  void errorsHaveAPlaceAHintAndAState() throws Exception {
    try (Connection c = service.connect();
        Statement s = c.createStatement()) {
      assertThatThrownBy(() -> s.executeQuery("SELECT 1,\n  gatee FROM gate"))
          .isInstanceOfSatisfying(
              PSQLException.class,
              e -> {
                assertThat(e.getSQLState()).isEqualTo("42703");
                assertThat(e.getServerErrorMessage().getPosition()).isEqualTo(13);
                assertThat(e.getServerErrorMessage().getHint()).contains("did you mean \"gate\"?");
              });
      for (String[] wrong :
          new String[][] {
            {"SELEC 1", "42601"},
            {"SELECT * FROM gates", "42P01"},
            {"CREATE TABLE gate (gate VARCHAR PRIMARY KEY)", "42P07"},
            {"INSERT INTO gate VALUES (NULL, 'North', 1)", "23502"},
            {"SELECT 1 / (capacity_per_minute - capacity_per_minute) FROM gate", "22000"},
            {"SAVEPOINT a", "25P01"},
            {"FETCH 3e FROM c", "42601"},
            {"FETCH 99999999999999999999 FROM c", "42601"},
            {"SET statement_timeout = '99999999999999999999'", "22023"},
            {"SELECT $99999999999", "54000"},
            {"SELECT oid FROM pg_class WHERE oid = $99999999999", "54000"},
            {"SET nothing TO 1", "42704"},
            {"SET client_encoding TO 'LATIN1'", "22023"}
          }) {
        assertThatThrownBy(() -> s.execute(wrong[0]))
            .as(wrong[0])
            .satisfies(e -> assertThat(((SQLException) e).getSQLState()).isEqualTo(wrong[1]));
      }
      try (PreparedStatement p = c.prepareStatement("SELECT * FROM gate WHERE gate = ? AND ?")) {
        p.setString(1, "G01");
        p.setString(2, "perhaps");
        assertThatThrownBy(p::executeQuery)
            .satisfies(e -> assertThat(((SQLException) e).getSQLState()).isIn("22P02", "42000"));
      }
      assertThat(ask(c, "SELECT COUNT(*) FROM gate")).isEqualTo("20\n");
    }
  }

  @Test
  void longStatementsAreCancelledOrEndByThemselves() throws Exception {
    String endless =
        "SELECT COUNT(*) FROM gate a, gate b, gate c, gate d, gate e, gate f, gate g"
            + " WHERE a.gate || b.gate || c.gate || d.gate || e.gate || f.gate || g.gate = 'x'";
    try (Connection c = service.connect();
        Statement s = c.createStatement()) {
      CompletableFuture<Void> cancel =
          CompletableFuture.runAsync(
              () -> {
                try {
                  for (int i = 0; i < 100 && service.sql(RUNNING).isEmpty(); i++) {
                    TimeUnit.MILLISECONDS.sleep(50);
                  }
                  s.cancel();
                } catch (Exception e) {
                  throw new IllegalStateException(e);
                }
              });
      assertThatThrownBy(() -> s.executeQuery(endless))
          .satisfies(e -> assertThat(((SQLException) e).getSQLState()).isEqualTo("57014"));
      cancel.get(20, TimeUnit.SECONDS);
      s.execute("SET statement_timeout = '300ms'");
      assertThat(ask(c, "SHOW statement_timeout")).isEqualTo("300\n");
      assertThatThrownBy(() -> s.executeQuery(endless))
          .satisfies(e -> assertThat(((SQLException) e).getSQLState()).isEqualTo("57014"));
      assertThat(ask(c, "SELECT COUNT(*) FROM gate")).isEqualTo("20\n");
    }
    // a client that goes ends what it asked
    try (Connection c = service.connect("socketTimeout=1");
        Statement s = c.createStatement()) {
      assertThatThrownBy(() -> s.executeQuery(endless)).isInstanceOf(SQLException.class);
    }
    List<List<Object>> left = List.of(List.of());
    for (int i = 0; i < 100 && !left.isEmpty(); i++) {
      left = service.sql(RUNNING);
      TimeUnit.MILLISECONDS.sleep(100);
    }
    assertThat(left).isEmpty();
  }

  private static final String RUNNING =
      "SELECT number FROM drip.activity WHERE statement LIKE '%a.gate || b.gate%'"
          + " AND statement NOT LIKE '%activity%'";

  @Test
  void rowsAreCopiedOutAndIn() throws Exception {
    try (Connection c = service.connect();
        Statement s = c.createStatement()) {
      var copies = c.unwrap(PGConnection.class).getCopyAPI();
      ByteArrayOutputStream out = new ByteArrayOutputStream();
      copies.copyOut(
          "COPY (SELECT gate, hall FROM gate WHERE gate < 'G03' ORDER BY gate) TO STDOUT"
              + " WITH (FORMAT csv, HEADER)",
          out);
      assertThat(out.toString(StandardCharsets.UTF_8))
          .isEqualTo("gate,hall\nG01,South\nG02,North\n");
      out.reset();
      assertThat(copies.copyOut("COPY gate (gate) TO STDOUT", out)).isEqualTo(20);
      // more than an answer may have: they are not gathered first
      assertThat(
              copies.copyOut(
                  "COPY (SELECT n FROM generate_series(1, 250000) AS s (n)) TO STDOUT", out))
          .isEqualTo(250_000);
      s.execute(
          "CREATE STREAM copied (parcel BIGINT NOT NULL, gate VARCHAR, at TIMESTAMP, note VARCHAR);"
              + " CREATE MATERIALIZED VIEW copied_now AS SELECT parcel, gate, at, note FROM copied");
      String text = "1\tG01\t2026-03-02 06:14:09\tone\\ttab\n2\t\\N\t\\N\t\\\\N\n";
      String csv = "parcel,note\n3,\"a, \"\"b\"\"\nc\"\n4,\n5,\"\"\n";
      assertThat(copies.copyIn("COPY copied FROM STDIN", bytes(text))).isEqualTo(2);
      assertThat(
              copies.copyIn(
                  "COPY copied (parcel, note) FROM STDIN WITH (FORMAT csv, HEADER true)",
                  bytes(csv)))
          .isEqualTo(3);
      out.reset();
      copies.copyOut(
          "COPY (SELECT * FROM copied_now ORDER BY parcel) TO STDOUT (FORMAT binary)", out);
      assertThat(
              copies.copyIn(
                  "COPY copied FROM STDIN (FORMAT binary)",
                  new ByteArrayInputStream(out.toByteArray())))
          .isEqualTo(5);
      String expected =
          "1|G01|2026-03-02 06:14:09|one\ttab\n2|null|null|\\N\n"
              + "3|null|null|a, \"b\"\nc\n4|null|null|null\n5|null|null|\n";
      assertThat(ask(c, "SELECT DISTINCT * FROM copied_now ORDER BY parcel")).isEqualTo(expected);
      assertThatThrownBy(() -> copies.copyIn("COPY copied FROM STDIN", bytes("6\tG01\n")))
          .hasMessageContaining("row 1: 2 values for 4 columns; nothing was taken");
      assertThatThrownBy(
              () -> copies.copyIn("COPY copied (parcel) FROM STDIN", bytes("7\nseven\n")))
          .hasMessageContaining("parcel in row 2 is no BIGINT");
      assertThat(ask(c, "SELECT COUNT(*) FROM copied_now")).isEqualTo("10\n");
      s.execute("DROP STREAM copied CASCADE");
    }
  }

  private static ByteArrayInputStream bytes(String text) {
    return new ByteArrayInputStream(text.getBytes(StandardCharsets.UTF_8));
  }

  @Test
  void aCursorFollowsAQuery() throws Exception {
    try (Connection c = service.connect();
        Statement s = c.createStatement()) {
      s.execute("CREATE TABLE belt (belt VARCHAR PRIMARY KEY, parcels INTEGER)");
      service.sql("INSERT INTO belt VALUES ('B1', 1)");
      c.setAutoCommit(false);
      s.execute("DECLARE changes CURSOR FOR FOLLOW SELECT * FROM belt");
      assertThat(withoutEpoch(ask(c, "FETCH 10 FROM changes"))).isEqualTo("1|B1|1\n");
      CompletableFuture<String> next =
          CompletableFuture.supplyAsync(
              () -> {
                try {
                  return ask(c, "FETCH 10 FROM changes");
                } catch (SQLException e) {
                  throw new IllegalStateException(e);
                }
              });
      TimeUnit.MILLISECONDS.sleep(200);
      assertThat(next.isDone()).as("waits for a row").isFalse();
      service.sql("UPDATE belt SET parcels = 2");
      assertThat(withoutEpoch(next.get(20, TimeUnit.SECONDS))).isEqualTo("-1|B1|1\n1|B1|2\n");
      s.execute("CLOSE changes");
      c.rollback();
      c.setAutoCommit(true);
      s.execute("DROP TABLE belt");
    }
  }

  private static String withoutEpoch(String rows) {
    return rows.replaceAll("(?m)^(-?\\d+)\\|\\d+\\|", "$1|");
  }

  @Test
  void aDriverReadsWhatThereIs() throws Exception {
    try (Connection c = service.connect()) {
      DatabaseMetaData m = c.getMetaData();
      List<String> found = new ArrayList<>();
      try (ResultSet r = m.getTables(null, "public", "%", new String[] {"TABLE"})) {
        while (r.next()) {
          found.add(r.getString("TABLE_NAME") + ": " + r.getString("REMARKS"));
        }
      }
      assertThat(found).contains("gate: table", "gate_load: materialized view", "scan: stream");
      try (ResultSet r = m.getColumns(null, null, "gate_load", "%")) {
        assertThat(r.next()).isTrue();
        assertThat(r.getString("COLUMN_NAME")).isEqualTo("gate");
        assertThat(r.next()).isTrue();
        assertThat(r.getString("TYPE_NAME")).isEqualTo("timestamp");
      }
      try (ResultSet r = m.getPrimaryKeys(null, null, "gate")) {
        assertThat(r.next()).isTrue();
        assertThat(r.getString("COLUMN_NAME")).isEqualTo("gate");
      }
      service.sql("CREATE TABLE \"odd name\" (\"a\"\"b\" INTEGER PRIMARY KEY)");
      assertThat(
              ask(
                  c,
                  "SELECT column_name FROM information_schema.columns"
                      + " WHERE table_name = 'odd name'"))
          .as("at once")
          .isEqualTo("a\"b\n");
      try (Connection records = service.records()) { // as a server that is started anew does
        ask(
            records,
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity"
                + " WHERE datname = 'ledger' AND usename = current_user");
      }
      service.sql("DROP TABLE \"odd name\"");
      assertThat(ask(c, "SELECT COUNT(*) FROM pg_class WHERE relname = 'odd name'"))
          .isEqualTo("0\n");
      assertThat(c.getCatalog()).isEqualTo("ledger");
      assertThat(c.getSchema()).isEqualTo("public");
    }
  }

  /** What is not only introspection is never answered by the catalog's database, as if empty. */
  @Test
  void dataIsNeverAnsweredByTheCatalog() throws Exception {
    try (Connection c = service.connect()) {
      for (String sql :
          List.of(
              "SELECT COUNT(*) FROM gate, pg_catalog.pg_class",
              "SELECT (SELECT COUNT(*) FROM public.gate) FROM pg_catalog.pg_class",
              "WITH pg_x AS (SELECT * FROM gate) SELECT COUNT(*) FROM pg_x, pg_class",
              "SELECT COUNT(*) FROM pg_class WHERE EXISTS (TABLE gate)",
              "SELECT COUNT(*) FROM pg_class WHERE relname IN (SELECT gate FROM (gate))",
              "SELECT COUNT(*) FROM /* pg_class */ pg_catalog.pg_class JOIN LATERAL (SELECT * FROM"
                  + " \"gate\") g ON true",
              "SELECT pg_catalog.query_to_xml('SELECT * FROM gate', true, true, '')",
              "SELECT COUNT(*) FROM pg_catalog.pg_class c, ONLY gate",
              "SELECT EXTRACT(HOUR FROM now()) FROM pg_class JOIN gate_load ON true")) {
        assertThatThrownBy(() -> ask(c, sql)).as(sql).isInstanceOf(SQLException.class);
      }
      for (String sql :
          List.of(
              "SELECT gate AS pg_class FROM gate WHERE gate = 'G01'",
              "SELECT 'G01' FROM gate WHERE 'FROM pg_class' <> gate LIMIT 1",
              "SELECT g.gate FROM gate g WHERE g.gate = 'G01' -- FROM pg_class",
              "SELECT gate FROM (SELECT gate FROM gate) AS pg_class WHERE gate = 'G01'")) {
        assertThat(ask(c, sql)).as(sql).isEqualTo("G01\n");
      }
      assertThatThrownBy(
              () -> ask(c, "SELECT set_config('statement_timeout', '0', false), pg_sleep(60)"))
          .isInstanceOf(SQLException.class);
      assertThatThrownBy(() -> ask(c, "SELECT pg_read_file('/etc/passwd')"))
          .isInstanceOf(SQLException.class);
      assertThatThrownBy(
              () ->
                  ask(
                      c,
                      "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename <> current_user AND usename IS NOT NULL"))
          .isInstanceOf(SQLException.class);
    }
  }
}
