package dripledger.engine.state;

import static org.assertj.core.api.Assertions.assertThat;

import java.nio.file.Path;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Deque;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;

/** Records that wait on disk come back as they were, also from what checkpoints have saved. */
class SpoolTest {
  @TempDir Path directory;

  private static byte[] record(Random random) {
    byte[] record = new byte[random.nextInt(5) == 0 ? 40_000 : random.nextInt(50)];
    random.nextBytes(record);
    return record;
  }

  private static List<byte[]> waiting(Spool spool) {
    List<byte[]> all = new ArrayList<>();
    spool.read(
        spool.first(),
        record -> {
          all.add(record);
          return true;
        });
    return all;
  }

  private static void save(Spool spool, boolean whole, List<byte[]> chunks) {
    Durable.Capture capture = spool.capture(whole);
    if (whole) {
      chunks.clear();
    }
    if (capture != null) {
      capture.encode(chunks::add);
      capture.committed();
      capture.close();
    }
  }

  @Test
  void recordsAreTakenInTheirOrder() {
    Random random = new Random(1);
    Deque<byte[]> expected = new ArrayDeque<>();
    try (Closing spool = new Closing(directory)) {
      long put = 0;
      for (int i = 0; i < 3000; i++) {
        if (random.nextInt(3) > 0 || expected.isEmpty()) {
          byte[] record = record(random);
          spool.of.put(record);
          expected.add(record);
          put++;
        } else {
          assertThat(spool.of.take()).isEqualTo(expected.remove());
        }
        assertThat(spool.of.end()).isEqualTo(put);
        assertThat(spool.of.first()).isEqualTo(put - expected.size());
      }
      long bytes = expected.stream().mapToLong(r -> r.length).sum();
      assertThat(spool.of.bytes()).isEqualTo(bytes);
      assertThat(waiting(spool.of)).containsExactly(expected.toArray(byte[][]::new));
    }
  }

  @Test
  void readingEndsWhenThereIsEnough() {
    try (Closing spool = new Closing(directory)) {
      for (byte i = 0; i < 10; i++) {
        spool.of.put(new byte[] {i});
      }
      spool.of.take();
      List<Byte> read = new ArrayList<>();
      spool.of.read(
          4,
          record -> {
            read.add(record[0]);
            return read.size() < 3;
          });
      assertThat(read).containsExactly((byte) 4, (byte) 5, (byte) 6);
    }
  }

  /** Whatever is put, taken and saved in whatever order: what was saved last comes back. */
  @Test
  void whatWasSavedComesBack() {
    for (long seed = 1; seed <= 20; seed++) {
      Random random = new Random(seed);
      List<byte[]> chunks = new ArrayList<>();
      List<byte[]> expected = List.of();
      long end = 0;
      try (Closing spool = new Closing(directory)) {
        save(spool.of, true, chunks);
        for (int i = 0; i < 200; i++) {
          int step = random.nextInt(10);
          if (step < 5) {
            spool.of.put(record(random));
          } else if (step < 8 && spool.of.first() < spool.of.end()) {
            spool.of.take();
          } else {
            save(spool.of, random.nextInt(6) == 0, chunks);
            expected = waiting(spool.of);
            end = spool.of.end();
          }
        }
      }
      try (Closing restored = new Closing(directory)) {
        restored.of.restore(sink -> chunks.forEach(c -> sink.accept(c.clone())));
        assertThat(waiting(restored.of))
            .as("seed " + seed)
            .containsExactly(expected.toArray(byte[][]::new));
        restored.of.goOnAt(end);
        byte[] next = {1, 2, 3};
        restored.of.put(next);
        assertThat(restored.of.end()).isEqualTo(end + 1);
        List<byte[]> more = new ArrayList<>(expected);
        more.add(next);
        assertThat(waiting(restored.of)).containsExactly(more.toArray(byte[][]::new));
      }
    }
  }

  /** A capture is what it was when it was made, whatever is taken or put before it is encoded. */
  @Test
  void aCaptureDoesNotChange() {
    try (Closing spool = new Closing(directory)) {
      byte[] first = {1};
      byte[] second = new byte[100_000];
      Arrays.fill(second, (byte) 2);
      spool.of.put(first);
      spool.of.put(second);
      Durable.Capture capture = spool.of.capture(true);
      spool.of.take();
      spool.of.take();
      spool.of.put(new byte[] {3});
      List<byte[]> chunks = new ArrayList<>();
      capture.encode(chunks::add);
      chunks.clear();
      capture.encode(chunks::add); // again, after an answer that was lost
      capture.close();
      try (Closing restored = new Closing(directory)) {
        restored.of.restore(chunks::forEach);
        assertThat(waiting(restored.of)).containsExactly(first, second);
      }
      assertThat(waiting(spool.of)).containsExactly(new byte[] {3});
    }
  }

  @Test
  void nothingNewIsNotSaved() {
    try (Closing spool = new Closing(directory)) {
      assertThat(spool.of.capture(false)).isNull();
      spool.of.put(new byte[] {1});
      spool.of.capture(false).close();
      assertThat(spool.of.capture(false)).isNull();
      spool.of.take();
      assertThat(spool.of.capture(false)).isNotNull(); // that it went
    }
  }

  /** Ends with its files. */
  private static final class Closing implements AutoCloseable {
    final Spool of;

    Closing(Path directory) {
      of = new Spool(directory);
    }

    @Override
    public void close() {
      of.close();
    }
  }
}
