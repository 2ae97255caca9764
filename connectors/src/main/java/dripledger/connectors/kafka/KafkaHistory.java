package dripledger.connectors.kafka;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Page;
import dripledger.engine.source.PartitionSink;
import java.util.ArrayList;
import java.util.Comparator;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.function.BiConsumer;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.apache.kafka.clients.consumer.ConsumerRecords;
import org.apache.kafka.clients.consumer.KafkaConsumer;
import org.apache.kafka.common.TopicPartition;

/** Reads a range of a topic again, with a consumer of its own. */
final class KafkaHistory {
  private static final long SILENCE_MILLIS = 20_000;
  private static final Comparator<TopicPartition> BY_NUMBER =
      Comparator.comparingInt(TopicPartition::partition);

  private KafkaHistory() {}

  static void read(
      KafkaAccess access,
      CatalogObject.Stream stream,
      KafkaPosition from,
      KafkaPosition to,
      PartitionSink sink) {
    KafkaBatches batches = new KafkaBatches(stream, null, access.registryLogin());
    batches.of(to.topicId());
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

  /** A range of a topic: which partitions have something in it, and where that can begin. */
  private record Range(Map<TopicPartition, Long> starts, long forgotten, boolean anotherTopic) {
    static Range of(
        KafkaConsumer<byte[], byte[]> consumer,
        String topic,
        KafkaPosition from,
        KafkaPosition to) {
      boolean another =
          from.topicId() != null && to.topicId() != null && !from.topicId().equals(to.topicId());
      Map<TopicPartition, Long> starts = new TreeMap<>(BY_NUMBER);
      to.next()
          .forEach(
              (partition, end) -> {
                long start = another ? 0 : from.next().getOrDefault(partition, 0L);
                if (start < end) {
                  starts.put(new TopicPartition(topic, partition), start);
                }
              });
      long forgotten = 0;
      for (Map.Entry<TopicPartition, Long> e :
          consumer.beginningOffsets(starts.keySet()).entrySet()) {
        long start = starts.get(e.getKey());
        long end = to.next().get(e.getKey().partition());
        if (e.getValue() > start) {
          forgotten += Math.min(end, e.getValue()) - start;
          starts.put(e.getKey(), e.getValue());
        }
      }
      starts.entrySet().removeIf(e -> e.getValue() >= to.next().get(e.getKey().partition()));
      return new Range(starts, forgotten, another);
    }

    /** What of the range is not there any more, or null. */
    String missing(String topic) {
      if (anotherTopic) {
        return "the topic \""
            + topic
            + "\" was deleted and made anew, and what it held before is gone";
      }
      return forgotten == 0
          ? null
          : "the broker has forgotten the first "
              + forgotten
              + (forgotten == 1 ? " message" : " messages")
              + " of \""
              + topic
              + "\" that were read";
    }
  }

  /** What of a range is not there any more, for the user, or null. */
  static String missing(
      KafkaAccess access, CatalogObject.Stream stream, KafkaPosition from, KafkaPosition to) {
    String topic = stream.source().option("topic");
    try (KafkaConsumer<byte[], byte[]> consumer = access.consumer("earliest")) {
      return Range.of(consumer, topic, from, to).missing(topic);
    }
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
    try (KafkaConsumer<byte[], byte[]> consumer = access.consumer("earliest")) {
      Range range = Range.of(consumer, topic, from, to);
      refuseMissing(object, range.missing(topic));
      consumer.assign(range.starts().keySet());
      range.starts().forEach(consumer::seek);
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

  /** Who has not said that gaps are to be passed over is not given half of the history. */
  private static void refuseMissing(CatalogObject object, String missing) {
    if (missing != null
        && object instanceof CatalogObject.Stream stream
        && !KafkaFeed.skipsGaps(stream.source())) {
      throw new EngineException(
          Code.FAILED,
          missing,
          "ALTER STREAM "
              + object.name()
              + " SET (gaps 'skip') reads from what is left; a stream with retain keeps what it has"
              + " read");
    }
  }
}
