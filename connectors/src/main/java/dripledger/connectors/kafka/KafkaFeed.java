package dripledger.connectors.kafka;

import dripledger.connectors.TroubleLog;
import dripledger.connectors.format.DriftLog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.source.Feed;
import dripledger.engine.source.FeedStatus;
import dripledger.engine.source.SourceBatch;
import dripledger.engine.source.SourceSink;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Optional;
import java.util.concurrent.TimeUnit;
import java.util.function.Supplier;
import org.apache.kafka.clients.admin.Admin;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.apache.kafka.clients.consumer.ConsumerRecords;
import org.apache.kafka.clients.consumer.KafkaConsumer;
import org.apache.kafka.clients.consumer.LogTruncationException;
import org.apache.kafka.clients.consumer.OffsetAndMetadata;
import org.apache.kafka.clients.consumer.OffsetOutOfRangeException;
import org.apache.kafka.common.KafkaException;
import org.apache.kafka.common.PartitionInfo;
import org.apache.kafka.common.TopicPartition;
import org.apache.kafka.common.errors.InterruptException;
import org.apache.kafka.common.errors.WakeupException;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Reads one topic on a thread of its own. Where it stands is ours to say: partitions are assigned,
 * not subscribed to, and nothing is committed at the broker but, for others to look at, what a
 * checkpoint holds. While the engine has enough, partitions are paused.
 */
final class KafkaFeed implements Feed {
  private static final Logger LOG = LoggerFactory.getLogger(KafkaFeed.class);
  private static final long RETRY_MILLIS = 1000;
  private static final long CLOSE_MILLIS = 1500;
  private static final long UNSEEN_NANOS = TimeUnit.MILLISECONDS.toNanos(50);
  private static final long DISCOVERY_NANOS = TimeUnit.SECONDS.toNanos(10);

  private final KafkaAccess access;
  private final CatalogObject object;
  private final String topic;
  private final boolean skipsGaps;
  private final SourceSink sink;
  private final DriftLog drift;
  private KafkaPosition position;
  private final TroubleLog troubles;
  private final Thread thread;
  private volatile boolean closed;
  private volatile String state = "reading";
  private volatile String reason;
  private volatile long messages;
  private volatile long bytes;
  private volatile long behind = -1;
  private volatile SourcePosition durable;
  private volatile KafkaConsumer<byte[], byte[]> reading;
  private Supplier<String> identity;

  KafkaFeed(
      KafkaAccess access,
      CatalogObject object,
      SourcePosition from,
      SourceSink sink,
      DriftLog drift) {
    this.access = access;
    this.object = object;
    this.sink = sink;
    this.drift = drift;
    SourceSpec source = CatalogObject.sourceOf(object);
    topic = source.option("topic");
    skipsGaps = skipsGaps(source);
    position = new KafkaPosition(from);
    troubles = new TroubleLog(LOG, object.name());
    thread = new Thread(this::run, "feed-" + object.name());
    thread.start();
  }

  /** Whether what is gone at the broker is to be passed over. */
  static boolean skipsGaps(SourceSpec source) {
    return source.option("gaps", "stop").equals("skip");
  }

  private void run() {
    while (!closed) {
      try (KafkaConsumer<byte[], byte[]> consumer = access.consumer("none");
          Admin admin = access.admin()) {
        reading = consumer;
        identity = () -> access.topicId(admin, topic);
        read(consumer);
      } catch (InterruptedException | InterruptException | WakeupException e) {
        return;
      } catch (Gap e) {
        LOG.error("{} has stopped: {}", object.name(), e.getMessage());
        state = "stopped";
        reason = e.getMessage();
        return;
      } catch (KafkaException | EngineException e) {
        state = "waiting";
        reason = access.failure(e).getMessage();
        troubles.tell(reason);
        pause();
      } catch (RuntimeException e) {
        state = "waiting";
        reason = String.valueOf(e.getMessage());
        LOG.error("{} cannot be read, trying again", object.name(), e);
        pause();
      }
    }
  }

  private void pause() {
    try {
      Thread.sleep(RETRY_MILLIS);
    } catch (InterruptedException e) {
      closed = true;
    }
  }

  /** Messages that should be there are not. */
  private static final class Gap extends RuntimeException {
    private static final long serialVersionUID = 1L;

    Gap(String message) {
      super(message);
    }
  }

  private void read(KafkaConsumer<byte[], byte[]> consumer) throws InterruptedException {
    KafkaBatches batches = new KafkaBatches(object, drift, access.registryLogin());
    assign(consumer, batches);
    long discovered = System.nanoTime();
    boolean paused = false;
    boolean moved = false; // whether the last call brought messages
    long called = System.nanoTime();
    SourcePosition committed = null;
    while (!closed) {
      boolean full = sink.full();
      if (full != paused) {
        paused = full;
        if (full) {
          consumer.pause(consumer.assignment());
        } else {
          consumer.resume(consumer.assignment());
        }
      }
      ConsumerRecords<byte[], byte[]> records;
      try {
        records = consumer.poll(KafkaConnector.POLL);
      } catch (OffsetOutOfRangeException e) {
        if (!isAnother(consumer, batches)) {
          gap(consumer, e);
        }
        continue;
      }
      // Between messages of one topic and those of the next of its name there is a pause.
      boolean another =
          !records.isEmpty()
              && (!moved || System.nanoTime() - called > UNSEEN_NANOS)
              && isAnother(consumer, batches);
      moved = !records.isEmpty();
      called = System.nanoTime();
      if (!records.isEmpty() && !another) {
        troubles.over();
        submit(consumer, batches, records);
      }
      note(consumer, paused);
      if (System.nanoTime() - discovered > DISCOVERY_NANOS) {
        discovered = System.nanoTime();
        if (consumer.partitionsFor(topic).size() != consumer.assignment().size()) {
          assign(consumer, batches);
        }
      }
      if (access.hasGroup() && durable != null && !durable.equals(committed)) {
        committed = durable;
        commitForOthers(consumer, committed);
      }
    }
  }

  private void submit(
      KafkaConsumer<byte[], byte[]> consumer,
      KafkaBatches batches,
      ConsumerRecords<byte[], byte[]> records)
      throws InterruptedException {
    List<SourceBatch> read = new ArrayList<>();
    KafkaPosition after = new KafkaPosition(position.toPosition());
    long size = 0;
    for (TopicPartition p : records.partitions()) {
      List<ConsumerRecord<byte[], byte[]>> of = records.records(p);
      read.add(batches.read(p, of));
      for (ConsumerRecord<byte[], byte[]> r : of) {
        size += Math.max(0, r.serializedKeySize()) + Math.max(0, r.serializedValueSize());
      }
      // Not the last record's offset + 1: there may be marks of transactions behind it.
      after.advance(p.partition(), consumer.position(p), of.get(of.size() - 1).leaderEpoch());
    }
    sink.submit(read, after.toPosition(), null);
    position = after; // not before: what was not taken is read again
    messages += records.count();
    bytes += size;
  }

  private void note(KafkaConsumer<byte[], byte[]> consumer, boolean paused) {
    long lag = 0;
    boolean known = true;
    for (TopicPartition p : consumer.assignment()) {
      var of = consumer.currentLag(p);
      known &= of.isPresent();
      lag += of.orElse(0);
    }
    behind = known ? lag : -1;
    state = paused ? "waiting" : "reading";
    reason = paused ? FeedStatus.FULL : null;
  }

  private void assign(KafkaConsumer<byte[], byte[]> consumer, KafkaBatches batches)
      throws InterruptedException {
    List<PartitionInfo> infos = consumer.partitionsFor(topic);
    List<TopicPartition> partitions = new ArrayList<>();
    List<SourceBatch> announced = new ArrayList<>();
    if (infos == null || infos.isEmpty()) {
      throw new EngineException(
          EngineException.Code.FAILED, "the topic \"" + topic + "\" is not there", null);
    }
    for (PartitionInfo info : infos) {
      partitions.add(new TopicPartition(topic, info.partition()));
      announced.add(batches.empty(info.partition()));
    }
    String id = identity.get();
    if (position.topicId() == null) {
      position.topicId(id);
    } else if (!position.topicId().equals(id)) {
      skip("the topic \"" + topic + "\" was deleted and made anew");
      position = new KafkaPosition();
      position.topicId(id);
    }
    batches.of(id);
    consumer.assign(partitions);
    for (TopicPartition p : partitions) {
      // A partition that came later is read from its start.
      Long next = position.next().get(p.partition());
      if (next == null) {
        next = consumer.beginningOffsets(List.of(p)).get(p);
        position.next().put(p.partition(), next);
      }
      consumer.seek(p, position.seek(p.partition()));
    }
    sink.submit(announced, position.toPosition(), null);
  }

  /** Whether the topic is another one of the same name; then reading begins anew with it. */
  private boolean isAnother(KafkaConsumer<byte[], byte[]> consumer, KafkaBatches batches)
      throws InterruptedException {
    if (identity.get().equals(position.topicId())) {
      return false;
    }
    assign(consumer, batches);
    return true;
  }

  /** Goes on without something, or not at all. */
  private void skip(String what) {
    if (!skipsGaps) {
      throw new Gap(
          what
              + (object instanceof CatalogObject.Table
                  ? "; nothing is read until the table is dropped and created again"
                  : "; nothing is read until ALTER STREAM "
                      + object.name()
                      + " SET (gaps 'skip') says to go on without what is gone"));
    }
    LOG.warn("{}: {}; going on without what is gone", object.name(), what);
  }

  private void gap(KafkaConsumer<byte[], byte[]> consumer, OffsetOutOfRangeException e) {
    Map<TopicPartition, Long> first = consumer.beginningOffsets(e.partitions());
    Map<TopicPartition, Long> end = consumer.endOffsets(e.partitions());
    for (TopicPartition p : e.partitions()) {
      long ours = position.next().get(p.partition());
      boolean older = ours < first.get(p);
      String what =
          e instanceof LogTruncationException
              ? "the broker has lost messages of " + p + " that were read"
              : older
                  ? "the broker has forgotten " + (first.get(p) - ours) + " messages of " + p
                  : p
                      + " ends at "
                      + end.get(p)
                      + ", before where we are ("
                      + ours
                      + "): was it made anew?";
      skip(what);
      OffsetAndMetadata lost =
          e instanceof LogTruncationException t ? t.divergentOffsets().get(p) : null;
      position.advance(
          p.partition(), lost == null ? first.get(p) : lost.offset(), Optional.empty());
      consumer.seek(p, position.seek(p.partition()));
    }
  }

  /** Shown in the broker's own tools; never read back. */
  private void commitForOthers(KafkaConsumer<byte[], byte[]> consumer, SourcePosition held) {
    Map<TopicPartition, OffsetAndMetadata> offsets = new HashMap<>();
    new KafkaPosition(held)
        .next()
        .forEach(
            (p, next) -> offsets.put(new TopicPartition(topic, p), new OffsetAndMetadata(next)));
    consumer.commitAsync(
        offsets,
        (done, e) -> {
          if (e != null) {
            LOG.debug("positions of {} could not be shown at the broker", object.name(), e);
          }
        });
  }

  @Override
  public void durable(SourcePosition held) {
    durable = held;
  }

  @Override
  public FeedStatus status() {
    return new FeedStatus(state, reason, messages, bytes, behind, "messages", Map.of());
  }

  @Override
  public void close() {
    closed = true;
    KafkaConsumer<byte[], byte[]> consumer = reading;
    if (consumer != null) {
      consumer.wakeup();
    }
    try {
      thread.join(CLOSE_MILLIS);
      thread.interrupt(); // it waits for the engine, or has ended
      thread.join(10_000);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }
}
