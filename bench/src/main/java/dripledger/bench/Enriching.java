package dripledger.bench;

import dripledger.engine.Engine;
import dripledger.engine.catalog.CatalogObject;
import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Properties;
import java.util.concurrent.Future;
import java.util.stream.IntStream;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.apache.kafka.clients.consumer.KafkaConsumer;
import org.apache.kafka.clients.producer.KafkaProducer;
import org.apache.kafka.clients.producer.ProducerRecord;
import org.apache.kafka.common.TopicPartition;
import org.apache.kafka.common.serialization.ByteArrayDeserializer;
import org.apache.kafka.common.serialization.ByteArraySerializer;
import tools.jackson.core.JsonParser;
import tools.jackson.core.JsonToken;
import tools.jackson.core.ObjectReadContext;
import tools.jackson.core.json.JsonFactory;

/**
 * From one topic through a join with a table into another, end to end, beside a loop by hand that
 * reads, looks up and sends: without transactions, checkpoints or anything to go on from.
 */
final class Enriching {
  private static final int PARTITIONS = 3;
  private static final int GATES = 24;
  private static final JsonFactory JSON = new JsonFactory();

  private final Engine engine;
  private final String servers;
  private final int rows;

  Enriching(Engine engine, String servers, int rows) {
    this.engine = engine;
    this.servers = servers;
    this.rows = rows;
  }

  private Properties properties() {
    Properties p = new Properties();
    p.put("bootstrap.servers", servers);
    p.put("acks", "all");
    p.put("linger.ms", "5");
    p.put("batch.size", "262144");
    p.put("compression.type", "lz4");
    p.put("max.poll.records", "20000");
    p.put("fetch.max.bytes", "16777216");
    p.put("max.partition.fetch.bytes", "8388608");
    return p;
  }

  private KafkaProducer<byte[], byte[]> producer() {
    return new KafkaProducer<>(properties(), new ByteArraySerializer(), new ByteArraySerializer());
  }

  private void fill(String topic) {
    try (KafkaProducer<byte[], byte[]> producer = producer()) {
      for (int n = 0; n < rows; n++) {
        String value =
            "{\"id\":" + n + ",\"gate\":\"G" + n % GATES + "\",\"grams\":" + n * 7L + "}";
        Future<?> ignored =
            producer.send(
                new ProducerRecord<>(topic, null, value.getBytes(StandardCharsets.UTF_8)));
      }
    }
  }

  /** The loop by hand over what is in a topic; messages a second. */
  double byHand(String from, String to) throws IOException {
    fill(from);
    Map<String, String> halls = new HashMap<>();
    for (int g = 0; g < GATES; g++) {
      halls.put("G" + g, "H" + g % 3);
    }
    List<TopicPartition> partitions =
        IntStream.range(0, PARTITIONS).mapToObj(p -> new TopicPartition(from, p)).toList();
    try (KafkaConsumer<byte[], byte[]> consumer =
            new KafkaConsumer<>(
                properties(), new ByteArrayDeserializer(), new ByteArrayDeserializer());
        KafkaProducer<byte[], byte[]> producer = producer()) {
      consumer.assign(partitions);
      consumer.seekToBeginning(partitions);
      long began = System.nanoTime();
      for (int done = 0; done < rows; ) {
        for (ConsumerRecord<byte[], byte[]> record : consumer.poll(Duration.ofMillis(100))) {
          byte[] out = joined(record.value(), halls);
          Future<?> ignored = producer.send(new ProducerRecord<>(to, null, out));
          done++;
        }
      }
      producer.flush();
      return rows / ((System.nanoTime() - began) / 1e9);
    }
  }

  private static byte[] joined(byte[] message, Map<String, String> halls) throws IOException {
    long id = 0;
    long grams = 0;
    String gate = null;
    try (JsonParser json = JSON.createParser(ObjectReadContext.empty(), message)) {
      json.nextToken();
      while (json.nextToken() == JsonToken.PROPERTY_NAME) {
        String name = json.currentName();
        json.nextToken();
        switch (name) {
          case "id" -> id = json.getLongValue();
          case "gate" -> gate = json.getString();
          default -> grams = json.getLongValue();
        }
      }
    }
    String out = "{\"id\":" + id + ",\"hall\":\"" + halls.get(gate) + "\",\"grams\":" + grams + "}";
    return out.getBytes(StandardCharsets.UTF_8);
  }

  /** Ours, from the first message that is sent to the last that has arrived; messages a second. */
  double ours(String from, String to) throws InterruptedException {
    engine.execute(
        "CREATE TABLE hall_of (gate VARCHAR PRIMARY KEY, hall VARCHAR);"
            + " INSERT INTO hall_of SELECT 'G' || CAST(n AS VARCHAR), 'H' || CAST(MOD(n, 3) AS VARCHAR)"
            + " FROM generate_series(0, "
            + (GATES - 1)
            + ") AS g (n);"
            + " CREATE STREAM scanned (id BIGINT, gate VARCHAR, grams BIGINT) FROM log (topic '"
            + from
            + "') FORMAT json; CREATE SINK enriched TO log (topic '"
            + to
            + "') OPTIONS (rows 'changes', start 'now') AS SELECT s.id, h.hall, s.grams FROM scanned AS s"
            + " JOIN hall_of AS h ON h.gate = s.gate");
    CatalogObject.Sink sink = (CatalogObject.Sink) engine.catalog().find("enriched");
    long began = System.nanoTime();
    fill(from);
    while (engine.delivery(sink).carried().put() < rows) {
      Thread.sleep(5);
    }
    double perSecond = rows / ((System.nanoTime() - began) / 1e9);
    engine.execute("DROP SINK enriched; DROP STREAM scanned; DROP TABLE hall_of");
    return perSecond;
  }
}
