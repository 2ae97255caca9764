package dripledger.server.records;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.demo.PostgresCluster;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.checkpoint.CheckpointStore.SavedNode;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Reject;
import dripledger.engine.state.ByteArena;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
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

  private void save(long epoch, ByteArena arena, List<Reject> rejects, boolean whole) {
    var capture = arena.capture(whole);
    checkpoints.write(
        epoch,
        epoch * 10,
        new InputProgress(Map.of(7L, new SourcePosition("0:" + epoch)), rejects, List.of()),
        writer -> {
          writer.node(new SavedNode(5, "plan", new byte[] {1}, 1));
          if (whole) {
            writer.forget(5);
          }
          if (capture != null) {
            capture.encode(chunk -> writer.chunk(5, 0, chunk));
          }
        });
  }

  private static Reject reject(int n) {
    return new Reject(
        5, LocalDateTime.of(2026, 3, 2, 6, 0), "reason " + n, null, new byte[] {1}, "x");
  }

  @Test
  void chunksAddUpAreMergedAndReplacedAsAWhole() {
    ByteArena arena = new ByteArena();
    List<Integer> blocks = new ArrayList<>();
    for (int epoch = 1; epoch <= 20; epoch++) {
      for (int i = 0; i < 500; i++) {
        int block = arena.allocate(64);
        arena.chunk(block)[arena.offset(block)] = (byte) epoch;
        blocks.add(block);
      }
      save(epoch, arena, List.of(reject(epoch)), epoch == 1);
      while (checkpoints.tidy()) {
        assertThat(checkpoints.latest().epoch()).isEqualTo(epoch);
      }
    }
    assertThat(checkpoints.latest().sequence()).isEqualTo(200);
    assertThat(checkpoints.latest().positions()).containsEntry(7L, new SourcePosition("0:20"));
    assertThat(checkpoints.latest().nodes().get(5L).plan()).isEqualTo("plan");
    List<byte[]> chunks = checkpoints.read(5, 0);
    assertThat(chunks.size()).as("merged now and then").isLessThan(30);
    ByteArena again = new ByteArena();
    again.restore(chunks);
    for (int i = 0; i < blocks.size(); i++) {
      int block = blocks.get(i);
      assertThat(again.chunk(block)[again.offset(block)]).isEqualTo((byte) (1 + i / 500));
    }
    List<String> kept = new ArrayList<>();
    new Rejects(DATA_SOURCE).scan(r -> kept.add(r.reject().reason()));
    assertThat(kept).as("the newest three").containsExactly("reason 18", "reason 19", "reason 20");
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
    assertThat(checkpoints.latest().epoch()).as("whole or not at all").isEqualTo(20);
    assertThat(checkpoints.read(5, 0)).hasSameSizeAs(chunks);
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
      assertThat(lossy.read(77, 0)).as("each delta once").hasSize((int) (epoch - 99));
    }
  }
}
