package dripledger.connectors.postgres;

import dripledger.engine.catalog.SourcePosition;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import org.postgresql.replication.LogSequenceNumber;

/**
 * A place in the source's log, and what its partitioned tables were made of there. As text {@code
 * 0/16B3748}, with {@code 41=16385.16390+…} behind it for table 41 of ours. Immutable.
 *
 * @param lsn everything before it is held
 * @param partitions by the number of our table; tables without partitions are left out
 */
record LogPosition(long lsn, Map<Long, Partitions> partitions) {
  static LogPosition parse(SourcePosition position) {
    String[] words = position.text().split(" ");
    Map<Long, Partitions> partitions = new TreeMap<>();
    for (int i = 1; i < words.length; i++) {
      int is = words[i].indexOf('=');
      partitions.put(
          Long.parseLong(words[i].substring(0, is)), Partitions.parse(words[i].substring(is + 1)));
    }
    return new LogPosition(LogSequenceNumber.valueOf(words[0]).asLong(), partitions);
  }

  /** The position without partitioned tables. */
  static SourcePosition at(long lsn) {
    return new SourcePosition(LogSequenceNumber.valueOf(lsn).asString());
  }

  /** The position with those of the tables that have partitions. */
  static SourcePosition of(long lsn, List<FollowedTable> tables) {
    Map<Long, Partitions> partitions = new TreeMap<>();
    for (FollowedTable t : tables) {
      if (!t.partitions.files().isEmpty()) {
        partitions.put(t.table.id(), t.partitions);
      }
    }
    StringBuilder text = new StringBuilder(LogSequenceNumber.valueOf(lsn).asString());
    partitions.forEach(
        (table, parts) -> text.append(' ').append(table).append('=').append(parts.text()));
    return new SourcePosition(text.toString());
  }
}
