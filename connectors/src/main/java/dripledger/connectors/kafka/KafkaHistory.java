package dripledger.connectors.kafka;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Page;
import dripledger.engine.source.PartitionSink;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.function.BiConsumer;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.apache.kafka.clients.consumer.ConsumerRecords;
import org.apache.kafka.clients.consumer.KafkaConsumer;
import org.apache.kafka.common.TopicPartition;

/** Reads a range of a topic again, with a consumer of its own. */
final class KafkaHistory {
  private static final long SILENCE_MILLIS = 20_000;

  private KafkaHistory() {}

  static void read(
      KafkaAccess access,
      CatalogObject.Stream stream,
      KafkaPosition from,
      KafkaPosition to,
      PartitionSink sink) {
    KafkaBatches batches = new KafkaBatches(stream, null);
    each(
        access,
        stream,
        from,
        to,
        (partition, records) -> {
          Page page = batches.read(partition, records).page();
          if (!page.isEmpty()) {
            sink.page(page, partition.partition());
          }
        });
  }

  /**
   * Gives the records between two positions, by partition in their order.
   *
   * @param to the partitions to be read and where each ends
   */
  static void each(
      KafkaAccess access,
      CatalogObject object,
      KafkaPosition from,
      KafkaPosition to,
      BiConsumer<TopicPartition, List<ConsumerRecord<byte[], byte[]>>> sink) {
    String topic = CatalogObject.sourceOf(object).option("topic");
    List<TopicPartition> partitions = new ArrayList<>();
    to.next()
        .forEach(
            (partition, end) -> {
              if (from.next().getOrDefault(partition, 0L) < end) {
                partitions.add(new TopicPartition(topic, partition));
              }
            });
    if (partitions.isEmpty()) {
      return;
    }
    try (KafkaConsumer<byte[], byte[]> consumer = access.consumer("earliest")) {
      Map<TopicPartition, Long> first = consumer.beginningOffsets(partitions);
      consumer.assign(partitions);
      for (TopicPartition p : partitions) {
        long start = from.next().getOrDefault(p.partition(), 0L);
        consumer.seek(p, Math.max(start, first.get(p))); // what is forgotten cannot be read
      }
      long deadline = System.currentTimeMillis() + SILENCE_MILLIS;
      while (true) {
        List<TopicPartition> done = new ArrayList<>();
        for (TopicPartition p : consumer.assignment()) {
          if (consumer.position(p) >= to.next().get(p.partition())) {
            done.add(p);
          }
        }
        if (done.size() == consumer.assignment().size()) {
          return;
        }
        consumer.pause(done);
        ConsumerRecords<byte[], byte[]> records = consumer.poll(KafkaConnector.POLL);
        for (TopicPartition p : records.partitions()) {
          long end = to.next().get(p.partition());
          sink.accept(p, records.records(p).stream().filter(r -> r.offset() < end).toList());
          deadline = System.currentTimeMillis() + SILENCE_MILLIS;
        }
        if (System.currentTimeMillis() > deadline) {
          throw new EngineException(
              Code.FAILED,
              "the broker no longer answers, so the messages of \""
                  + object.name()
                  + "\" cannot be read again",
              "try again when it is back; a stream with retain needs no broker for this");
        }
      }
    }
  }
}
