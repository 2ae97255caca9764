package dripledger.connectors.kafka;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.format.Folded;
import dripledger.connectors.format.RowMessages;
import dripledger.engine.catalog.CatalogObject.Sink;
import dripledger.engine.catalog.Retention;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.Target;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.Future;
import org.apache.kafka.clients.admin.Admin;
import org.apache.kafka.clients.admin.ListConsumerGroupOffsetsOptions;
import org.apache.kafka.clients.admin.NewTopic;
import org.apache.kafka.clients.consumer.ConsumerGroupMetadata;
import org.apache.kafka.clients.consumer.OffsetAndMetadata;
import org.apache.kafka.clients.producer.KafkaProducer;
import org.apache.kafka.clients.producer.ProducerRecord;
import org.apache.kafka.clients.producer.RecordMetadata;
import org.apache.kafka.common.KafkaException;
import org.apache.kafka.common.TopicPartition;
import org.apache.kafka.common.header.internals.RecordHeaders;

/**
 * Delivers to a topic by the broker's transactions: the messages of some batches and the number of
 * the batch that follows are there together or not at all. The number is kept as the offset of a
 * group of the delivery's own; who opens the target again ends what another had begun.
 */
final class TopicTarget implements Target {
  private static final Set<String> OPTIONS =
      Set.of("topic", "create", "partitions", "retention", "headers", "registry", "schema_file");
  private static final int MOST_PARTITIONS = 1000;

  private final KafkaAccess access;
  private final Sink sink;
  private final String topic;
  private final RowMessages messages;
  private final String group;
  private final KafkaProducer<byte[], byte[]> producer;
  private final boolean headers;
  private final ConsumerGroupMetadata member;

  private TopicTarget(KafkaAccess access, Sink sink, String identity) {
    this.access = access;
    this.sink = sink;
    topic = topic(sink.target());
    messages = new RowMessages(sink, access.registryLogin());
    headers = on(sink.target(), "headers");
    group = group(identity);
    producer = access.producer(group);
    member = access.member(group);
  }

  /** Opens the way, and ends whatever another had begun. */
  static TopicTarget open(ConnectionOptions options, Sink sink, String identity) {
    KafkaAccess access = new KafkaAccess(options);
    access.check();
    TopicTarget target = new TopicTarget(access, sink, identity);
    try {
      target.producer.initTransactions();
    } catch (KafkaException e) {
      target.close();
      throw access.failure(e);
    }
    return target;
  }

  /** The group whose offset tells how far a delivery has come. */
  private static String group(String identity) {
    return "drip-" + identity;
  }

  /** Takes away how far a delivery has come. */
  static void forget(ConnectionOptions options, String identity) {
    KafkaAccess access = new KafkaAccess(options);
    try (Admin admin = access.admin()) {
      access.get(admin.deleteConsumerGroups(List.of(group(identity))).all());
    } catch (KafkaException e) {
      throw access.failure(e);
    }
  }

  /** Checks the options, and makes the topic if they ask for it. */
  static void prepare(ConnectionOptions options, Sink sink) {
    SourceSpec target = sink.target();
    ConnectionOptions.check(target.options().keySet(), OPTIONS, "a topic that is delivered to");
    String topic = topic(target);
    RowMessages messages =
        new RowMessages(
            sink, new KafkaAccess(options).registryLogin()); // tells what is wrong with the format
    on(target, "headers");
    int partitions = partitions(target);
    Long retention = retention(target);
    String create = target.option("create");
    if (create != null && !create.equals("if missing")) {
      throw invalid("option \"create\" is 'if missing', not '" + create + "'", null);
    }
    KafkaAccess access = new KafkaAccess(options);
    access.check();
    try (Admin admin = access.admin()) {
      if (access.get(admin.listTopics().names()).contains(topic)) {
        messages.register();
        return;
      }
      boolean asked = create != null || target.option("partitions") != null;
      if (!asked) {
        throw new EngineException(
            Code.NOT_FOUND,
            "option \"topic\": there is no topic \"" + topic + "\"",
            "write partitions 6 (or how many there shall be) and it is made");
      }
      NewTopic made = new NewTopic(topic, partitions, (short) -1);
      if (retention != null) {
        made.configs(Map.of("retention.ms", "" + retention));
      } else if (sink.rows() == Sink.Rows.UPSERT) {
        made.configs(Map.of("cleanup.policy", "compact"));
      }
      messages.register(); // what it refuses makes no topic
      access.get(admin.createTopics(List.of(made)).all());
    } catch (KafkaException e) {
      throw access.failure(e);
    }
  }

  private static String topic(SourceSpec target) {
    String topic = target.option("topic");
    if (topic == null) {
      throw invalid(
          "which topic of \"" + target.connection() + "\"?",
          "write TO " + target.connection() + " (topic '…')");
    }
    return topic;
  }

  private static int partitions(SourceSpec target) {
    return ConnectionOptions.count(target, "partitions", 1, MOST_PARTITIONS);
  }

  private static Long retention(SourceSpec target) {
    String text = target.option("retention");
    try {
      return text == null ? null : Retention.micros(text) / 1000;
    } catch (IllegalArgumentException e) {
      throw invalid("option \"retention\": '" + text + "' is not a time", Retention.HINT);
    }
  }

  private static boolean on(SourceSpec target, String option) {
    String text = target.option(option, "off");
    if (!text.equals("on") && !text.equals("off")) {
      throw invalid("option \"" + option + "\" is 'on' or 'off', not '" + text + "'", null);
    }
    return text.equals("on");
  }

  private static EngineException invalid(String message, String hint) {
    return new EngineException(Code.INVALID, message, hint);
  }

  /** The messages of some changes, as text. */
  static List<String> preview(Sink sink, List<Outgoing.Change> changes) {
    RowMessages messages = new RowMessages(sink);
    List<String> lines = new ArrayList<>();
    if (messages.schema() != null) {
      lines.addAll(Folded.of("schema: " + messages.schema()));
    }
    for (Outgoing.Change change : changes) {
      byte[] key = messages.key(change);
      lines.addAll(Folded.of((key == null ? "" : text(key) + " → ") + messages.text(change)));
    }
    return lines;
  }

  private static String text(byte[] bytes) {
    return new String(bytes, StandardCharsets.UTF_8);
  }

  private TopicPartition numbers() {
    return new TopicPartition(topic, 0);
  }

  @Override
  public int mostRows() {
    return 200_000; // of a transaction: the end of each is waited for
  }

  @Override
  public long next() {
    try (Admin admin = access.admin()) {
      OffsetAndMetadata known =
          access
              .get(
                  admin
                      .listConsumerGroupOffsets(
                          group, new ListConsumerGroupOffsetsOptions().requireStable(true))
                      .partitionsToOffsetAndMetadata())
              .get(numbers());
      return known == null ? -1 : known.offset();
    } catch (KafkaException e) {
      throw access.failure(e);
    }
  }

  @Override
  public Carried carry(List<Outgoing> batches) {
    long put = 0;
    long removed = 0;
    try {
      producer.beginTransaction();
      for (Outgoing batch : batches) {
        for (Outgoing.Change change : batch.changes()) {
          byte[] value = messages.value(change, batch.epoch());
          Future<RecordMetadata> ignored = // what fails makes the commit fail
              producer.send(
                  new ProducerRecord<>(
                      topic, null, null, messages.key(change), value, headers(batch.epoch())));
          put += value == null ? 0 : 1;
          removed += value == null ? 1 : 0;
        }
      }
      long next = batches.get(batches.size() - 1).number() + 1;
      producer.sendOffsetsToTransaction(Map.of(numbers(), new OffsetAndMetadata(next)), member);
      producer.commitTransaction();
    } catch (KafkaException e) {
      throw access.failure(e); // the transaction ends when the way is opened again
    }
    return new Carried(put, 0, 0, removed);
  }

  private RecordHeaders headers(long epoch) {
    if (!headers) {
      return null;
    }
    RecordHeaders all = new RecordHeaders();
    all.add("epoch", ("" + epoch).getBytes(StandardCharsets.UTF_8));
    all.add("sink", sink.name().getBytes(StandardCharsets.UTF_8));
    return all;
  }

  @Override
  public void close() {
    producer.close(Duration.ofSeconds(2));
  }
}
