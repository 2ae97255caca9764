package dripledger.server.records;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.demo.PostgresCluster;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.checkpoint.CheckpointStore.SavedNode;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Reject;
import dripledger.engine.state.StateChunks;
import java.nio.charset.StandardCharsets;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.flywaydb.core.Flyway;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;
import org.postgresql.ds.PGSimpleDataSource;

class PostgresCheckpointsTest {
  private static final PGSimpleDataSource DATA_SOURCE = new PGSimpleDataSource();
  private final PostgresCheckpoints checkpoints =
      new PostgresCheckpoints(DATA_SOURCE, Fence.NONE, 3);

  @BeforeAll
  static void open() throws Exception {
    PostgresCluster cluster = PostgresCluster.temporary();
    DATA_SOURCE.setURL(cluster.jdbcUrl(PostgresCluster.DATABASE));
    DATA_SOURCE.setUser(PostgresCluster.USER);
    DATA_SOURCE.setPassword("loopback");
    Flyway.configure().dataSource(DATA_SOURCE).load().migrate();
  }

  private void save(long epoch, Map<String, Long> changes, List<Reject> rejects, boolean whole) {
    checkpoints.write(
        epoch,
        epoch * 10,
        new InputProgress(Map.of(7L, new SourcePosition("0:" + epoch)), rejects, List.of()),
        writer -> {
          writer.node(new SavedNode(5, "plan", new byte[] {1}, 1));
          if (whole) {
            writer.forget(5);
          }
          StateChunks.Writer entries = StateChunks.entries(chunk -> writer.chunk(5, 0, chunk));
          changes.forEach(
              (key, count) -> {
                byte[] bytes = key.getBytes(StandardCharsets.UTF_8);
                entries.key(bytes, 0, bytes.length).put(new byte[20], 0, 20).end(count);
              });
          entries.close();
        });
  }

  private List<byte[]> chunks(long node) {
    List<byte[]> chunks = new ArrayList<>();
    checkpoints.read(node, 0, chunks::add);
    return chunks;
  }

  private static Reject reject(int n) {
    return new Reject(
        5, LocalDateTime.of(2026, 3, 2, 6, 0), "reason " + n, null, new byte[] {1}, "x");
  }

  @Test
  void chunksAddUpAreMergedAndReplacedAsAWhole() {
    Random random = new Random(1);
    Map<String, Long> model = new HashMap<>();
    int most = 0;
    for (int epoch = 1; epoch <= 60; epoch++) {
      Map<String, Long> changes = new HashMap<>();
      for (int i = epoch == 1 ? 5000 : 100; i > 0; i--) {
        changes.put("key " + random.nextInt(8000), (long) random.nextInt(3) * epoch);
      }
      model.putAll(changes);
      model.values().removeIf(count -> count == 0);
      save(epoch, changes, List.of(reject(epoch)), epoch == 1);
      while (checkpoints.tidy()) {
        assertThat(checkpoints.latest().epoch()).isEqualTo(epoch);
      }
      List<byte[]> chunks = chunks(5);
      most = Math.max(most, chunks.size());
      Map<String, Long> read = new HashMap<>();
      StateChunks.readEntries(
          chunks::forEach,
          (bytes, key, keyLength, length, count) ->
              read.put(new String(bytes, key, keyLength, StandardCharsets.UTF_8), count));
      read.values().removeIf(count -> count == 0);
      assertThat(read).as("epoch %d", epoch).isEqualTo(model);
    }
    assertThat(most).as("merged now and then").isBetween(2, 20);
    assertThat(checkpoints.latest().sequence()).isEqualTo(600);
    assertThat(checkpoints.latest().positions()).containsEntry(7L, new SourcePosition("0:60"));
    assertThat(checkpoints.latest().nodes().get(5L).plan()).isEqualTo("plan");
    List<byte[]> chunks = chunks(5);
    List<String> kept = new ArrayList<>();
    new Rejects(DATA_SOURCE).scan(r -> kept.add(r.reject().reason()));
    assertThat(kept).as("the newest three").containsExactly("reason 58", "reason 59", "reason 60");
    assertThatThrownBy(
            () ->
                checkpoints.write(
                    99,
                    990,
                    new InputProgress(Map.of(), List.of(reject(99)), List.of()),
                    writer -> {
                      writer.forget(5);
                      throw new IllegalStateException("killed midway");
                    }))
        .hasMessage("killed midway");
    assertThat(checkpoints.latest().epoch()).as("whole or not at all").isEqualTo(60);
    assertThat(chunks(5)).hasSameSizeAs(chunks);
  }

  @Test
  void aCommitWhoseAnswerIsLostIsThereOnce() {
    LostAnswers losing = new LostAnswers(DATA_SOURCE);
    PostgresCheckpoints lossy = new PostgresCheckpoints(losing.dataSource(), Fence.NONE, 3);
    for (long epoch = 100; epoch < 105; epoch++) {
      long number = epoch;
      Runnable write =
          () ->
              lossy.write(
                  number,
                  number * 10,
                  InputProgress.NOTHING,
                  writer -> {
                    writer.node(new SavedNode(77, "plan", new byte[] {1}, 1));
                    writer.chunk(77, 0, new byte[] {3, 1, (byte) number});
                  });
      losing.lose(epoch % 2 == 0 ? 1 : 0);
      if (epoch % 2 == 0) {
        assertThatThrownBy(write::run).hasMessageContaining("was lost");
      }
      write.run(); // as the checkpointer does
      assertThat(lossy.latest().epoch()).isEqualTo(epoch);
      assertThat(chunks(77)).as("each delta once").hasSize((int) (epoch - 99));
    }
  }
}
