package dripledger.server.records;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.demo.PostgresCluster;
import dripledger.engine.catalog.DefinitionStore.Past;
import dripledger.engine.catalog.DefinitionStore.StoredDefinition;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.source.Drift;
import dripledger.engine.source.Reject;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.attribute.PosixFilePermissions;
import java.sql.Connection;
import java.sql.ResultSet;
import java.sql.Statement;
import java.time.LocalDateTime;
import java.util.List;
import java.util.concurrent.CopyOnWriteArrayList;
import org.flywaydb.core.Flyway;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;
import org.postgresql.ds.PGSimpleDataSource;

/** What is kept besides events and state: definitions, secrets, drift, rejects. */
class RecordsTest {
  private static final PGSimpleDataSource DATA_SOURCE = new PGSimpleDataSource();
  private static PostgresCluster cluster;

  @TempDir Path folder;

  @BeforeAll
  static void open() throws Exception {
    cluster = PostgresCluster.temporary();
    DATA_SOURCE.setURL(cluster.jdbcUrl(PostgresCluster.DATABASE));
    DATA_SOURCE.setUser(PostgresCluster.USER);
    DATA_SOURCE.setPassword("loopback");
    Flyway.configure().dataSource(DATA_SOURCE).load().migrate();
  }

  @AfterAll
  static void close() {
    cluster.close();
  }

  private static StoredDefinition definition(long id, String name, long alters, String begin) {
    return new StoredDefinition(
        id,
        name,
        alters == 0 ? "stream" : "alter",
        alters,
        "statement " + id,
        begin == null ? null : new SourcePosition(begin));
  }

  @Test
  void definitionsComeBackInOrderAndTheirHistoryStays() {
    PostgresDefinitions definitions = new PostgresDefinitions(DATA_SOURCE, Fence.NONE);
    long scan = definitions.nextId();
    long gate = definitions.nextId();
    long altered = definitions.nextId();
    assertThat(List.of(scan, gate, altered)).isSorted().doesNotHaveDuplicates();
    definitions.apply(List.of(definition(scan, "scan", 0, "0:7")), List.of());
    definitions.apply(List.of(definition(gate, "gate", 0, null)), List.of());
    definitions.apply(List.of(definition(altered, "scan", scan, null)), List.of());
    List<StoredDefinition> loaded = definitions.load();
    assertThat(loaded).hasSize(3);
    assertThat(loaded.get(0)).isEqualTo(definition(scan, "scan", 0, "0:7"));
    assertThat(loaded.get(2).alters()).isEqualTo(scan);
    assertThatThrownBy(
            () -> definitions.apply(List.of(definition(99, "gate", 0, null)), List.of(scan)))
        .as("a name is taken once")
        .isInstanceOf(RecordsException.class);
    assertThat(definitions.load()).as("and nothing of it is done").hasSize(3);
    definitions.apply(List.of(), List.of(scan));
    assertThat(definitions.load()).extracting(StoredDefinition::name).containsExactly("gate");
    List<Past> history = definitions.history();
    assertThat(history).extracting(Past::sql).contains("statement " + scan, "statement " + altered);
    assertThat(history)
        .filteredOn(p -> p.sql().equals("statement " + scan))
        .allSatisfy(p -> assertThat(p.droppedAt()).isAfterOrEqualTo(p.definedAt()));
    assertThat(history)
        .filteredOn(p -> p.name().equals("gate"))
        .allSatisfy(p -> assertThat(p.droppedAt()).isNull());
    definitions.apply(List.of(), List.of(gate));
  }

  @Test
  void epochsAreNeverGivenTwice() {
    PostgresDefinitions definitions = new PostgresDefinitions(DATA_SOURCE, Fence.NONE);
    long first = definitions.reserveEpochs(100);
    assertThat(definitions.reserveEpochs(100)).isEqualTo(first + 100);
    definitions.returnEpochs(first + 120);
    assertThat(definitions.reserveEpochs(1)).isEqualTo(first + 120);
  }

  @Test
  void aSecretIsSealedWithItsNameAndTheKey() throws Exception {
    Path key = folder.resolve("keys").resolve("secrets.key");
    Secrets secrets = new Secrets(DATA_SOURCE, key);
    assertThat(PosixFilePermissions.toString(Files.getPosixFilePermissions(key)))
        .isEqualTo("rw-------");
    secrets.set("hub", "größe 7");
    secrets.set("hub", "größe 8");
    secrets.set("other", "größe 8");
    assertThat(new Secrets(DATA_SOURCE, key).value("hub")).isEqualTo("größe 8");
    assertThat(secrets.names()).containsExactly("hub", "other");
    assertThat(secrets.value("nowhere")).isNull();
    try (Connection c = DATA_SOURCE.getConnection();
        Statement s = c.createStatement()) {
      try (ResultSet r = s.executeQuery("SELECT count(DISTINCT sealed), count(*) FROM secret")) {
        r.next();
        assertThat(r.getInt(1)).as("the same value looks different").isEqualTo(r.getInt(2));
      }
      // Another name's value in its place is not taken for it.
      s.execute(
          "UPDATE secret AS a SET sealed = b.sealed, nonce = b.nonce FROM secret AS b"
              + " WHERE a.name = 'hub' AND b.name = 'other'");
    }
    assertThatThrownBy(() -> secrets.value("hub")).hasMessageContaining("set it again");
    Secrets elsewhere = new Secrets(DATA_SOURCE, folder.resolve("another.key"));
    assertThatThrownBy(() -> elsewhere.value("other"))
        .hasMessage("secret \"other\" was sealed with another key; set it again");
    assertThat(secrets.remove("hub")).isTrue();
    assertThat(secrets.remove("hub")).isFalse();
    Path damaged = folder.resolve("damaged.key");
    Files.writeString(damaged, "00ff");
    assertThatThrownBy(() -> new Secrets(DATA_SOURCE, damaged)).hasMessageContaining("is damaged");
    secrets.remove("other");
  }

  @Test
  void driftIsKeptAsLongAsItsObject() {
    PostgresDefinitions definitions = new PostgresDefinitions(DATA_SOURCE, Fence.NONE);
    PostgresDrift drift = new PostgresDrift(DATA_SOURCE);
    long id = definitions.nextId();
    definitions.apply(List.of(definition(id, "drifting", 0, null)), List.of());
    Drift colour = new Drift("colour", "new field", 7, "VARCHAR", "\"r\u0000d\"", "t-0@1");
    Drift grams = new Drift("grams", "type", 1, "VARCHAR", "\"heavy\"", "t-0@2");
    drift.save(id, List.of(colour));
    drift.save(id, List.of(colour, grams));
    assertThat(drift.load(id)).extracting(Drift::count).containsExactly(7L, 1L);
    assertThat(drift.load(id).get(0).example()).isEqualTo("\"r d\"");
    assertThat(drift.load(id).get(1)).isEqualTo(grams);
    definitions.apply(List.of(), List.of(id));
    assertThat(drift.load(id)).isEmpty();
    drift.save(id, List.of(grams));
    assertThat(drift.load(id)).as("it is gone, also for who comes late").isEmpty();
  }

  @Test
  void rejectsAreFoundByObjectAndNumber() throws Exception {
    Rejects rejects = new Rejects(DATA_SOURCE);
    LocalDateTime at = LocalDateTime.of(2026, 3, 2, 6, 14, 9, 120_000_000);
    try (Connection c = DATA_SOURCE.getConnection()) {
      Rejects.insert(
          c,
          List.of(
              new Reject(71, at, "first", null, new byte[] {0, 1}, "t-0@1"),
              new Reject(72, at, "other", null, null, "t-0@2"),
              new Reject(71, at, "second", new byte[] {2}, null, "t-0@3")),
          10);
      List<dripledger.engine.source.RejectStore.Stored> found = rejects.find(71, List.of(), 10);
      assertThat(found).extracting(s -> s.reject().reason()).containsExactly("first", "second");
      assertThat(found.get(0).reject().raw()).containsExactly(0, 1);
      assertThat(found.get(0).reject().at()).isEqualTo(at);
      assertThat(found.get(1).reject().key()).containsExactly(2);
      long second = found.get(1).id();
      assertThat(rejects.find(71, List.of(second), 10)).hasSize(1);
      assertThat(rejects.find(72, List.of(second), 10)).as("another's number").isEmpty();
      assertThat(rejects.find(71, List.of(), 1)).hasSize(1);
      Rejects.remove(c, List.of(second));
      assertThat(rejects.find(71, List.of(), 10)).hasSize(1);
      for (int i = 0; i < 15; i++) {
        Rejects.insert(c, List.of(new Reject(71, at, "r" + i, null, null, "o")), 10);
      }
      assertThat(rejects.find(71, List.of(), 100)).hasSize(10);
      assertThat(rejects.find(72, List.of(), 100)).as("each has its own bound").hasSize(1);
    }
  }

  @Test
  void aDefinitionWhoseAnswerIsLostIsStoredOnce() {
    LostAnswers losing = new LostAnswers(DATA_SOURCE);
    PostgresDefinitions definitions = new PostgresDefinitions(losing.dataSource(), Fence.NONE);
    long id = definitions.nextId();
    losing.lose(2);
    definitions.apply(List.of(definition(id, "lost", 0, null)), List.of());
    assertThat(definitions.load()).filteredOn(d -> d.name().equals("lost")).hasSize(1);
    assertThat(definitions.history()).filteredOn(p -> p.name().equals("lost")).hasSize(1);
    losing.lose(1);
    definitions.apply(List.of(), List.of(id));
    assertThat(definitions.load()).filteredOn(d -> d.name().equals("lost")).isEmpty();
  }

  @Test
  void aDatabaseServesOneServiceOnly() throws Exception {
    List<String> lost = new CopyOnWriteArrayList<>();
    Ownership first = new Ownership(DATA_SOURCE);
    first.onLost(lost::add);
    assertThatThrownBy(() -> new Ownership(DATA_SOURCE))
        .isInstanceOf(IllegalStateException.class)
        .hasMessageContaining("another Drip Ledger service is using this database");
    PostgresDefinitions definitions = new PostgresDefinitions(DATA_SOURCE, first);
    long id = definitions.nextId();
    definitions.apply(List.of(definition(id, "owned", 0, null)), List.of());
    definitions.apply(List.of(), List.of(id));
    // Its session ends, and another service is faster than it is.
    try (Connection c = DATA_SOURCE.getConnection();
        Statement s = c.createStatement()) {
      s.execute("UPDATE owner SET token = 'another'");
      s.execute(
          "SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND granted");
    }
    assertThatThrownBy(
            () -> definitions.apply(List.of(definition(id, "owned", 0, null)), List.of()))
        .isInstanceOf(Ownership.LostException.class);
    for (int i = 0; i < 200 && lost.isEmpty(); i++) {
      Thread.sleep(50);
    }
    assertThat(lost).containsExactly("another service has taken over this database");
    first.close();
    new Ownership(DATA_SOURCE).close();
  }
}
