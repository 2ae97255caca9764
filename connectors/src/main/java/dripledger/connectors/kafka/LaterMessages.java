package dripledger.connectors.kafka;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.source.Reject;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.TreeSet;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.apache.kafka.common.TopicPartition;

/**
 * Whether messages of a keyed table have been overtaken: reads the topic again from the oldest of
 * them and notes where each row was spoken of last. A compacted topic keeps just what is needed for
 * this. Used for one question.
 */
final class LaterMessages {
  private final KafkaAccess access;
  private final CatalogObject.Table table;
  private final Map<Integer, Map<String, Long>> last = new HashMap<>();

  LaterMessages(KafkaAccess access, CatalogObject.Table table) {
    this.access = access;
    this.table = table;
  }

  List<Boolean> of(List<Reject> rejects, List<Page> operations, KafkaPosition to) {
    KafkaPosition from = new KafkaPosition();
    KafkaPosition end = new KafkaPosition();
    List<KafkaBatches.Origin> origins =
        rejects.stream().map(r -> KafkaBatches.Origin.of(r.origin())).toList();
    for (KafkaBatches.Origin origin : origins) {
      from.next().merge(origin.partition(), origin.offset() + 1, Math::min);
      end.next().put(origin.partition(), to.next().getOrDefault(origin.partition(), 0L));
    }
    KafkaBatches batches = new KafkaBatches(table, null, access.registryLogin());
    KafkaHistory.each(
        access,
        table,
        from,
        end,
        (partition, records) -> {
          for (ConsumerRecord<byte[], byte[]> record : records) {
            note(partition, record, batches.read(partition, List.of(record)).page());
          }
        });
    List<Boolean> overtaken = new ArrayList<>();
    for (int i = 0; i < rejects.size(); i++) {
      KafkaBatches.Origin origin = origins.get(i);
      Map<String, Long> later = last.getOrDefault(origin.partition(), Map.of());
      overtaken.add(
          keys(operations.get(i)).stream()
              .anyMatch(key -> later.getOrDefault(key, -1L) > origin.offset()));
    }
    return overtaken;
  }

  private void note(
      TopicPartition partition, ConsumerRecord<byte[], byte[]> record, Page operations) {
    Map<String, Long> of = last.computeIfAbsent(partition.partition(), p -> new HashMap<>());
    keys(operations).forEach(key -> of.put(key, record.offset()));
  }

  /** The keys of the rows that operations speak of, as text. */
  private Set<String> keys(Page operations) {
    Set<String> keys = new TreeSet<>();
    for (int i = 0; i < operations.size(); i++) {
      StringBuilder key = new StringBuilder();
      for (int k : table.primaryKey()) {
        key.append(
                BoxedRows.readColumn(
                    operations.layout(), operations.bytes(), operations.start(i), k))
            .append('\u0000');
      }
      keys.add(key.toString());
    }
    return keys;
  }
}
