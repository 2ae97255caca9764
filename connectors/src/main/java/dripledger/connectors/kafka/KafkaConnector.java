package dripledger.connectors.kafka;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.Connector;
import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.FormatException;
import dripledger.connectors.format.Formats;
import dripledger.connectors.infer.Inference;
import dripledger.connectors.message.MessageReader;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Retention;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.expr.Casts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.source.Feed;
import dripledger.engine.source.Listing;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.PartitionSink;
import dripledger.engine.source.Proposal;
import dripledger.engine.source.RawMessage;
import dripledger.engine.source.Reject;
import dripledger.engine.source.SourceSink;
import dripledger.engine.source.Target;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.util.ArrayList;
import java.util.Comparator;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.TreeSet;
import java.util.function.Function;
import java.util.function.LongFunction;
import java.util.stream.Collectors;
import org.apache.kafka.clients.admin.Admin;
import org.apache.kafka.clients.admin.LogDirDescription;
import org.apache.kafka.clients.admin.NewTopic;
import org.apache.kafka.clients.admin.OffsetSpec;
import org.apache.kafka.clients.admin.TopicDescription;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.apache.kafka.clients.consumer.KafkaConsumer;
import org.apache.kafka.clients.consumer.OffsetAndTimestamp;
import org.apache.kafka.common.KafkaException;
import org.apache.kafka.common.TopicPartition;

/** Topics of a broker that speaks the Kafka protocol. */
public final class KafkaConnector implements Connector {
  static final Duration POLL = Duration.ofMillis(200);

  private static final int SAMPLE = 500;
  private static final long PEEK_MILLIS = 5000;
  private static final Set<String> OPTIONS =
      Set.of(
          "topic",
          "start",
          "retain",
          "idle_after",
          "gaps",
          "operation",
          "before",
          "after",
          "delete_words",
          "registry",
          "schema_file",
          "descriptor",
          "message",
          "header");

  @Override
  public void check(ConnectionOptions options) {
    KafkaAccess access = new KafkaAccess(options);
    access.check();
    try (Admin admin = access.admin()) {
      access.get(admin.describeCluster().nodes());
    } catch (KafkaException e) {
      throw access.failure(e);
    }
  }

  @Override
  public void prepare(ConnectionOptions options, CatalogObject.Sink sink) {
    TopicTarget.prepare(options, sink);
  }

  @Override
  public List<String> preview(
      ConnectionOptions options, CatalogObject.Sink sink, List<Outgoing.Change> changes) {
    return TopicTarget.preview(sink, changes);
  }

  @Override
  public Target target(ConnectionOptions options, CatalogObject.Sink sink, String identity) {
    return TopicTarget.open(options, sink, identity);
  }

  @Override
  public void forget(ConnectionOptions options, CatalogObject.Sink sink, String identity) {
    TopicTarget.forget(options, identity);
  }

  @Override
  public List<Listing> list(ConnectionOptions options) {
    KafkaAccess access = new KafkaAccess(options);
    access.check();
    try (Admin admin = access.admin()) {
      Set<String> names = access.get(admin.listTopics().names());
      Map<String, TopicDescription> topics =
          access.get(admin.describeTopics(names).allTopicNames());
      Map<TopicPartition, OffsetSpec> first = new HashMap<>();
      Map<TopicPartition, OffsetSpec> last = new HashMap<>();
      Map<TopicPartition, OffsetSpec> minuteAgo = new HashMap<>();
      long then = System.currentTimeMillis() - 60_000;
      topics.forEach(
          (name, topic) ->
              topic
                  .partitions()
                  .forEach(
                      p -> {
                        TopicPartition at = new TopicPartition(name, p.partition());
                        first.put(at, OffsetSpec.earliest());
                        last.put(at, OffsetSpec.latest());
                        minuteAgo.put(at, OffsetSpec.forTimestamp(then));
                      }));
      var firsts = access.get(admin.listOffsets(first).all());
      var lasts = access.get(admin.listOffsets(last).all());
      var thens = access.get(admin.listOffsets(minuteAgo).all());
      Map<String, Long> bytes = sizes(access, admin);
      return topics.values().stream()
          .sorted(Comparator.comparing(TopicDescription::name))
          .map(
              topic -> {
                long messages = 0;
                long lastMinute = 0;
                for (var p : topic.partitions()) {
                  TopicPartition at = new TopicPartition(topic.name(), p.partition());
                  messages += lasts.get(at).offset() - firsts.get(at).offset();
                  long from = thens.get(at).offset();
                  lastMinute += from < 0 ? 0 : lasts.get(at).offset() - from;
                }
                return new Listing(
                    topic.name(),
                    "topic",
                    topic.partitions().size(),
                    messages,
                    bytes.getOrDefault(topic.name(), -1L),
                    lastMinute / 60.0,
                    List.of(),
                    null);
              })
          .toList();
    } catch (KafkaException e) {
      throw access.failure(e);
    }
  }

  /** Bytes by topic, of those whose size the broker can tell and lets us know. */
  private static Map<String, Long> sizes(KafkaAccess access, Admin admin) {
    Map<String, Long> sizes = new HashMap<>();
    Map<Integer, Map<String, LogDirDescription>> dirs;
    try {
      var nodes = access.get(admin.describeCluster().nodes());
      dirs =
          access.get(
              admin.describeLogDirs(nodes.stream().map(n -> n.id()).toList()).allDescriptions());
    } catch (KafkaException e) {
      return sizes;
    }
    for (Map<String, LogDirDescription> ofNode : dirs.values()) {
      for (LogDirDescription dir : ofNode.values()) {
        dir.replicaInfos()
            .forEach((partition, info) -> sizes.merge(partition.topic(), info.size(), Long::sum));
      }
    }
    return sizes;
  }

  @Override
  public void createTopic(
      ConnectionOptions options, String name, int partitions, Long retentionMillis) {
    KafkaAccess access = new KafkaAccess(options);
    access.check();
    try (Admin admin = access.admin()) {
      if (access.get(admin.listTopics().names()).contains(name)) {
        throw new EngineException(
            Code.ALREADY_EXISTS,
            "there is a topic \"" + name + "\" already",
            "choose another name, or use the one that is there");
      }
      NewTopic topic = new NewTopic(name, partitions, (short) -1);
      if (retentionMillis != null) {
        topic.configs(Map.of("retention.ms", "" + retentionMillis));
      }
      access.get(admin.createTopics(List.of(topic)).all());
    } catch (KafkaException e) {
      throw access.failure(e);
    }
  }

  /** The partitions of a topic that must be there. */
  private static List<TopicPartition> partitions(KafkaAccess access, String topic) {
    try (Admin admin = access.admin()) {
      Set<String> names = access.get(admin.listTopics().names());
      if (!names.contains(topic)) {
        throw new EngineException(
            Code.NOT_FOUND,
            "option \"topic\": there is no topic \"" + topic + "\"",
            names.isEmpty()
                ? "the broker has no topics"
                : "there are " + String.join(", ", new TreeSet<>(names)));
      }
      return access
          .get(admin.describeTopics(List.of(topic)).allTopicNames())
          .get(topic)
          .partitions()
          .stream()
          .map(p -> new TopicPartition(topic, p.partition()))
          .toList();
    } catch (KafkaException e) {
      throw access.failure(e);
    }
  }

  private static String topic(SourceSpec source) {
    ConnectionOptions.check(source.options().keySet(), OPTIONS, "a topic");
    String topic = source.option("topic");
    if (topic == null) {
      throw new EngineException(
          Code.INVALID,
          "which topic of \"" + source.connection() + "\"?",
          "write FROM " + source.connection() + " (topic '…')");
    }
    return topic;
  }

  @Override
  public SourcePosition begin(ConnectionOptions options, CatalogObject object) {
    SourceSpec source = CatalogObject.sourceOf(object);
    String topic = topic(source);
    new MessageReader(
        object,
        null,
        new KafkaAccess(options).registryLogin()); // tells what is wrong with the format
    String gaps = source.option("gaps", "stop");
    if (!gaps.equals("stop") && !gaps.equals("skip")) {
      throw new EngineException(
          Code.INVALID, "option \"gaps\" is 'stop' or 'skip', not '" + gaps + "'", null);
    }
    if (source.option("idle_after") != null) {
      try {
        Retention.micros(source.option("idle_after"));
      } catch (IllegalArgumentException e) {
        throw new EngineException(
            Code.INVALID,
            "option \"idle_after\": '" + source.option("idle_after") + "' is not a time",
            "write a time such as '1 minute'");
      }
    }
    boolean keyed = object instanceof CatalogObject.Table;
    String start = source.option("start", "earliest");
    if (keyed && !start.equals("earliest")) {
      throw new EngineException(
          Code.INVALID,
          "option \"start\" of a table can only be 'earliest'",
          "a table is what all its topic's messages say");
    }
    KafkaAccess access = new KafkaAccess(options);
    access.check();
    List<TopicPartition> partitions = partitions(access, topic);
    try (KafkaConsumer<byte[], byte[]> consumer = access.consumer("none")) {
      KafkaPosition position = new KafkaPosition();
      try (Admin admin = access.admin()) {
        position.topicId(access.topicId(admin, topic));
      }
      offsets(consumer, partitions, start)
          .forEach((partition, offset) -> position.next().put(partition.partition(), offset));
      return position.toPosition();
    } catch (KafkaException e) {
      throw access.failure(e);
    }
  }

  /** The offsets that {@code earliest}, {@code latest} or a time stand for now. */
  private static Map<TopicPartition, Long> offsets(
      KafkaConsumer<byte[], byte[]> consumer, List<TopicPartition> partitions, String start) {
    switch (start) {
      case "earliest":
        return consumer.beginningOffsets(partitions);
      case "latest":
        return consumer.endOffsets(partitions);
      default:
        long millis;
        try {
          millis = Casts.toTimestamp(start) / 1000;
        } catch (RuntimeException e) {
          throw new EngineException(
              Code.INVALID,
              "option \"start\" cannot be \"" + start + "\"",
              "write 'earliest', 'latest' or a time such as '2026-03-02T06:00:00Z'");
        }
        Map<TopicPartition, Long> times = new HashMap<>();
        partitions.forEach(p -> times.put(p, millis));
        Map<TopicPartition, OffsetAndTimestamp> found = consumer.offsetsForTimes(times);
        Map<TopicPartition, Long> offsets = new HashMap<>(consumer.endOffsets(partitions));
        found.forEach(
            (p, at) -> {
              if (at != null) {
                offsets.put(p, at.offset());
              }
            });
        return offsets;
    }
  }

  @Override
  public List<RawMessage> peek(ConnectionOptions options, String name, String from, int count) {
    KafkaAccess access = new KafkaAccess(options);
    access.check();
    List<RawMessage> messages = new ArrayList<>();
    for (ConsumerRecord<byte[], byte[]> r : sample(access, name, from, count)) {
      messages.add(
          new RawMessage(
              r.partition(),
              r.offset(),
              r.timestamp() < 0 ? null : BoxedRows.timestamp(r.timestamp() * 1000),
              r.key(),
              KafkaAccess.headers(r.headers()),
              r.value()));
    }
    return messages;
  }

  /** Messages from a place on, oldest first; from {@code latest} those before the end. */
  private static List<ConsumerRecord<byte[], byte[]>> sample(
      KafkaAccess access, String topic, String from, int count) {
    List<TopicPartition> partitions = partitions(access, topic);
    List<ConsumerRecord<byte[], byte[]>> found = new ArrayList<>();
    try (KafkaConsumer<byte[], byte[]> consumer = access.consumer("earliest")) {
      Map<TopicPartition, Long> first = consumer.beginningOffsets(partitions);
      Map<TopicPartition, Long> end = consumer.endOffsets(partitions);
      Map<TopicPartition, Long> start = new HashMap<>(offsets(consumer, partitions, from));
      if (from.equals("latest")) {
        int share = Math.max(1, (count + partitions.size() - 1) / partitions.size());
        partitions.forEach(p -> start.put(p, Math.max(first.get(p), end.get(p) - share)));
      }
      List<TopicPartition> reading =
          partitions.stream().filter(p -> start.get(p) < end.get(p)).toList();
      consumer.assign(reading);
      reading.forEach(p -> consumer.seek(p, start.get(p)));
      long deadline = System.currentTimeMillis() + PEEK_MILLIS;
      boolean enough = reading.isEmpty();
      while (!enough && System.currentTimeMillis() < deadline) {
        consumer.poll(POLL).forEach(found::add);
        boolean atEnd = reading.stream().allMatch(p -> consumer.position(p) >= end.get(p));
        enough = atEnd || !from.equals("latest") && found.size() >= count;
      }
    } catch (KafkaException e) {
      throw access.failure(e);
    }
    found.sort(
        Comparator.<ConsumerRecord<byte[], byte[]>>comparingLong(ConsumerRecord::timestamp)
            .thenComparingInt(ConsumerRecord::partition)
            .thenComparingLong(ConsumerRecord::offset));
    int size = found.size();
    return from.equals("latest")
        ? found.subList(Math.max(0, size - count), size)
        : found.subList(0, Math.min(size, count));
  }

  @Override
  public Proposal propose(ConnectionOptions options, SourceSpec source, boolean keyed) {
    String topic = topic(source);
    KafkaAccess access = new KafkaAccess(options);
    access.check();
    List<Column> declared = Formats.declared(source, access.registryLogin());
    Function<byte[], Map<String, Object>> read = Formats.sampler(source, access.registryLogin());
    Inference inference = new Inference("csv".equals(source.format()));
    List<ConsumerRecord<byte[], byte[]>> sample = new ArrayList<>();
    sample.addAll(sample(access, topic, "earliest", SAMPLE / 2));
    Set<String> seen =
        sample.stream().map(r -> r.partition() + ":" + r.offset()).collect(Collectors.toSet());
    sample(access, topic, "latest", SAMPLE / 2).stream()
        .filter(r -> !seen.contains(r.partition() + ":" + r.offset()))
        .forEach(sample::add);
    for (ConsumerRecord<byte[], byte[]> record : sample) {
      byte[] value = record.value();
      if (value == null) {
        continue;
      }
      try {
        byte[] row = source.option("after") == null ? value : after(source, value);
        if (row != null) {
          inference.add(
              read.apply(row),
              record.key() == null ? null : new String(record.key(), StandardCharsets.UTF_8));
        }
      } catch (FormatException e) {
        inference.unread();
      }
    }
    return inference.proposal(keyed).withColumns(declared);
  }

  private static byte[] after(SourceSpec source, byte[] value) {
    return dripledger.connectors.message.Envelopes.after(source, value);
  }

  @Override
  public Feed open(
      ConnectionOptions options,
      List<CatalogObject> objects,
      SourcePosition from,
      SourceSink sink,
      LongFunction<DriftLog> drift) {
    CatalogObject object = objects.get(0);
    return new KafkaFeed(new KafkaAccess(options), object, from, sink, drift.apply(object.id()));
  }

  @Override
  public void read(
      ConnectionOptions options,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to,
      Page template,
      PartitionSink sink) {
    KafkaAccess access = new KafkaAccess(options);
    try {
      KafkaHistory.read(access, stream, new KafkaPosition(from), new KafkaPosition(to), sink);
    } catch (KafkaException e) {
      throw access.failure(e);
    }
  }

  @Override
  public MessageReader reader(ConnectionOptions options, CatalogObject object) {
    return new MessageReader(object, null, new KafkaAccess(options).registryLogin());
  }

  @Override
  public List<Object[]> again(
      ConnectionOptions options, CatalogObject.Stream stream, int partition, Page messages) {
    return new KafkaBatches(stream, null, new KafkaAccess(options).registryLogin())
        .again(partition, messages);
  }

  @Override
  public String missing(
      ConnectionOptions options,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to) {
    KafkaAccess access = new KafkaAccess(options);
    try {
      return KafkaHistory.missing(access, stream, new KafkaPosition(from), new KafkaPosition(to));
    } catch (KafkaException e) {
      throw access.failure(e);
    }
  }

  @Override
  public List<Boolean> overtaken(
      ConnectionOptions options,
      CatalogObject.Table table,
      List<Reject> rejects,
      List<Page> operations,
      SourcePosition to) {
    KafkaAccess access = new KafkaAccess(options);
    try {
      return new LaterMessages(access, table).of(rejects, operations, new KafkaPosition(to));
    } catch (KafkaException e) {
      throw access.failure(e);
    }
  }
}
