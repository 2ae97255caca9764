package dripledger.connectors.kafka;

import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.FormatException;
import dripledger.connectors.format.RegistryLogin;
import dripledger.connectors.message.Kept;
import dripledger.connectors.message.Message;
import dripledger.connectors.message.MessageReader;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.KeptMessages;
import dripledger.engine.source.Reject;
import dripledger.engine.source.SourceBatch;
import java.time.LocalDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.apache.kafka.common.TopicPartition;
import org.apache.kafka.common.header.Header;

/** Records of one partition to a batch of rows. Not thread-safe. */
final class KafkaBatches {
  private final CatalogObject object;
  private final MessageReader reader;
  private final RowLayout layout;
  private final boolean wantsHeaders;
  private final boolean retained;
  private final String topic;
  private final Message message = new Message();
  private String topicId;

  KafkaBatches(CatalogObject object, DriftLog drift, RegistryLogin login) {
    this.object = object;
    topic = CatalogObject.sourceOf(object).option("topic");
    if (drift != null) {
      drift.at(this::origin);
    }
    reader = new MessageReader(object, drift, login);
    layout = new RowLayout(reader.pageSchema());
    retained = object instanceof CatalogObject.Stream s && s.inLedger();
    wantsHeaders = CatalogObject.originsOf(object).meta().containsValue(CatalogObject.Meta.HEADERS);
    if (object instanceof CatalogObject.Stream s && !s.addedAt().isEmpty()) {
      Map<Integer, KafkaPosition> added = new HashMap<>();
      s.addedAt().forEach((column, position) -> added.put(column, new KafkaPosition(position)));
      reader.before(
          (m, column) ->
              isOf(added.get(column)) && added.get(column).isAfter(m.partition, m.position));
    }
  }

  /** Says which topic of the name the messages are of. */
  void of(String id) {
    topicId = id;
  }

  /** Whether a position speaks of the topic that is read, and not of one of its name before. */
  private boolean isOf(KafkaPosition position) {
    return topicId == null || position.topicId() == null || topicId.equals(position.topicId());
  }

  /** Where a message stands, as it is shown: {@code topic-partition@offset}. */
  record Origin(String topic, int partition, long offset) {
    static Origin of(String text) {
      int at = text.lastIndexOf('@');
      int dash = text.lastIndexOf('-', at);
      return new Origin(
          text.substring(0, dash),
          Integer.parseInt(text.substring(dash + 1, at)),
          Long.parseLong(text.substring(at + 1)));
    }

    @Override
    public String toString() {
      return topic + "-" + partition + "@" + offset;
    }
  }

  private String origin() {
    return new Origin(topic, message.partition, message.position).toString();
  }

  /** Reads kept messages again. */
  List<Object[]> again(int partition, Page messages) {
    return Kept.again(reader, partition, messages);
  }

  /** An empty batch, to say that a partition is read. */
  SourceBatch empty(int partition) {
    return new SourceBatch(object.id(), new Page(layout), partition, List.of());
  }

  /** Reads records. */
  SourceBatch read(TopicPartition partition, List<ConsumerRecord<byte[], byte[]>> records) {
    Page page = new Page(layout, records.size());
    Page messages = retained ? new Page(KeptMessages.LAYOUT) : null;
    List<Reject> rejects = new ArrayList<>();
    for (ConsumerRecord<byte[], byte[]> record : records) {
      message.key = record.key();
      message.value(record.value());
      message.partition = record.partition();
      message.position = record.offset();
      message.timeMillis = record.timestamp();
      if (wantsHeaders || retained) {
        message.headers = Map.of();
        for (Header header : record.headers()) {
          message.header(header.key(), header.value());
        }
      }
      try {
        reader.read(message, page);
        if (retained) {
          Kept.keep(message, messages);
        }
      } catch (FormatException e) {
        reader.forget(message, page);
        String origin = origin();
        rejects.add(
            new Reject(
                object.id(),
                LocalDateTime.now(ZoneOffset.UTC),
                e.getMessage(),
                record.key(),
                record.value(),
                origin));
      }
    }
    return new SourceBatch(object.id(), page, partition.partition(), rejects, null, messages);
  }
}
