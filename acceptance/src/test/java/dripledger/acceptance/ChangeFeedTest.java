package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.sql.Connection;
import java.sql.Statement;
import java.util.concurrent.CompletableFuture;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.parallel.ResourceLock;

/** Tables that follow a real database. */
@ResourceLock(SourceTest.TWO)
class ChangeFeedTest extends SourceTest {
  @Test
  void aTableFollowsItsDatabase() throws Exception {
    hub.execute(
        "CREATE TYPE mood AS ENUM ('calm', 'busy')",
        "CREATE TABLE many (id bigint PRIMARY KEY, b boolean, s smallint, i integer, r real, d double precision,"
            + " n numeric(10,3), t text, c varchar(5), day date, tm time, ts timestamp, tz timestamptz,"
            + " bin bytea, u uuid, j jsonb, a integer[], m mood)",
        "INSERT INTO many VALUES (1, true, 2, 3, 1.5, 2.25, 12.345, E'tab\\tä', 'abc', '2026-03-02', '06:14:09.5',"
            + " '2026-03-02 06:14:09.123456', '2026-03-02 07:00:00+01', '\\x00ff', '00000000-0000-0000-0000-000000000001',"
            + " '{\"k\": 1}', '{1,NULL,3}', 'busy')",
        "INSERT INTO many (id) VALUES (2)");
    service.sql("CREATE TABLE many FROM hub_ops (table 'public.many')");
    String first =
        "[[1, true, 2, 3, 1.5, 2.25, 12.345, tab\tä, abc, 2026-03-02, 06:14:09.500, 2026-03-02T06:14:09.123456Z,"
            + " 2026-03-02T06:00:00Z, AP8=, 00000000-0000-0000-0000-000000000001, {\"k\": 1}, [1, null, 3], busy]]";
    String loaded = String.valueOf(service.sql("SELECT * FROM many WHERE id = 1"));
    hub.execute("UPDATE many SET id = 3 WHERE id = 1", "DELETE FROM many WHERE id = 2");
    String changed = first.replace("[[1,", "[[3,");
    assertThat(soon("SELECT * FROM many", changed).replace("06:14:09.500", "06:14:09.500"))
        .isEqualTo(changed);
    assertThat(loaded).as("as loaded").isEqualTo(first);
    hub.execute("TRUNCATE many");
    expect("SELECT COUNT(*) FROM many", "[[0]]");
  }

  @Test
  void replicaIdentityIsExplained() throws Exception {
    hub.execute(
        "CREATE TABLE nokey (v integer)",
        "CREATE TABLE nothing (id integer PRIMARY KEY)",
        "ALTER TABLE nothing REPLICA IDENTITY NOTHING",
        "CREATE TABLE byindex (k integer NOT NULL, v text)",
        "CREATE UNIQUE INDEX byindex_k ON byindex (k)",
        "ALTER TABLE byindex REPLICA IDENTITY USING INDEX byindex_k",
        "CREATE TABLE fully (id integer PRIMARY KEY, v text)",
        "ALTER TABLE fully REPLICA IDENTITY FULL",
        "INSERT INTO byindex VALUES (1, 'a')",
        "INSERT INTO fully VALUES (1, 'a')");
    assertThat(error("CREATE TABLE nokey FROM hub_ops (table 'public.nokey')"))
        .contains("it has no primary key")
        .contains("ADD PRIMARY KEY");
    assertThat(error("CREATE TABLE nothing FROM hub_ops (table 'public.nothing')"))
        .contains("REPLICA IDENTITY is NOTHING");
    service.sql("CREATE TABLE byindex FROM hub_ops (table 'public.byindex')");
    service.sql("CREATE TABLE fully FROM hub_ops (table 'public.fully')");
    hub.execute("UPDATE byindex SET k = 2", "UPDATE fully SET id = 2", "UPDATE fully SET v = 'b'");
    expect("SELECT * FROM byindex", "[[2, a]]");
    expect("SELECT * FROM fully", "[[2, b]]");
    assertThat(error("CREATE STREAM s FROM hub_ops (table 'public.fully')"))
        .contains("write CREATE TABLE");
  }

  @Test
  void aChangedSchemaStopsWhatCannotGoOn() throws Exception {
    hub.execute(
        "CREATE TABLE wide (id integer PRIMARY KEY, v text, w integer)",
        "CREATE TABLE calm (id integer PRIMARY KEY)",
        "INSERT INTO wide VALUES (1, 'a', 1)");
    service.sql(
        "CREATE TABLE wide FROM hub_ops (table 'public.wide'); CREATE TABLE calm FROM hub_ops (table 'public.calm')");
    hub.execute(
        "ALTER TABLE wide ADD COLUMN extra text", "INSERT INTO wide VALUES (2, 'b', 2, 'more')");
    expect("SELECT id, v, w FROM wide ORDER BY id", "[[1, a, 1], [2, b, 2]]");
    assertThat(
            String.valueOf(service.sql("SELECT field, what FROM drip.drift WHERE object = 'wide'")))
        .isEqualTo("[[extra, new field]]");
    hub.execute(
        "ALTER TABLE wide DROP COLUMN w",
        "INSERT INTO wide VALUES (3, 'c')",
        "INSERT INTO calm VALUES (5)");
    assertThat(soon("SELECT COUNT(*) FROM calm", "[[1]]"))
        .as("the others go on")
        .isEqualTo("[[1]]");
    LiveService.Answer wide = service.call("GET", "/api/v1/objects/wide", null);
    assertThat(wide.body()).contains("stopped: column \\\"w\\\" is no longer there at the source");
    assertThat(String.valueOf(service.sql("SELECT COUNT(*) FROM wide"))).isEqualTo("[[2]]");
    service.sql("DROP TABLE wide; CREATE TABLE wide FROM hub_ops (table 'public.wide')");
    expect("SELECT * FROM wide WHERE id = 3", "[[3, c, null]]");
  }

  @Test
  void aTableLoadedUnderWorkMissesNothing() throws Exception {
    hub.execute(
        "CREATE TABLE busy (id integer PRIMARY KEY, n integer)",
        "INSERT INTO busy SELECT g, 0 FROM generate_series(1, 20000) g");
    boolean[] working = {true};
    Thread worker =
        new Thread(
            () -> {
              try (Connection c = hub.connect();
                  Statement s = c.createStatement()) {
                for (int i = 0; working[0]; i++) {
                  s.execute("UPDATE busy SET n = n + 1 WHERE id % 50 = " + i % 50);
                  s.execute("INSERT INTO busy VALUES (" + (30_000 + i) + ", 0)");
                }
              } catch (java.sql.SQLException e) {
                throw new IllegalStateException(e);
              }
            });
    worker.start();
    Thread.sleep(300);
    service.sql("CREATE TABLE busy FROM hub_ops (table 'public.busy')");
    service.sql("REFRESH TABLE busy");
    working[0] = false;
    worker.join();
    try (Connection c = hub.connect();
        Statement s = c.createStatement();
        var r = s.executeQuery("SELECT count(*), sum(n), sum(id::bigint * n) FROM busy")) {
      r.next();
      String expected = "[[" + r.getLong(1) + ", " + r.getLong(2) + ", " + r.getLong(3) + "]]";
      expect("SELECT COUNT(*), SUM(n), SUM(CAST(id AS BIGINT) * n) FROM busy", expected);
    }
  }

  /** Loading a table again shows its rows in one epoch: nobody sees the old ones half gone. */
  @Test
  void aRefreshIsOneEpoch() throws Exception {
    hub.execute(
        "CREATE TABLE steady (id integer PRIMARY KEY, n integer)",
        "INSERT INTO steady SELECT g, 1 FROM generate_series(1, 60000) g");
    service.sql(
        "CREATE TABLE steady FROM hub_ops (table 'public.steady');"
            + " CREATE MATERIALIZED VIEW steady_sum AS SELECT COUNT(*) AS c, SUM(n) AS s FROM steady");
    expect("SELECT c, s FROM steady_sum", "[[60000, 60000]]");
    CompletableFuture<String> refreshed =
        CompletableFuture.supplyAsync(() -> outcome("REFRESH TABLE steady"));
    int looked = 0;
    do {
      assertThat(String.valueOf(service.sql("SELECT c, s FROM steady_sum")))
          .isEqualTo("[[60000, 60000]]");
      looked++;
    } while (!refreshed.isDone());
    assertThat(refreshed.join()).isEqualTo("made");
    assertThat(looked).as("looks while it was loaded").isGreaterThan(3);
    expect("SELECT c, s FROM steady_sum", "[[60000, 60000]]");
  }

  @Test
  void aLostSlotIsToldAndALoadBeginsAnew() throws Exception {
    hub.execute("CREATE TABLE slotted (id integer PRIMARY KEY)", "INSERT INTO slotted VALUES (1)");
    service.sql(
        "CREATE CONNECTION apart TYPE postgres OPTIONS (url '"
            + hub.operations().jdbcUrl("hub")
            + "', user 'drip', password SECRET hub_ops_password);"
            + "CREATE TABLE slotted FROM apart (table 'public.slotted')");
    service.stop();
    hub.execute("SELECT pg_drop_replication_slot('drip_apart')", "INSERT INTO slotted VALUES (2)");
    service.start();
    String state = "SELECT state FROM drip.inputs WHERE connection = 'apart'";
    expect(state, "[[stopped]]");
    assertThat(String.valueOf(service.sql("SELECT COUNT(*) FROM slotted"))).isEqualTo("[[1]]");
    service.sql("REFRESH TABLE slotted");
    expect("SELECT COUNT(*) FROM slotted", "[[2]]");
    hub.execute("INSERT INTO slotted VALUES (3)");
    expect("SELECT COUNT(*) FROM slotted", "[[3]]");
    service.sql("DROP TABLE slotted; CREATE TABLE slotted FROM apart (table 'public.slotted')");
    hub.execute("DELETE FROM slotted WHERE id = 1");
    assertThat(soon("SELECT COUNT(*) FROM slotted", "[[2]]")).as("begun anew").isEqualTo("[[2]]");
    service.sql("DROP TABLE slotted; DROP CONNECTION apart");
    try (Connection c = hub.connect();
        Statement s = c.createStatement();
        var r =
            s.executeQuery(
                "SELECT count(*) FROM pg_replication_slots WHERE slot_name = 'drip_apart'")) {
      r.next();
      assertThat(r.getLong(1)).as("nothing is left at the source").isZero();
    }
  }

  @Test
  void otherDefinitionsGoOnWhileATableIsLoaded() throws Exception {
    hub.execute(
        "CREATE TABLE bulky (id integer PRIMARY KEY)",
        "INSERT INTO bulky SELECT generate_series(1, 1000)",
        "CREATE TABLE little (id integer PRIMARY KEY)",
        "INSERT INTO little VALUES (1)");
    String create = "CREATE TABLE bulky FROM hub_ops (table 'public.bulky')";
    service.sql("CREATE TABLE little FROM hub_ops (table 'public.little')");
    CompletableFuture<String> first;
    try (Connection holding = held("bulky")) {
      first = CompletableFuture.supplyAsync(() -> outcome(create));
      awaitLoading(first);
      service.sql("CREATE MATERIALIZED VIEW littles AS SELECT COUNT(*) AS n FROM little");
      CompletableFuture<String> followed = CompletableFuture.supplyAsync(() -> follow("littles"));
      for (int id = 2; !followed.isDone(); id++) {
        hub.execute("INSERT INTO little VALUES (" + id + ")");
        Thread.sleep(200);
      }
      assertThat(followed.get()).contains("+");
      assertThat(first).as("the load goes on meanwhile").isNotDone();
      assertThat(error(create)).startsWith("\"bulky\" is being made already");
      assertThat(error("DROP CONNECTION hub_ops CASCADE"))
          .contains("table bulky is being made from it");
      assertThat(error("ALTER CONNECTION hub_ops SET (user 'drip')"))
          .contains("is being made from it");
      assertThat(outcome("DROP TABLE bulky")).isEqualTo("made");
      holding.rollback();
    }
    assertThat(first.get()).contains("table bulky was dropped while it was being made");
    assertThat(outcome(create)).isEqualTo("made");
    expect("SELECT COUNT(*) FROM bulky", "[[1000]]");
    CompletableFuture<String> again;
    try (Connection holding = held("bulky")) {
      again = CompletableFuture.supplyAsync(() -> outcome("REFRESH TABLE bulky"));
      awaitLoading(again);
      assertThat(error("REFRESH TABLE bulky")).contains("is being loaded already");
      CompletableFuture<String> drop =
          CompletableFuture.supplyAsync(() -> outcome("DROP TABLE bulky"));
      Thread.sleep(500);
      holding.rollback();
      assertThat(drop.get()).isEqualTo("made");
    }
    assertThat(again.get()).contains("was dropped while it was being made");
    assertThat(outcome(create)).isEqualTo("made");
    expect("SELECT COUNT(*) FROM bulky", "[[1000]]");
  }

  /** A transaction at the source that lets nobody else at the table until it ends. */
  private Connection held(String table) throws Exception {
    Connection c = hub.connect();
    c.setAutoCommit(false);
    try (Statement s = c.createStatement()) {
      s.execute("LOCK TABLE " + table + " IN ACCESS EXCLUSIVE MODE");
    }
    return c;
  }

  private String follow(String view) {
    try {
      return service.drip("", "follow", view, "--changes", "1").out();
    } catch (java.io.IOException | InterruptedException e) {
      return e.getMessage();
    }
  }

  private String outcome(String statement) {
    try {
      service.sql(statement);
      return "made";
    } catch (java.io.IOException e) {
      return e.getMessage();
    }
  }

  private void awaitLoading(CompletableFuture<String> making) throws Exception {
    for (int i = 0; i < 1000; i++) {
      if (service.call("GET", "/api/v1/objects", null).body().contains("\"loading\":{\"bulky\"")) {
        return;
      }
      Thread.sleep(20);
    }
    throw new AssertionError(making.getNow("not done, and not loading"));
  }
}
