package dripledger.connectors.kafka;

import dripledger.engine.catalog.SourcePosition;
import java.util.Map;
import java.util.Optional;
import java.util.TreeMap;
import java.util.stream.Collectors;
import org.apache.kafka.clients.consumer.OffsetAndMetadata;

/**
 * The next offset to read in each partition of a topic, as {@code id/0:123@4,1:456}: with the
 * number that the broker gave the topic when it was made, and after how many changes of its leader
 * the message before was written, so that another topic of the same name, or another log of the
 * same partition, is told from ours. Either may be missing. Not thread-safe.
 */
final class KafkaPosition {
  private final Map<Integer, Long> next = new TreeMap<>();
  private final Map<Integer, Integer> epochs = new TreeMap<>();
  private String topicId;

  KafkaPosition() {}

  KafkaPosition(SourcePosition position) {
    if (position == null || position.text().isEmpty()) {
      return;
    }
    String text = position.text();
    int slash = text.indexOf('/');
    if (slash >= 0) {
      topicId = text.substring(0, slash);
      text = text.substring(slash + 1);
    }
    for (String part : text.split(",")) {
      int colon = part.indexOf(':');
      int at = part.indexOf('@');
      if (colon < 0) {
        continue;
      }
      int partition = Integer.parseInt(part.substring(0, colon));
      next.put(partition, Long.valueOf(part.substring(colon + 1, at < 0 ? part.length() : at)));
      if (at >= 0) {
        epochs.put(partition, Integer.valueOf(part.substring(at + 1)));
      }
    }
  }

  Map<Integer, Long> next() {
    return next;
  }

  /** The broker's number for the topic, or null if it is not known. */
  String topicId() {
    return topicId;
  }

  void topicId(String id) {
    topicId = id;
  }

  /**
   * Goes on to an offset behind a message that was written in a leader's time, or by nobody known.
   */
  void advance(int partition, long offset, Optional<Integer> leaderEpoch) {
    next.put(partition, offset);
    leaderEpoch.ifPresentOrElse(e -> epochs.put(partition, e), () -> epochs.remove(partition));
  }

  /** Where to go on in a partition, as the client takes it. */
  OffsetAndMetadata seek(int partition) {
    return new OffsetAndMetadata(
        next.get(partition), Optional.ofNullable(epochs.get(partition)), "");
  }

  /** Whether an offset of a partition is before this position. */
  boolean isAfter(int partition, long offset) {
    return offset < next.getOrDefault(partition, 0L);
  }

  SourcePosition toPosition() {
    return new SourcePosition(
        (topicId == null ? "" : topicId + "/")
            + next.entrySet().stream()
                .map(
                    e ->
                        e.getKey()
                            + ":"
                            + e.getValue()
                            + (epochs.containsKey(e.getKey()) ? "@" + epochs.get(e.getKey()) : ""))
                .collect(Collectors.joining(",")));
  }
}
