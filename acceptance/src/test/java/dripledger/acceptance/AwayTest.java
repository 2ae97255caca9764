package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.WebhookStandIn;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.sql.Connection;
import java.sql.ResultSet;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.concurrent.locks.LockSupport;
import java.util.function.BooleanSupplier;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import java.util.stream.Stream;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;
import org.junit.jupiter.api.parallel.ResourceLock;

/**
 * Every kind of target is away under load: the broker and the database are killed, the folder's
 * disk is full, the webhook answers with errors. The view goes on; each target gets all of it when
 * it is back. {@code -Ddrip.away.seconds=600} makes it long.
 */
@ResourceLock(SourceTest.TWO)
class AwayTest extends SourceTest {
  private static final int SECONDS = Integer.getInteger("drip.away.seconds", 4);
  private static final int BATCH = 200; // rows of a push
  private static final int ROWS_A_SECOND = 5000;
  private static final int PARCELS = 5000;
  private static final List<String> SINKS =
      List.of("away_topic", "away_table", "away_file", "away_post");

  private final Map<Long, Long> pushed = new TreeMap<>(); // events by parcel
  private long events;

  @Test
  void targetsThatAreAwayHoldNobodyUpAndGetAllOfItLater(@TempDir Path folder) throws Exception {
    Path disk = smallDisk(folder);
    try (WebhookStandIn carrier = new WebhookStandIn(0)) {
      hub.topic("away", 2);
      String counted = " AS SELECT parcel, COUNT(*) AS passes FROM passing GROUP BY parcel";
      service.sql(
          "CREATE STREAM passing (parcel BIGINT NOT NULL, n BIGINT NOT NULL); CREATE MATERIALIZED VIEW"
              + " passes"
              + counted
              + "; CREATE CONNECTION away_folder TYPE file OPTIONS (path '%s')".formatted(disk)
              + "; CREATE CONNECTION away_hook TYPE webhook OPTIONS (url '%s')"
                  .formatted(carrier.url())
              + "; CREATE SINK away_topic TO hub_log (topic 'away') FORMAT json KEY (parcel) OPTIONS (rows"
              + " 'upsert') AS SELECT * FROM passes"
              + "; CREATE SINK away_table TO hub_ops (table 'away_passes', create 'if missing') KEY (parcel)"
              + " AS SELECT * FROM passes"
              + "; CREATE SINK away_file TO away_folder FORMAT csv AS SELECT parcel, n FROM passing"
              + "; CREATE SINK away_post TO away_hook FORMAT json AS SELECT parcel, n FROM passing");
      long[] before = push(1);
      await("all have something", () -> states().stream().allMatch("delivering"::equals));

      hub.broker().kill();
      hub.operations().crash();
      carrier.answer(500, 0);
      try (Fill fill = new Fill(disk)) {
        fill.fill();
        long[] meanwhile = push(SECONDS);
        await("all say so", () -> states().stream().allMatch("failing"::equals));
        System.out.printf(
            "pushed to visible: median %.1f ms, 99th of 100 %.1f ms before; %.1f ms, %.1f ms for %d s"
                + " while all targets are away%n",
            millis(before, 0.5),
            millis(before, 0.99),
            millis(meanwhile, 0.5),
            millis(meanwhile, 0.99),
            SECONDS);
        System.out.println(service.drip("", "sql", "SHOW SINKS").out());
        expect("SELECT SUM(passes) FROM passes", "[[" + events + "]]");
      } finally {
        hub.operations().start();
        hub.startBroker();
      }
      carrier.answer(200, 0);
      push(1);
      await("the table", () -> tableSays());
      await("the topic", () -> topicSays());
      await("the folder", () -> lines(disk) == events);
      await("the webhook", () -> posted(carrier) == events);
      try (Stream<Path> left = Files.list(disk)) {
        assertThat(left.filter(f -> f.getFileName().toString().startsWith("."))).isEmpty();
      }
      await("nobody fails", () -> states().stream().allMatch("delivering"::equals));
    } finally {
      SINKS.forEach(this::drop);
      service.sql("DROP CONNECTION away_folder; DROP CONNECTION away_hook");
      service.sql("DROP MATERIALIZED VIEW passes; DROP STREAM passing");
      hub.execute("DROP TABLE away_passes");
      run("umount", disk.toString()); // or it was none
    }
  }

  private void drop(String sink) {
    try {
      service.sql("DROP SINK " + sink);
    } catch (IOException e) {
      throw new IllegalStateException(e);
    }
  }

  /** Pushes for a while; answers how long it took each time until the view showed it. */
  private long[] push(int seconds) throws IOException {
    List<Long> nanos = new ArrayList<>();
    long end = System.nanoTime() + seconds * 1_000_000_000L;
    while (System.nanoTime() < end) {
      StringBuilder body = new StringBuilder();
      for (int i = 0; i < BATCH; i++) {
        long parcel = (events * 7919) % PARCELS;
        body.append("{\"parcel\":%d,\"n\":%d}\n".formatted(parcel, events++));
        pushed.merge(parcel, 1L, Long::sum);
      }
      long began = System.nanoTime();
      LiveService.Answer answer =
          service.call("POST", "/api/v1/streams/passing/events?wait=applied", body.toString());
      assertThat(answer.status()).as(answer.body()).isEqualTo(200);
      long took = System.nanoTime() - began;
      nanos.add(took);
      LockSupport.parkNanos(1_000_000_000L * BATCH / ROWS_A_SECOND - took);
    }
    return nanos.stream().mapToLong(n -> n).sorted().toArray();
  }

  private static double millis(long[] sorted, double part) {
    return sorted[(int) Math.min(sorted.length - 1, part * sorted.length)] / 1e6;
  }

  private List<String> states() {
    try {
      List<String> states = new ArrayList<>();
      for (List<Object> row : service.sql("SHOW SINKS")) {
        if (SINKS.contains(row.get(0))) {
          states.addAll(
              row.stream()
                  .map(String::valueOf)
                  .filter(v -> v.equals("delivering") || v.equals("failing"))
                  .toList());
        }
      }
      return states;
    } catch (IOException e) {
      throw new IllegalStateException(e);
    }
  }

  private static void await(String what, BooleanSupplier condition) throws InterruptedException {
    for (int i = 0; i < 900 && !condition.getAsBoolean(); i++) {
      Thread.sleep(100);
    }
    assertThat(condition.getAsBoolean()).as(what).isTrue();
  }

  private boolean tableSays() {
    Map<Long, Long> found = new TreeMap<>();
    try (Connection c = hub.connect();
        Statement s = c.createStatement();
        ResultSet r = s.executeQuery("SELECT parcel, passes FROM away_passes")) {
      while (r.next()) {
        found.put(r.getLong(1), r.getLong(2));
      }
    } catch (java.sql.SQLException e) {
      return false;
    }
    return found.equals(pushed);
  }

  private boolean topicSays() {
    Map<Long, Long> found = new TreeMap<>();
    for (ConsumerRecord<String, String> message : hub.all("away")) {
      Matcher m = Pattern.compile("\"parcel\":(\\d+),\"passes\":(\\d+)").matcher(message.value());
      if (m.find()) {
        found.put(Long.parseLong(m.group(1)), Long.parseLong(m.group(2)));
      }
    }
    return found.equals(pushed);
  }

  private static long lines(Path disk) {
    try (Stream<Path> files = Files.list(disk)) {
      long lines = 0;
      for (Path file : files.filter(f -> f.toString().endsWith(".csv")).toList()) {
        lines += Files.readAllLines(file).stream().filter(l -> !l.startsWith("parcel")).count();
      }
      return lines;
    } catch (IOException e) {
      throw new IllegalStateException(e);
    }
  }

  /** Rows of the posts that were taken, each counted once. */
  private static long posted(WebhookStandIn carrier) {
    Map<String, Long> rows = new TreeMap<>();
    for (WebhookStandIn.Post post : carrier.posts()) {
      if (post.answered() == 200) {
        long n = Pattern.compile("\"n\":").matcher(post.body()).results().count();
        rows.put(post.key(), n);
      }
    }
    return rows.values().stream().mapToLong(n -> n).sum();
  }

  /** A file system of its own that is soon full; whoever may not mount one has a folder. */
  private static Path smallDisk(Path folder) throws IOException, InterruptedException {
    Path disk = Files.createDirectory(folder.resolve("disk"));
    long bytes = Math.max(64, SECONDS) * 1_000_000L;
    run("mount", "-t", "tmpfs", "-o", "mode=777,size=" + bytes, "tmpfs", disk.toString());
    return disk;
  }

  private static void run(String... command) throws IOException, InterruptedException {
    Process process = new ProcessBuilder(command).redirectErrorStream(true).start();
    process.getInputStream().readAllBytes();
    process.waitFor();
  }

  /** Takes all the room there is; or, where that is somebody else's, the folder itself. */
  private static final class Fill implements AutoCloseable {
    private final Path disk;
    private final Path away;
    private final Path ballast;

    Fill(Path disk) {
      this.disk = disk;
      away = disk.resolveSibling("away");
      ballast = disk.resolve("ballast");
    }

    void fill() throws IOException {
      if (Files.getFileStore(disk).equals(Files.getFileStore(disk.getParent()))) {
        Files.move(disk, away);
        return;
      }
      byte[] piece = new byte[4096];
      Arrays.fill(piece, (byte) 'x');
      try (var out = Files.newOutputStream(ballast)) {
        while (true) {
          out.write(piece);
        }
      } catch (IOException full) {
        assertThat(disk.toFile().getUsableSpace()).isLessThan(4096);
      }
    }

    @Override
    public void close() throws IOException {
      if (Files.exists(away)) {
        Files.move(away, disk);
      } else {
        Files.deleteIfExists(ballast);
      }
    }
  }
}
