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
import java.util.concurrent.TimeUnit;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.apache.kafka.clients.consumer.ConsumerRecords;
import org.apache.kafka.clients.consumer.KafkaConsumer;
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
  private static final long DISCOVERY_NANOS = TimeUnit.SECONDS.toNanos(10);

  private final KafkaAccess access;
  private final CatalogObject object;
  private final String topic;
  private final boolean skipsGaps;
  private final SourceSink sink;
  private final DriftLog drift;
  private final KafkaPosition position;
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
    skipsGaps = source.option("gaps", "stop").equals("skip");
    position = new KafkaPosition(from);
    troubles = new TroubleLog(LOG, object.name());
    thread = new Thread(this::run, "feed-" + object.name());
    thread.start();
  }

  private void run() {
    while (!closed) {
      try (KafkaConsumer<byte[], byte[]> consumer = access.consumer("none")) {
        reading = consumer;
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
    KafkaBatches batches = new KafkaBatches(object, drift);
    assign(consumer, batches);
    long discovered = System.nanoTime();
    boolean paused = false;
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
        gap(consumer, e);
        continue;
      }
      if (!records.isEmpty()) {
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
      after.next().put(p.partition(), consumer.position(p));
    }
    sink.submit(read, after.toPosition(), null);
    position.next().putAll(after.next()); // not before: what was not taken is read again
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
    consumer.assign(partitions);
    for (TopicPartition p : partitions) {
      // A partition that came later is read from its start.
      Long next = position.next().get(p.partition());
      if (next == null) {
        next = consumer.beginningOffsets(List.of(p)).get(p);
        position.next().put(p.partition(), next);
      }
      consumer.seek(p, next);
    }
    sink.submit(announced, position.toPosition(), null);
  }

  private void gap(KafkaConsumer<byte[], byte[]> consumer, OffsetOutOfRangeException e) {
    Map<TopicPartition, Long> first = consumer.beginningOffsets(e.partitions());
    Map<TopicPartition, Long> end = consumer.endOffsets(e.partitions());
    for (TopicPartition p : e.partitions()) {
      long ours = position.next().get(p.partition());
      boolean older = ours < first.get(p);
      String what =
          older
              ? "the broker has forgotten " + (first.get(p) - ours) + " messages of " + p
              : p
                  + " ends at "
                  + end.get(p)
                  + ", before where we are ("
                  + ours
                  + "): was it made anew?";
      if (!skipsGaps) {
        throw new Gap(
            what
                + "; nothing is read until ALTER STREAM "
                + object.name()
                + " SET (gaps 'skip') says to go on without them");
      }
      LOG.warn("{}: {}; going on without them", object.name(), what);
      position.next().put(p.partition(), first.get(p));
      consumer.seek(p, first.get(p));
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
