package dripledger.server.records;

import com.github.luben.zstd.Zstd;
import dripledger.engine.row.Page;
import dripledger.engine.row.PageCodec;
import dripledger.engine.source.KeptMessages;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Types;
import java.time.OffsetDateTime;

/**
 * A segment of the ledger as a row of its table: changes of one relation, from one partition.
 *
 * @param first how many changes the relation had before
 * @param events the changes
 * @param messages they were read from, one for each, or null
 */
record SegmentRow(
    long sequence,
    long relationId,
    int partition,
    long first,
    OffsetDateTime takenAt,
    Page events,
    Page messages) {
  private static final int COMPRESSION_LEVEL = 3;

  /** Takes {@link #set}. */
  static final String INSERT =
      "INSERT INTO ledger_segment (sequence, relation_id, partition, first_position, changes,"
          + " taken_at, columns, raw_bytes, payload, message_bytes, messages)"
          + " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)";

  void set(PreparedStatement s) throws SQLException {
    s.setLong(1, sequence);
    s.setLong(2, relationId);
    s.setInt(3, partition);
    s.setLong(4, first);
    s.setInt(5, events.size());
    s.setObject(6, takenAt);
    s.setInt(7, events.layout().columns());
    page(s, 8, events);
    if (messages == null) {
      s.setNull(10, Types.INTEGER);
      s.setNull(11, Types.BINARY);
    } else {
      page(s, 10, messages);
    }
  }

  /** Sets the size and the bytes of a page. */
  static void page(PreparedStatement s, int at, Page page) throws SQLException {
    byte[] raw = PageCodec.encode(page);
    s.setInt(at, raw.length);
    s.setBytes(at + 1, Zstd.compress(raw, COMPRESSION_LEVEL));
  }

  /** The bytes of a page from its size and what {@link #page} has written. */
  static byte[] raw(ResultSet r, int at) throws SQLException {
    return Zstd.decompress(r.getBytes(at + 1), r.getInt(at));
  }

  /** The messages from their size and bytes, or null if there are none. */
  static Page messages(ResultSet r, int at) throws SQLException {
    if (r.getBytes(at + 1) == null) {
      return null;
    }
    Page messages = new Page(KeptMessages.LAYOUT);
    PageCodec.decode(raw(r, at), messages, i -> true);
    return messages;
  }
}
