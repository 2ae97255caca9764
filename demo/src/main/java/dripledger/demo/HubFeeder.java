package dripledger.demo;

import java.nio.charset.StandardCharsets;
import java.sql.SQLException;
import java.time.Duration;
import java.time.Instant;
import java.util.List;
import java.util.Locale;
import java.util.Properties;
import java.util.Random;
import java.util.Set;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.Future;
import org.apache.kafka.clients.admin.Admin;
import org.apache.kafka.clients.admin.NewTopic;
import org.apache.kafka.clients.producer.KafkaProducer;
import org.apache.kafka.clients.producer.ProducerRecord;
import org.apache.kafka.common.serialization.ByteArraySerializer;

/**
 * The hub at work: scans and hand-offs go to the broker, parcels and prices change in the
 * operations database; first the past minutes, then as time goes. A process of its own.
 */
public final class HubFeeder implements AutoCloseable {
  private static final int TICKS_A_SECOND = 4;
  private static final int VANS = 14;
  private static final int SPELL_SECONDS = 150;

  private final KafkaProducer<byte[], byte[]> producer;
  private final ScanGenerator scans;
  private final Random random;
  private final int scansPerSecond;
  private final String servers;

  HubFeeder(String servers, long seed, int scansPerSecond) {
    this.servers = servers;
    Properties p = new Properties();
    p.put("bootstrap.servers", servers);
    p.put("linger.ms", "20");
    producer = new KafkaProducer<>(p, new ByteArraySerializer(), new ByteArraySerializer());
    scans = new ScanGenerator(seed);
    random = new Random(seed);
    this.scansPerSecond = scansPerSecond;
  }

  /**
   * Arguments: the broker's HOST:PORT, the JDBC URL of the operations database, the seed, scans a
   * second. The database's password is in the environment. Prints a line once the past is written,
   * then runs until it is stopped.
   */
  public static void main(String[] args) throws Exception {
    long seed = Long.parseLong(args[2]);
    String password = System.getenv("DRIP_OPERATIONS_PASSWORD");
    try (HubFeeder feeder = new HubFeeder(args[0], seed, Integer.parseInt(args[3]));
        OperationsDatabase operations = new OperationsDatabase(args[1], password, seed)) {
      operations.fill();
      if (feeder.makeTopics()) {
        System.out.println("wrote " + feeder.past(Duration.ofMinutes(40)) + " scans");
      }
      System.out.println("live");
      feeder.live(operations);
    }
  }

  /** Makes the hub's topics; answers whether they were not there. */
  boolean makeTopics() throws InterruptedException, ExecutionException {
    Properties p = new Properties();
    p.put("bootstrap.servers", servers);
    try (Admin admin = Admin.create(p)) {
      if (admin.listTopics().names().get().contains("hub.scan")) {
        return false;
      }
      admin
          .createTopics(
              Set.of(
                  new NewTopic("hub.scan", 3, (short) 1),
                  new NewTopic("hub.handoff", 2, (short) 1),
                  new NewTopic("hub.alert", 1, (short) 1)))
          .all()
          .get();
      return true;
    }
  }

  private int past(Duration span) {
    int count = (int) (span.toSeconds() * scansPerSecond);
    Instant end = Instant.now();
    for (int i = 0; i < count; i++) {
      Instant at = end.minus(span).plusNanos(span.toNanos() / count * i);
      scan(at);
    }
    producer.flush();
    return count;
  }

  private void scan(Instant at) {
    String line = scans.next(at);
    byte[] value = line.getBytes(StandardCharsets.UTF_8);
    int number = line.indexOf("\"parcel\":");
    byte[] key =
        line.substring(number + 9, Math.min(line.length(), number + 15))
            .getBytes(StandardCharsets.UTF_8);
    send(new ProducerRecord<>("hub.scan", null, at.toEpochMilli(), key, value, headers()));
    if (random.nextInt(8) == 0) {
      String handoff =
          String.format(
              Locale.ROOT,
              "{\"parcel\":%s,\"van\":\"V%02d\",\"at\":\"%s\"}",
              new String(key, StandardCharsets.UTF_8),
              van(at),
              at.plusSeconds(random.nextInt(40)));
      send(
          new ProducerRecord<>(
              "hub.handoff",
              null,
              at.toEpochMilli(),
              key,
              handoff.getBytes(StandardCharsets.UTF_8)));
    }
  }

  /** One of the three vans that are loading then; the next three follow some minutes later. */
  private int van(Instant at) {
    long spell = at.getEpochSecond() / SPELL_SECONDS;
    return 1 + (int) ((3 * spell + random.nextInt(3)) % VANS);
  }

  private void send(ProducerRecord<byte[], byte[]> message) {
    Future<?> ignored =
        producer.send(
            message,
            (done, e) -> {
              if (e != null) {
                System.err.println(Instant.now() + " the broker: " + e.getMessage());
              }
            });
  }

  private static List<org.apache.kafka.common.header.Header> headers() {
    return List.of(
        new org.apache.kafka.common.header.internals.RecordHeader(
            "site", "quillhaven".getBytes(StandardCharsets.UTF_8)));
  }

  private void live(OperationsDatabase operations) throws InterruptedException {
    for (int tick = 0; ; tick++) {
      for (int i = 0; i < scansPerSecond / TICKS_A_SECOND; i++) {
        scan(Instant.now());
      }
      producer.flush();
      if (tick % TICKS_A_SECOND == 0) {
        try {
          operations.work();
        } catch (SQLException e) {
          System.err.println(Instant.now() + " the operations database: " + e.getMessage());
          Thread.sleep(2000);
        }
      }
      Thread.sleep(1000 / TICKS_A_SECOND);
    }
  }

  @Override
  public void close() {
    producer.close(Duration.ofSeconds(2));
  }
}
