package dripledger.server.records;

import static org.assertj.core.api.Assertions.assertThat;

import com.zaxxer.hikari.HikariConfig;
import com.zaxxer.hikari.HikariDataSource;
import dripledger.demo.PostgresCluster;
import dripledger.engine.catalog.DefinitionStore.StoredDefinition;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Ledger;
import java.sql.Connection;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.Instant;
import java.util.ArrayList;
import java.util.Collections;
import java.util.List;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.TimeUnit;
import org.flywaydb.core.Flyway;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;

class PostgresLedgerTest {
  private static final RowLayout LAYOUT =
      new RowLayout(
          Schema.of(
              new Column("k", ColumnType.of(ColumnType.Kind.BIGINT)),
              new Column("s", ColumnType.varchar(-1))));

  private static PostgresCluster cluster;
  private static HikariDataSource dataSource;
  private PostgresLedger ledger;
  private final List<String> received = Collections.synchronizedList(new ArrayList<>());

  @BeforeAll
  static void start() throws Exception {
    cluster = PostgresCluster.temporary();
    HikariConfig config = new HikariConfig();
    config.setJdbcUrl(cluster.jdbcUrl(PostgresCluster.DATABASE));
    config.setUsername(PostgresCluster.USER);
    config.setPassword("loopback");
    config.setConnectionTimeout(2000);
    dataSource = new HikariDataSource(config);
    Flyway.configure().dataSource(dataSource).load().migrate();
  }

  @AfterAll
  static void stop() {
    dataSource.close();
    cluster.close();
  }

  @BeforeEach
  void open() {
    new PostgresDefinitions(dataSource, Fence.NONE).apply(List.of(), List.of(1L, 2L));
    ledger = reopened();
  }

  private PostgresLedger reopened() {
    PostgresLedger opened = new PostgresLedger(dataSource, Fence.NONE, 1 << 20, 100);
    opened.receiver(
        (sequence, entries, positions) ->
            entries.forEach(
                e -> received.add(sequence + "/" + e.relationId() + "/" + e.changes().size())));
    return opened;
  }

  @AfterEach
  void close() {
    ledger.close();
  }

  private static Page page(String text, long... keys) {
    Page page = new Page(LAYOUT);
    for (long key : keys) {
      BoxedRows.write(page.begin(), key, text);
      page.commit(key < 0 ? -1 : 1);
    }
    return page;
  }

  private static List<String> texts(Page page) {
    List<String> rows = new ArrayList<>();
    for (int i = 0; i < page.size(); i++) {
      Object[] row = BoxedRows.read(LAYOUT, page.bytes(), page.start(i));
      rows.add(row[0] + row[1].toString() + " " + page.weight(i));
    }
    return rows;
  }

  private List<String> all(long relation) {
    List<String> rows = new ArrayList<>();
    ledger.read(
        relation,
        new Page(LAYOUT),
        0,
        Long.MAX_VALUE,
        (page, partition) -> rows.addAll(texts(page)));
    return rows;
  }

  @Test
  void whatIsAppendedIsReadAndReplayedInOrder() {
    long base = ledger.lastSequence();
    Ledger.Receipt first = ledger.append(List.of(new Ledger.Entry(1, page("a", 1, 2)))).join();
    Ledger.Receipt second =
        ledger
            .append(List.of(new Ledger.Entry(1, page("b", -1)), new Ledger.Entry(2, page("c", 9))))
            .join();
    assertThat(first.sequence()).isEqualTo(base + 1);
    assertThat(second.positions()).containsExactly(3, 1);
    assertThat(all(1)).containsExactly("1a 1", "2a 1", "-1b -1");
    List<String> replayed = new ArrayList<>();
    ledger.replay(
        base,
        id -> id == 1 ? new Page(LAYOUT) : null,
        (sequence, entries, positions) ->
            entries.forEach(e -> replayed.addAll(texts(e.changes()))));
    assertThat(replayed).containsExactly("1a 1", "2a 1", "-1b -1");
    assertThat(received)
        .containsExactly((base + 1) + "/1/2", (base + 2) + "/1/1", (base + 2) + "/2/1");
  }

  @Test
  void positionsGoOnAfterARestart() {
    ledger.append(List.of(new Ledger.Entry(1, page("a", 1, 2, 3)))).join();
    long last = ledger.lastSequence();
    ledger.close();
    ledger = reopened();
    assertThat(ledger.lastSequence()).isEqualTo(last);
    assertThat(ledger.position(1)).isEqualTo(3);
    assertThat(ledger.append(List.of(new Ledger.Entry(1, page("b", 4)))).join().positions())
        .containsExactly(4);
  }

  @Test
  void manyAppendersShareCommits() throws Exception {
    long base = ledger.lastSequence();
    List<Thread> threads = new ArrayList<>();
    List<CompletableFuture<Ledger.Receipt>> receipts =
        Collections.synchronizedList(new ArrayList<>());
    for (int t = 0; t < 4; t++) {
      int from = t * 1000;
      Thread thread =
          new Thread(
              () -> {
                for (int i = 0; i < 500; i++) {
                  receipts.add(ledger.append(List.of(new Ledger.Entry(1, page("x", from + i)))));
                }
              });
      threads.add(thread);
      thread.start();
    }
    for (Thread thread : threads) {
      thread.join();
    }
    List<Long> positions = new ArrayList<>();
    for (CompletableFuture<Ledger.Receipt> receipt : receipts) {
      positions.add(receipt.join().positions()[0]);
    }
    assertThat(positions).doesNotHaveDuplicates().contains(1L, 2000L);
    assertThat(all(1)).hasSize(2000).doesNotHaveDuplicates();
    assertThat(ledger.lastSequence() - base).as("fewer commits than appends").isLessThan(1500);
  }

  @Test
  void appendsWaitForADatabaseThatIsAway() throws Exception {
    ledger.append(List.of(new Ledger.Entry(1, page("before", 1)))).join();
    cluster.stop();
    CompletableFuture<Ledger.Receipt> during =
        ledger.append(List.of(new Ledger.Entry(1, page("during", 2))));
    Thread.sleep(1500);
    assertThat(during).isNotDone();
    cluster.start();
    assertThat(during.get(30, TimeUnit.SECONDS).positions()).containsExactly(2);
    assertThat(all(1)).containsExactly("1before 1", "2during 1");
  }

  @Test
  void droppingForgetsTheEventsAndKeepsTheHistory() throws Exception {
    PostgresDefinitions definitions = new PostgresDefinitions(dataSource, Fence.NONE);
    definitions.apply(
        List.of(new StoredDefinition(1, "scan", "stream", 0, "CREATE STREAM scan …", null)),
        List.of());
    ledger.append(List.of(new Ledger.Entry(1, page("a", 1)))).join();
    assertThat(definitions.load()).extracting(StoredDefinition::name).containsExactly("scan");
    definitions.apply(List.of(), List.of(1L));
    assertThat(definitions.load()).isEmpty();
    assertThat(all(1)).isEmpty();
    long first = definitions.reserveEpochs(100);
    assertThat(definitions.reserveEpochs(5)).isEqualTo(first + 100);
    definitions.returnEpochs(first + 20);
    assertThat(definitions.reserveEpochs(1)).isEqualTo(first + 20);
    assertThat(definitions.nextId()).isLessThan(definitions.nextId());
  }

  private long segments(long relation) throws SQLException {
    try (Connection c = dataSource.getConnection();
        Statement s = c.createStatement();
        ResultSet r =
            s.executeQuery("SELECT count(*) FROM ledger_segment WHERE relation_id = " + relation)) {
      r.next();
      return r.getLong(1);
    }
  }

  private void checkpointAt(long sequence) {
    new PostgresCheckpoints(dataSource, Fence.NONE, 10)
        .write(sequence, sequence, InputProgress.NOTHING, writer -> {});
  }

  @Test
  void behindTheCheckpointChangesBecomeRowsAndSmallSegmentsLargeOnes() throws Exception {
    LedgerUpkeep upkeep = new LedgerUpkeep(dataSource, Fence.NONE);
    for (int i = 0; i < 200; i++) {
      ledger
          .append(
              List.of(new Ledger.Entry(1, page("a", i)), new Ledger.Entry(2, page("b", i))),
              InputProgress.NOTHING,
              i == 7 ? "seven" : null)
          .get();
    }
    long last = ledger.lastSequence();
    assertThat(ledger.made("seven")).isEqualTo(last - 192);
    assertThat(ledger.made("eight")).isEqualTo(-1);
    assertThat(upkeep.worthFolding(1, 3)).isTrue();
    assertThat(upkeep.worthFolding(1, 150)).isFalse();
    checkpointAt(last - 50);
    assertThat(upkeep.fold(1, last, sink -> {})).as("recovery would read these").isFalse();
    assertThat(upkeep.forget(1, Instant.now().plusSeconds(60))).isEqualTo(150);
    while (upkeep.merge(2, LAYOUT)) {
      assertThat(segments(2)).isLessThan(200);
    }
    assertThat(segments(2)).isEqualTo(51);
    checkpointAt(last);
    assertThat(upkeep.fold(1, last, sink -> sink.accept(page("r", 11, 12, 13)))).isTrue();
    assertThat(segments(1)).isEqualTo(1);
    ledger.append(List.of(new Ledger.Entry(1, page("a", 14)))).get();
    assertThat(all(1)).containsExactly("11r 1", "12r 1", "13r 1", "14a 1");
    assertThat(all(2)).hasSize(200).startsWith("0b 1", "1b 1").endsWith("198b 1", "199b 1");
    List<Long> replayed = new ArrayList<>();
    ledger.replay(last, id -> new Page(LAYOUT), (sequence, entries, p) -> replayed.add(sequence));
    assertThat(replayed).containsExactly(last + 1);
    assertThat(upkeep.forgetChanges(Instant.now().plusSeconds(60))).isPositive();
    assertThat(ledger.made("seven")).isEqualTo(-1);
  }
}
