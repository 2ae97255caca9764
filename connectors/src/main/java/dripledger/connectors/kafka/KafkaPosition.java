package dripledger.connectors.kafka;

import dripledger.engine.catalog.SourcePosition;
import java.util.Map;
import java.util.TreeMap;
import java.util.stream.Collectors;

/** The next offset to read in each partition, as {@code 0:123,1:456}. */
final class KafkaPosition {
  private final Map<Integer, Long> next = new TreeMap<>();

  KafkaPosition() {}

  KafkaPosition(SourcePosition position) {
    if (position != null && !position.text().isEmpty()) {
      for (String part : position.text().split(",")) {
        int colon = part.indexOf(':');
        next.put(
            Integer.valueOf(part.substring(0, colon)), Long.valueOf(part.substring(colon + 1)));
      }
    }
  }

  Map<Integer, Long> next() {
    return next;
  }

  /** Whether an offset of a partition is before this position. */
  boolean isAfter(int partition, long offset) {
    return offset < next.getOrDefault(partition, 0L);
  }

  SourcePosition toPosition() {
    return new SourcePosition(
        next.entrySet().stream()
            .map(e -> e.getKey() + ":" + e.getValue())
            .collect(Collectors.joining(",")));
  }
}
