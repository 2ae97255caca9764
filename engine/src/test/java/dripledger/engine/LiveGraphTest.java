package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.epoch.EpochInput;
import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import dripledger.engine.query.Subscription;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.source.Connectors;
import dripledger.engine.view.Pinned;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.concurrent.atomic.AtomicReference;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.Tag;
import org.junit.jupiter.api.Test;

/** Views among themselves while changes pour in: one epoch for all, whoever looks and whenever. */
@Tag("memory-order")
class LiveGraphTest {
  private final TestEngine db = new TestEngine();

  @AfterEach
  void close() {
    db.close();
  }

  private static List<Object[]> rows(RelationVersion version) {
    List<Object[]> rows = new ArrayList<>();
    version.range(
        null, null, false, (bytes, at) -> rows.add(BoxedRows.read(version.layout(), bytes, at)));
    return rows;
  }

  private RelationVersion version(Snapshot snapshot, String name) {
    return snapshot.relation(db.engine.object(name).id());
  }

  @Test
  void readersAlwaysSeeAllViewsAtOneEpoch() throws Exception {
    db.run("CREATE STREAM scan (parcel BIGINT NOT NULL, gate VARCHAR NOT NULL)");
    db.run(
        "CREATE MATERIALIZED VIEW per_gate AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
    db.run("CREATE MATERIALIZED VIEW total AS SELECT SUM(n) AS n FROM per_gate");
    db.run("CREATE MATERIALIZED VIEW direct AS SELECT COUNT(*) AS n FROM scan");
    AtomicBoolean running = new AtomicBoolean(true);
    AtomicReference<String> wrong = new AtomicReference<>();
    Thread reader =
        new Thread(
            () -> {
              long last = 0;
              while (running.get()) {
                Pinned pinned = db.engine.pin();
                Snapshot s = pinned.snapshot();
                Object total = rows(version(s, "total")).get(0)[0];
                Object direct = rows(version(s, "direct")).get(0)[0];
                long sum = rows(version(s, "per_gate")).stream().mapToLong(r -> (Long) r[1]).sum();
                if (s.epoch() < last
                    || sum != (Long) direct
                    || total != null && !total.toString().equals("" + sum)) {
                  wrong.set(s.epoch() + ": " + total + " " + direct + " " + sum);
                }
                last = s.epoch();
                pinned.close();
              }
            });
    reader.start();
    Random random = new Random(5);
    for (int i = 0; i < 400; i++) {
      Object[][] events = new Object[1 + random.nextInt(20)][];
      for (int e = 0; e < events.length; e++) {
        events[e] = new Object[] {(long) i, "G" + random.nextInt(9)};
      }
      db.push("scan", events);
    }
    running.set(false);
    reader.join();
    assertThat(wrong.get()).isNull();
  }

  @Test
  void aViewMadeUnderLoadJoinsExactly() throws Exception {
    db.run("CREATE STREAM scan (parcel BIGINT NOT NULL, gate VARCHAR NOT NULL)");
    db.run("CREATE TABLE t (k INTEGER PRIMARY KEY, v INTEGER NOT NULL)");
    db.run("CREATE MATERIALIZED VIEW early AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
    db.run(
        "CREATE MATERIALIZED VIEW early_t AS SELECT MOD(v, 3) AS m, SUM(v) AS s, MIN(v) AS lo FROM t GROUP BY MOD(v, 3)");
    AtomicBoolean running = new AtomicBoolean(true);
    Thread pusher =
        new Thread(
            () -> {
              Random random = new Random(6);
              for (int i = 0; running.get(); i++) {
                db.push("scan", new Object[] {(long) i, "G" + random.nextInt(9)});
                db.run(
                    "DELETE FROM t WHERE k = "
                        + i % 50
                        + "; INSERT INTO t VALUES ("
                        + i % 50
                        + ", "
                        + random.nextInt(100)
                        + ")");
              }
            });
    pusher.start();
    for (int i = 0; i < 12; i++) {
      Thread.sleep(20);
      db.run(
          "CREATE MATERIALIZED VIEW late"
              + i
              + " AS SELECT gate, COUNT(*) AS n FROM scan GROUP BY gate");
      db.run("CREATE MATERIALIZED VIEW late_v" + i + " AS SELECT gate, n FROM early WHERE n > 0");
      db.run(
          "CREATE MATERIALIZED VIEW late_t"
              + i
              + " AS SELECT MOD(v, 3) AS m, SUM(v) AS s, MIN(v) AS lo FROM t GROUP BY MOD(v, 3)");
      Pinned pinned = db.engine.pin();
      Snapshot s = pinned.snapshot();
      for (String[] pair :
          new String[][] {
            {"early", "late" + i}, {"early", "late_v" + i}, {"early_t", "late_t" + i}
          }) {
        assertThat(rows(version(s, pair[1])).stream().map(Arrays::toString))
            .as(pair[1])
            .containsExactlyElementsOf(
                rows(version(s, pair[0])).stream().map(Arrays::toString).toList());
      }
      pinned.close();
    }
    running.set(false);
    pusher.join();
  }

  @Test
  void whatAFollowerAddsUpIsTheAnswer() throws Exception {
    db.run("CREATE TABLE t (k INTEGER PRIMARY KEY, g INTEGER, v INTEGER)");
    String query = "SELECT g, COUNT(*) AS n, MAX(v) AS hi FROM t GROUP BY g";
    Random random = new Random(7);
    Map<String, Long> sum = new HashMap<>();
    try (Subscription follower = db.engine.follow(query, Map.of())) {
      for (int i = 0; i < 150; i++) {
        int k = random.nextInt(30);
        db.run(
            random.nextInt(4) == 0
                ? "DELETE FROM t WHERE k = " + k
                : "DELETE FROM t WHERE k = "
                    + k
                    + "; INSERT INTO t VALUES ("
                    + k
                    + ", "
                    + random.nextInt(4)
                    + ", "
                    + random.nextInt(9)
                    + ")");
        for (Subscription.Batch b; (b = follower.poll(i == 0 ? 500 : 5)) != null; ) {
          b.changes().forEach(c -> sum.merge(Arrays.toString(c.row()), c.weight(), Long::sum));
        }
        sum.values().removeIf(w -> w == 0);
      }
      for (Subscription.Batch b; (b = follower.poll(200)) != null; ) {
        b.changes().forEach(c -> sum.merge(Arrays.toString(c.row()), c.weight(), Long::sum));
      }
      sum.values().removeIf(w -> w == 0);
      assertThat(sum.values()).allMatch(w -> w == 1);
      assertThat(sum.keySet()).containsExactlyInAnyOrderElementsOf(db.rows(query));
    }
  }

  @Test
  void aSlowFollowerIsCutOffAndToldSo() throws Exception {
    EngineOptions small =
        new EngineOptions(1000, 1 << 20, 1000, 10, 1L << 30, 5000, 60_000, 1L << 30, 30_000, 2, 1);
    try (Engine other =
        new Engine(small, TestEngine.records(), Connectors.NONE, TestEngine.CLOCK)) {
      other.start();
      other.execute("CREATE TABLE t (k INTEGER PRIMARY KEY)");
      Subscription follower = other.follow("SELECT k FROM t", Map.of());
      for (int i = 0; i < 30; i++) {
        other.execute("INSERT INTO t VALUES (" + i + ")");
      }
      assertThat(follower.ended()).contains("fell more than 10 changes behind");
      assertThat(other.execute("SELECT COUNT(*) AS n FROM t")).hasSize(1);
    }
  }

  @Test
  void fullViewsRefuseWhatIsNewAndGoOnAnswering() {
    EngineOptions tiny =
        new EngineOptions(1000, 1 << 20, 1000, 10, 3_000_000, 5000, 60_000, 1L << 30, 30_000, 2, 1);
    try (Engine other = new Engine(tiny, TestEngine.records(), Connectors.NONE, TestEngine.CLOCK)) {
      other.start();
      other.execute("CREATE TABLE t (k INTEGER PRIMARY KEY, s VARCHAR)");
      EngineException refused = null;
      int taken = 0;
      for (; refused == null && taken < 1000; taken++) {
        try {
          other.execute("INSERT INTO t VALUES (" + taken + ", '" + "x".repeat(10_000) + "')");
        } catch (EngineException e) {
          refused = e;
        }
      }
      assertThat(refused.code()).isEqualTo(EngineException.Code.LIMIT);
      assertThat(refused.hint()).contains("max-held-bytes");
      Result.Rows rows = (Result.Rows) other.execute("SELECT COUNT(*) AS n FROM t").get(0);
      assertThat(rows.rows().get(0)[0]).isEqualTo((long) taken - 1);
      other.execute("DELETE FROM t");
      assertThat(other.execute("INSERT INTO t VALUES (1, 'y')")).hasSize(1);
    }
  }

  private static String endOf(Subscription follower) throws InterruptedException {
    for (int i = 0; i < 100 && follower.ended() == null; i++) {
      follower.poll(100);
    }
    return follower.ended();
  }

  @Test
  void followersOfWhatIsDroppedReplacedOrStoppedAreToldSo() throws Exception {
    db.run("CREATE TABLE t (k INTEGER PRIMARY KEY, v INTEGER)");
    db.run("CREATE MATERIALIZED VIEW v AS SELECT v, COUNT(*) AS n FROM t GROUP BY v");
    db.run("CREATE MATERIALIZED VIEW w AS SELECT COUNT(*) AS n FROM t");
    try (Subscription ofView = db.engine.follow("SELECT * FROM v", Map.of());
        Subscription ofReplaced = db.engine.follow("SELECT * FROM w", Map.of());
        Subscription ofTable = db.engine.follow("SELECT * FROM t", Map.of())) {
      db.run("DROP MATERIALIZED VIEW v");
      assertThat(endOf(ofView)).isEqualTo("\"v\" was dropped or replaced; follow again");
      db.run("CREATE OR REPLACE MATERIALIZED VIEW w AS SELECT COUNT(*) + 1 AS n FROM t");
      assertThat(endOf(ofReplaced)).contains("\"w\" was dropped or replaced");
      db.engine
          .loop()
          .submit(
              new EpochInput(
                  List.of(
                      new dripledger.engine.epoch.EpochInput.Change(
                          db.engine.object("t").id(), neverThere())),
                  -1,
                  dripledger.engine.source.InputProgress.NOTHING,
                  null));
      assertThat(endOf(ofTable)).contains("which it reads, has stopped");
      String lookUp = "SELECT t.v FROM (VALUES (1)) AS x (k) JOIN t ON t.k = x.k";
      assertThat(db.rows("EXPLAIN " + lookUp).toString()).contains("by key k, as the other side");
      assertThatThrownBy(() -> db.rows(lookUp)).hasMessageContaining("\"t\" has stopped");
    }
  }

  /** Takes out a row that was never put in. */
  private static dripledger.engine.row.Page neverThere() {
    dripledger.engine.row.Schema schema =
        dripledger.engine.row.Schema.of(
            new dripledger.engine.row.Column(
                "k",
                dripledger.engine.row.ColumnType.of(dripledger.engine.row.ColumnType.Kind.INTEGER)
                    .notNull()),
            new dripledger.engine.row.Column(
                "v",
                dripledger.engine.row.ColumnType.of(
                    dripledger.engine.row.ColumnType.Kind.INTEGER)));
    dripledger.engine.row.Page page =
        new dripledger.engine.row.Page(new dripledger.engine.row.RowLayout(schema));
    BoxedRows.write(page.begin(), 99L, 1L);
    page.commit(-1);
    return page;
  }

  @Test
  void aViewWhoseDefinitionCannotBeStoredReplacesNothing() {
    db.run("CREATE TABLE t (k INTEGER PRIMARY KEY)");
    db.run("CREATE MATERIALIZED VIEW v AS SELECT COUNT(*) AS n FROM t");
    MemoryDefinitions definitions = (MemoryDefinitions) db.records.definitions();
    definitions.refuse(true);
    assertThatThrownBy(
            () -> db.run("CREATE OR REPLACE MATERIALIZED VIEW v AS SELECT MAX(k) AS n FROM t"))
        .hasMessageContaining("not now");
    assertThatThrownBy(() -> db.run("CREATE MATERIALIZED VIEW w AS SELECT MAX(k) AS n FROM t"))
        .hasMessageContaining("not now");
    definitions.refuse(false);
    db.run("INSERT INTO t VALUES (5), (7)");
    assertThat(db.rows("SELECT n FROM v")).containsExactly("[2]");
    assertThat(db.error("SELECT n FROM w").getMessage()).contains("no stream, table or view");
    db.run("CREATE MATERIALIZED VIEW w AS SELECT MAX(k) AS n FROM t");
    db.crash();
    assertThat(db.rows("SELECT n FROM v")).containsExactly("[2]");
    assertThat(db.rows("SELECT n FROM w")).containsExactly("[7]");
  }

  /** Keys that are long, texts and exact sums are kept apart from the blocks that refer to them. */
  @Test
  void aPinnedSnapshotStaysWhatItWas() {
    db.run("CREATE TABLE t (k INTEGER PRIMARY KEY, g VARCHAR, h INTEGER, d DOUBLE, s VARCHAR)");
    db.run("CREATE STREAM e (g VARCHAR, n BIGINT, s VARCHAR)");
    String[] views = {"by_text", "by_two", "shown", "latest", "all_of_it"};
    db.run(
        "CREATE MATERIALIZED VIEW by_text AS SELECT g, COUNT(*) AS n, SUM(d) AS d, MIN(s) AS lo, MAX(s) AS hi,"
            + " COUNT(DISTINCT h) AS hs FROM t GROUP BY g;"
            + "CREATE MATERIALIZED VIEW by_two AS SELECT h, g, AVG(d) AS d, MAX(d) AS m FROM t GROUP BY g, h;"
            + "CREATE MATERIALIZED VIEW shown AS SELECT g || '!' AS g, SUM(h) AS h FROM t GROUP BY g HAVING SUM(h) > 6;"
            + "CREATE MATERIALIZED VIEW latest AS SELECT g, MAX_BY(s, n) AS s, MAX(n) AS n FROM e GROUP BY g;"
            + "CREATE MATERIALIZED VIEW all_of_it AS SELECT COUNT(*) AS n, SUM(d) AS d, MAX(s) AS s FROM t");
    long seed = System.nanoTime();
    Random random = new Random(seed);
    List<Pinned> pins = new ArrayList<>();
    List<Map<String, List<String>>> then = new ArrayList<>();
    for (int round = 0; round < 300; round++) {
      int k = random.nextInt(25);
      String g = "'" + "gate ".repeat(1 + random.nextInt(12)) + random.nextInt(3) + "'";
      db.run(
          random.nextInt(3) == 0
              ? "DELETE FROM t WHERE k = " + k + " OR k = " + random.nextInt(25)
              : String.format(
                  "BEGIN; DELETE FROM t WHERE k = %d; INSERT INTO t VALUES (%d, %s, %d, %s, '%s'); COMMIT",
                  k,
                  k,
                  random.nextInt(9) == 0 ? "NULL" : g,
                  random.nextInt(5),
                  random.nextInt(1000) / 7.0,
                  "s".repeat(random.nextInt(40)) + random.nextInt(4)));
      db.push("e", new Object[] {"G" + random.nextInt(4), (long) random.nextInt(50), "s" + round});
      if (random.nextInt(3) == 0) {
        Pinned pinned = db.engine.pin();
        pins.add(pinned);
        then.add(texts(pinned.snapshot(), views));
      }
      if (pins.size() > 6) {
        int gone = random.nextInt(pins.size());
        pins.remove(gone).close();
        then.remove(gone);
      }
      for (int i = 0; i < pins.size(); i++) {
        assertThat(texts(pins.get(i).snapshot(), views)).as("seed " + seed).isEqualTo(then.get(i));
      }
    }
    pins.forEach(Pinned::close);
    assertThat(db.rows("SELECT g, n, d, lo, hi, hs FROM by_text").stream().sorted())
        .as("seed " + seed)
        .containsExactlyElementsOf(
            db
                .rows(
                    "SELECT g, COUNT(*), SUM(d), MIN(s), MAX(s), COUNT(DISTINCT h) FROM t GROUP BY g")
                .stream()
                .sorted()
                .toList());
  }

  private Map<String, List<String>> texts(Snapshot snapshot, String... views) {
    Map<String, List<String>> all = new HashMap<>();
    for (String view : views) {
      RelationVersion version = version(snapshot, view);
      List<String> ordered = rows(version).stream().map(Arrays::toString).toList();
      List<String> scanned = new ArrayList<>();
      version.scan(
          page -> {
            for (int i = 0; i < page.size(); i++) {
              scanned.add(
                  Arrays.toString(BoxedRows.read(version.layout(), page.bytes(), page.start(i))));
            }
          });
      assertThat(scanned).as(view).hasSize((int) version.count());
      assertThat(scanned).as(view).containsExactlyInAnyOrderElementsOf(ordered);
      all.put(view, ordered);
    }
    return all;
  }

  @Test
  void longKeysAreLookedUpWhileOthersComeAndGo() throws Exception {
    db.run("CREATE TABLE t (k INTEGER PRIMARY KEY, g VARCHAR)");
    db.run("CREATE MATERIALIZED VIEW v AS SELECT g, COUNT(*) AS n FROM t GROUP BY g");
    String stays = "a key that is too long to be kept inline, and stays";
    db.run("INSERT INTO t VALUES (0, '" + stays + "')");
    AtomicBoolean running = new AtomicBoolean(true);
    AtomicReference<Throwable> wrong = new AtomicReference<>();
    Thread reader =
        new Thread(
            () -> {
              try {
                while (running.get()) {
                  try (Pinned pinned = db.engine.pin()) {
                    int[] found = new int[1];
                    version(pinned.snapshot(), "v")
                        .find(new Object[] {stays}, (bytes, at) -> ++found[0] > 0);
                    assertThat(found[0]).isEqualTo(1);
                  }
                }
              } catch (Throwable e) {
                wrong.set(e);
              }
            });
    reader.start();
    for (int round = 1; round <= 150; round++) {
      StringBuilder rows = new StringBuilder("DELETE FROM t WHERE k > 0; INSERT INTO t VALUES ");
      for (int k = 1; k <= 40; k++) {
        rows.append(k == 1 ? "" : ", ")
            .append("(" + k + ", 'another key that is long, number " + round + k + "')");
      }
      db.run(rows.toString());
    }
    running.set(false);
    reader.join();
    assertThat(wrong.get()).isNull();
    assertThat(db.rows("SELECT COUNT(*) AS n FROM v")).containsExactly("[41]");
  }
}
