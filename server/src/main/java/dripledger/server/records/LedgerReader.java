package dripledger.server.records;

import dripledger.engine.row.Page;
import dripledger.engine.row.PageCodec;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.PartitionSink;
import dripledger.engine.time.Arrival;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.time.OffsetDateTime;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.function.LongFunction;
import javax.sql.DataSource;

/** Reads the ledger's segments, by a cursor, and makes them anew in their place. Thread-safe. */
final class LedgerReader {
  private static final int FETCHED = 16;

  private final DataSource dataSource;
  private final Fence fence;

  LedgerReader(DataSource dataSource, Fence fence) {
    this.dataSource = dataSource;
    this.fence = fence;
  }

  void read(long relationId, Page template, long after, long through, PartitionSink sink) {
    scan(
        "SELECT sequence, relation_id, partition, taken_at, raw_bytes, payload FROM ledger_segment"
            + " WHERE relation_id = ? AND sequence > ? AND sequence <= ? ORDER BY sequence",
        List.of(relationId, after, through),
        (sequence, id, partition, arrived, raw) -> {
          Page page = new Page(template.layout());
          PageCodec.decode(raw, page, i -> true);
          sink.page(page, partition);
        });
  }

  void replay(long after, LongFunction<Page> template, Ledger.Receiver sink) {
    List<Ledger.Entry> gathered = new ArrayList<>();
    long[] current = {after};
    scan(
        "SELECT sequence, relation_id, partition, taken_at, raw_bytes, payload FROM ledger_segment"
            + " WHERE sequence > ? ORDER BY sequence, relation_id, partition",
        List.of(after),
        (sequence, id, partition, arrived, raw) -> {
          if (sequence != current[0] && !gathered.isEmpty()) {
            sink.committed(current[0], List.copyOf(gathered), Map.of());
            gathered.clear();
          }
          current[0] = sequence;
          Page page = template.apply(id);
          if (page != null) {
            PageCodec.decode(raw, page, i -> true);
            gathered.add(new Ledger.Entry(id, page, partition, arrived));
          }
        });
    if (!gathered.isEmpty()) {
      sink.committed(current[0], gathered, Map.of());
    }
  }

  private interface SegmentSink {
    void segment(long sequence, long relationId, int partition, long arrivedMicros, byte[] raw);
  }

  private void scan(String query, List<Long> values, SegmentSink sink) {
    try (Connection c = dataSource.getConnection()) {
      c.setAutoCommit(false); // a cursor needs a transaction
      try (PreparedStatement s = c.prepareStatement(query)) {
        s.setFetchSize(FETCHED);
        for (int i = 0; i < values.size(); i++) {
          s.setLong(i + 1, values.get(i));
        }
        try (ResultSet r = s.executeQuery()) {
          while (r.next()) {
            sink.segment(
                r.getLong(1),
                r.getLong(2),
                r.getInt(3),
                Arrival.of(r.getObject(4, OffsetDateTime.class).toInstant()),
                SegmentRow.raw(r, 5));
          }
        }
      } finally {
        c.rollback();
        c.setAutoCommit(true);
      }
    } catch (SQLException e) {
      throw new RecordsException("the ledger cannot be read", e);
    }
  }

  /** How many of the oldest changes of a relation are gone; −1 if none is there. */
  long first(long relationId) {
    try (Connection c = dataSource.getConnection();
        PreparedStatement s =
            c.prepareStatement(
                "SELECT min(first_position) FROM ledger_segment WHERE relation_id = ?")) {
      s.setLong(1, relationId);
      try (ResultSet r = s.executeQuery()) {
        r.next();
        long first = r.getLong(1);
        return r.wasNull() ? -1 : first;
      }
    } catch (SQLException e) {
      throw new RecordsException("the ledger cannot be read", e);
    }
  }

  /** As {@link Ledger#widen}: a segment a transaction. */
  void widen(long relationId, RowLayout layout, Ledger.Widener widener) {
    try (Connection c = dataSource.getConnection()) {
      c.setAutoCommit(false);
      try {
        while (widenOne(c, relationId, layout, widener)) {
          fence.confirm(c);
          c.commit();
        }
      } finally {
        c.rollback();
        c.setAutoCommit(true);
      }
    } catch (SQLException e) {
      throw new RecordsException("the ledger cannot be given new columns", e);
    }
  }

  private static boolean widenOne(
      Connection c, long relationId, RowLayout layout, Ledger.Widener widener) throws SQLException {
    try (PreparedStatement s =
            c.prepareStatement(
                "SELECT sequence, partition, columns, raw_bytes, payload, message_bytes, messages"
                    + " FROM ledger_segment WHERE relation_id = ? AND columns < ?"
                    + " AND messages IS NOT NULL ORDER BY sequence LIMIT 1 FOR UPDATE");
        PreparedStatement u =
            c.prepareStatement(
                "UPDATE ledger_segment SET columns = ?, raw_bytes = ?, payload = ?"
                    + " WHERE relation_id = ? AND sequence = ? AND partition = ?")) {
      s.setLong(1, relationId);
      s.setInt(2, layout.columns());
      try (ResultSet r = s.executeQuery()) {
        if (!r.next()) {
          return false;
        }
        Page events = new Page(layout.leading(r.getInt(3)));
        PageCodec.decode(SegmentRow.raw(r, 4), events, i -> true);
        Page wide = widener.widen(events, SegmentRow.messages(r, 6), r.getInt(2));
        u.setInt(1, layout.columns());
        SegmentRow.page(u, 2, wide);
        u.setLong(4, relationId);
        u.setLong(5, r.getLong(1));
        u.setInt(6, r.getInt(2));
        u.executeUpdate();
        return true;
      }
    }
  }
}
