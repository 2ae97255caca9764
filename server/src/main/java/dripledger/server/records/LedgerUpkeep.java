package dripledger.server.records;

import dripledger.engine.row.Page;
import dripledger.engine.row.PageCodec;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.KeptMessages;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.time.Instant;
import java.time.OffsetDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.List;
import java.util.function.Consumer;
import javax.sql.DataSource;

/**
 * Keeps the ledger small, behind the checkpoint only: what recovery would read is never touched,
 * since the checkpoint's sequence is read in the same transaction. Thread-safe; each call is one
 * transaction or several of bounded size.
 */
public final class LedgerUpkeep {
  static final long MERGED_BYTES = 4 << 20;

  private static final int MANY_SEGMENTS = 64;

  private final DataSource dataSource;
  private final Fence fence;

  public LedgerUpkeep(DataSource dataSource, Fence fence) {
    this.dataSource = dataSource;
    this.fence = fence;
  }

  private interface Work<T> {
    T run(Connection c, long checkpoint) throws SQLException;
  }

  /** Runs work in a transaction that knows up to which sequence a checkpoint holds everything. */
  private <T> T behindCheckpoint(Work<T> work) {
    try (Connection c = dataSource.getConnection()) {
      c.setAutoCommit(false);
      try {
        fence.confirm(c);
        long sequence = -1;
        try (PreparedStatement s = c.prepareStatement("SELECT sequence FROM checkpoint FOR SHARE");
            ResultSet r = s.executeQuery()) {
          if (r.next()) {
            sequence = r.getLong(1);
          }
        }
        T done = work.run(c, sequence);
        c.commit();
        return done;
      } catch (SQLException | RuntimeException e) {
        c.rollback();
        throw e;
      } finally {
        c.setAutoCommit(true);
      }
    } catch (SQLException e) {
      throw new RecordsException("the ledger cannot be tidied", e);
    }
  }

  /**
   * Lets go of the events of a stream that were taken before a moment.
   *
   * @return how many segments went
   */
  public int forget(long relationId, Instant before) {
    return behindCheckpoint(
        (c, checkpoint) -> {
          try (PreparedStatement s =
              c.prepareStatement(
                  "DELETE FROM ledger_segment"
                      + " WHERE relation_id = ? AND taken_at < ? AND sequence <= ?")) {
            s.setLong(1, relationId);
            s.setObject(2, before.atOffset(ZoneOffset.UTC));
            s.setLong(3, checkpoint);
            return s.executeUpdate();
          }
        });
  }

  /** Lets go of the ids of changes made before a moment; answers how many. */
  public int forgetChanges(Instant before) {
    return behindCheckpoint(
        (c, checkpoint) -> {
          try (PreparedStatement s =
              c.prepareStatement("DELETE FROM change_made WHERE made_at < ?")) {
            s.setObject(1, before.atOffset(ZoneOffset.UTC));
            return s.executeUpdate();
          }
        });
  }

  /** Whether the changes kept of a table are so many that its rows should stand in their place. */
  public boolean worthFolding(long relationId, long rows) {
    return behindCheckpoint(
        (c, checkpoint) -> {
          try (PreparedStatement s =
              c.prepareStatement(
                  "SELECT count(*), coalesce(sum(changes), 0) FROM ledger_segment"
                      + " WHERE relation_id = ?")) {
            s.setLong(1, relationId);
            try (ResultSet r = s.executeQuery()) {
              r.next();
              return r.getLong(1) > MANY_SEGMENTS && r.getLong(2) > 2 * rows;
            }
          }
        });
  }

  /**
   * Puts the rows of a table in the place of the changes that have led to them.
   *
   * @param through the ledger's sequence that the rows stand for
   * @param rows gives the rows in pages that are only valid during the call
   * @return false if no checkpoint holds that much yet; nothing was done then
   */
  public boolean fold(long relationId, long through, Consumer<Consumer<Page>> rows) {
    return behindCheckpoint(
        (c, checkpoint) -> {
          if (checkpoint < through) {
            return false;
          }
          try (PreparedStatement s =
              c.prepareStatement(
                  "DELETE FROM ledger_segment WHERE relation_id = ? AND sequence <= ?")) {
            s.setLong(1, relationId);
            s.setLong(2, through);
            s.executeUpdate();
          }
          List<SQLException> failed = new ArrayList<>();
          int[] number = new int[1];
          rows.accept(
              page -> {
                try {
                  insert(
                      c,
                      new SegmentRow(
                          through,
                          relationId,
                          number[0]++,
                          0,
                          OffsetDateTime.now(ZoneOffset.UTC),
                          page,
                          null));
                } catch (SQLException e) {
                  failed.add(e);
                }
              });
          if (!failed.isEmpty()) {
            throw failed.get(0);
          }
          return true;
        });
  }

  private record Small(
      long sequence, int partition, long first, OffsetDateTime at, byte[] raw, Page messages) {}

  /**
   * Merges a run of small segments of a stream, all of one partition, into one; call it until it
   * answers false.
   */
  public boolean merge(long relationId, RowLayout layout) {
    return behindCheckpoint(
        (c, checkpoint) -> {
          List<Small> run = smallest(c, relationId, checkpoint);
          if (run.size() < MANY_SEGMENTS) {
            return false;
          }
          Page page = new Page(layout);
          boolean kept = run.stream().anyMatch(small -> small.messages != null);
          Page messages = kept ? new Page(KeptMessages.LAYOUT) : null;
          for (Small small : run) {
            int before = page.size();
            PageCodec.decode(small.raw, page, i -> true);
            if (small.messages != null) {
              messages.appendAll(small.messages);
            } else if (kept) {
              KeptMessages.none(messages, page.size() - before);
            }
          }
          Small last = run.get(run.size() - 1);
          try (PreparedStatement s =
              c.prepareStatement(
                  "DELETE FROM ledger_segment"
                      + " WHERE relation_id = ? AND partition = ? AND sequence BETWEEN ? AND ?")) {
            s.setLong(1, relationId);
            s.setInt(2, last.partition);
            s.setLong(3, run.get(0).sequence);
            s.setLong(4, last.sequence);
            s.executeUpdate();
          }
          insert(
              c,
              new SegmentRow(
                  last.sequence,
                  relationId,
                  last.partition,
                  run.get(0).first,
                  last.at,
                  page,
                  messages));
          return true;
        });
  }

  /** The first segments in a row that are small, of the partition that has most of them. */
  private static List<Small> smallest(Connection c, long relationId, long checkpoint)
      throws SQLException {
    List<Small> run = new ArrayList<>();
    long bytes = 0;
    try (PreparedStatement s =
        c.prepareStatement(
            """
            SELECT sequence, partition, first_position, taken_at, raw_bytes, payload,
              message_bytes, messages
            FROM ledger_segment
            WHERE relation_id = ? AND sequence <= ? AND partition = (
              SELECT partition FROM ledger_segment
              WHERE relation_id = ? AND sequence <= ? AND raw_bytes < ?
              GROUP BY partition ORDER BY count(*) DESC LIMIT 1)
            ORDER BY sequence""")) {
      s.setFetchSize(64);
      s.setLong(1, relationId);
      s.setLong(2, checkpoint);
      s.setLong(3, relationId);
      s.setLong(4, checkpoint);
      s.setLong(5, MERGED_BYTES / MANY_SEGMENTS);
      try (ResultSet r = s.executeQuery()) {
        while (r.next() && bytes < MERGED_BYTES) {
          int raw = r.getInt(5) + r.getInt(7);
          if (raw >= MERGED_BYTES / 2) {
            if (run.size() >= MANY_SEGMENTS) {
              break;
            }
            run.clear(); // large enough as it is; a run does not go over it
            bytes = 0;
            continue;
          }
          run.add(
              new Small(
                  r.getLong(1),
                  r.getInt(2),
                  r.getLong(3),
                  r.getObject(4, OffsetDateTime.class),
                  SegmentRow.raw(r, 5),
                  SegmentRow.messages(r, 7)));
          bytes += raw;
        }
      }
    }
    return run;
  }

  private static void insert(Connection c, SegmentRow segment) throws SQLException {
    try (PreparedStatement s = c.prepareStatement(SegmentRow.INSERT)) {
      segment.set(s);
      s.executeUpdate();
    }
  }
}
