package dripledger.server.records;

import com.github.luben.zstd.Zstd;
import dripledger.connectors.postgres.DatabaseErrors;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.checkpoint.CheckpointStore;
import dripledger.engine.source.InputProgress;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.Consumer;
import javax.sql.DataSource;

/**
 * Checkpoints in PostgreSQL: each is one transaction that adds the chunks of what changed and
 * replaces positions and figures. Chunks of a part are merged once the later ones are more than an
 * earlier one, a bounded number of bytes at a time. A commit whose answer was lost is looked for
 * before the checkpoint is written again: it is there once or not at all. Written by one thread at
 * a time.
 */
public final class PostgresCheckpoints implements CheckpointStore {
  private static final int COMPRESSION_LEVEL = 1;
  private static final int FEW_CHECKPOINTS = 3;
  private static final int FETCH = 8; // chunks held at once
  private static final long MERGE_BYTES = 64 << 20;
  private static final long BATCH_BYTES = 8 << 20;

  private final DataSource dataSource;
  private final Fence fence;
  private final int maxRejects;
  private long number = -1; // of the checkpoint being written, until it is known to be there
  private long numberEpoch;

  /**
   * @param fence stands before every commit
   * @param maxRejects how many rejects of one object are kept; the oldest go first
   */
  public PostgresCheckpoints(DataSource dataSource, Fence fence, int maxRejects) {
    this.dataSource = dataSource;
    this.fence = fence;
    this.maxRejects = maxRejects;
  }

  @Override
  public Saved latest() {
    try (Connection c = dataSource.getConnection()) {
      long epoch;
      long sequence;
      try (PreparedStatement s = c.prepareStatement("SELECT epoch, sequence FROM checkpoint");
          ResultSet r = s.executeQuery()) {
        if (!r.next()) {
          return null;
        }
        epoch = r.getLong(1);
        sequence = r.getLong(2);
      }
      Map<Long, SourcePosition> positions = new HashMap<>();
      try (PreparedStatement s =
              c.prepareStatement("SELECT input_id, position FROM checkpoint_input");
          ResultSet r = s.executeQuery()) {
        while (r.next()) {
          positions.put(r.getLong(1), new SourcePosition(r.getString(2)));
        }
      }
      Map<Long, SavedNode> nodes = new HashMap<>();
      try (PreparedStatement s =
              c.prepareStatement("SELECT node_id, plan, figures, parts FROM checkpoint_node");
          ResultSet r = s.executeQuery()) {
        while (r.next()) {
          nodes.put(
              r.getLong(1),
              new SavedNode(r.getLong(1), r.getString(2), r.getBytes(3), r.getInt(4)));
        }
      }
      return new Saved(epoch, sequence, positions, nodes);
    } catch (SQLException e) {
      throw new RecordsException("the checkpoint cannot be read", e);
    }
  }

  @Override
  public void read(long nodeId, int part, Consumer<byte[]> sink) {
    try (Connection c = dataSource.getConnection()) {
      c.setAutoCommit(false); // a cursor needs a transaction
      try {
        chunks(c, new Runs(nodeId, part, 0, Long.MAX_VALUE, 0, 0, true), sink);
      } finally {
        c.rollback();
        c.setAutoCommit(true);
      }
    } catch (SQLException e) {
      throw new RecordsException("the checkpoint cannot be read", e);
    }
  }

  /**
   * What some checkpoints have written of a part: those from the first to the last, of the last
   * only places below a bound.
   *
   * @param bytes of all, before compression
   * @param fromStart whether there is nothing older
   */
  private record Runs(
      long node, int part, long first, long last, int bound, long bytes, boolean fromStart) {}

  private static void chunks(Connection c, Runs runs, Consumer<byte[]> sink) throws SQLException {
    try (PreparedStatement s =
        c.prepareStatement(
            "SELECT raw_bytes, payload FROM checkpoint_chunk"
                + " WHERE node_id = ? AND part = ? AND checkpoint >= ?"
                + " AND (checkpoint < ? OR checkpoint = ? AND place < ?)"
                + " ORDER BY checkpoint, place")) {
      s.setFetchSize(FETCH);
      s.setLong(1, runs.node);
      s.setInt(2, runs.part);
      s.setLong(3, runs.first);
      s.setLong(4, runs.last);
      s.setLong(5, runs.last);
      s.setInt(6, runs.bound);
      try (ResultSet r = s.executeQuery()) {
        while (r.next()) {
          sink.accept(Zstd.decompress(r.getBytes(2), r.getInt(1)));
        }
      }
    }
  }

  @Override
  public Written write(long epoch, long sequence, InputProgress settled, Consumer<Writer> content) {
    try (Connection c = dataSource.getConnection()) {
      c.setAutoCommit(false);
      try {
        long last = lastNumber(c);
        if (number == last && numberEpoch == epoch) {
          // The commit whose answer did not come went through after all.
          number = -1;
          return written(c, 0);
        }
        number = last + 1;
        numberEpoch = epoch;
        NodeWriter writer = new NodeWriter(c, number);
        content.accept(writer);
        writer.finish();
        run(c, "DELETE FROM checkpoint_input");
        try (PreparedStatement s =
            c.prepareStatement("INSERT INTO checkpoint_input (input_id, position) VALUES (?, ?)")) {
          for (Map.Entry<Long, SourcePosition> e : settled.positions().entrySet()) {
            s.setLong(1, e.getKey());
            s.setString(2, e.getValue().text());
            s.addBatch();
          }
          s.executeBatch();
        }
        Rejects.insert(c, settled.rejects(), maxRejects);
        Rejects.remove(c, settled.replayed());
        run(
            c,
            "INSERT INTO checkpoint (number, epoch, sequence, made_at) VALUES (?, ?, ?, now())"
                + " ON CONFLICT (only_row) DO UPDATE SET number = excluded.number,"
                + " epoch = excluded.epoch, sequence = excluded.sequence, made_at = now()",
            number,
            epoch,
            sequence);
        Written written = written(c, writer.bytes);
        fence.confirm(c);
        c.commit();
        number = -1;
        return written;
      } catch (SQLException | RuntimeException e) {
        c.rollback();
        throw e;
      } finally {
        c.setAutoCommit(true);
      }
    } catch (SQLException e) {
      throw new RecordsException(
          "the checkpoint cannot be written: " + DatabaseErrors.sentence(e), e);
    }
  }

  private static long lastNumber(Connection c) throws SQLException {
    try (PreparedStatement s =
            c.prepareStatement("SELECT coalesce(max(number), 0) FROM checkpoint");
        ResultSet r = s.executeQuery()) {
      r.next();
      return r.getLong(1);
    }
  }

  private static Written written(Connection c, long bytes) throws SQLException {
    try (PreparedStatement s =
            c.prepareStatement(
                "SELECT coalesce(sum(octet_length(payload)), 0), count(*) FROM checkpoint_chunk");
        ResultSet r = s.executeQuery()) {
      r.next();
      return new Written(bytes, r.getLong(1), r.getLong(2));
    }
  }

  private static void run(Connection c, String sql, Object... values) throws SQLException {
    try (PreparedStatement s = c.prepareStatement(sql)) {
      for (int i = 0; i < values.length; i++) {
        s.setObject(i + 1, values[i]);
      }
      s.executeUpdate();
    }
  }

  /** Writes nodes and chunks into an open transaction. */
  private static final class NodeWriter implements Writer {
    private final Connection c;
    private final long number;
    private final PreparedStatement insert;
    private final Map<Long, SavedNode> nodes = new HashMap<>();
    private int place;
    private long batched;
    private long bytes;

    NodeWriter(Connection c, long number) throws SQLException {
      this.c = c;
      this.number = number;
      insert =
          c.prepareStatement(
              "INSERT INTO checkpoint_chunk"
                  + " (node_id, part, checkpoint, place, raw_bytes, payload)"
                  + " VALUES (?, ?, ?, ?, ?, ?)");
    }

    @Override
    public void node(SavedNode node) {
      nodes.put(node.id(), node);
    }

    @Override
    public void forget(long nodeId) {
      try {
        run(c, "DELETE FROM checkpoint_chunk WHERE node_id = ?", nodeId);
      } catch (SQLException e) {
        throw new RecordsException("the checkpoint cannot be written", e);
      }
    }

    @Override
    public void chunk(long nodeId, int part, byte[] chunk) {
      try {
        byte[] payload = Zstd.compress(chunk, COMPRESSION_LEVEL);
        insert.setLong(1, nodeId);
        insert.setInt(2, part);
        insert.setLong(3, number);
        insert.setInt(4, place++);
        insert.setInt(5, chunk.length);
        insert.setBytes(6, payload);
        insert.addBatch();
        bytes += payload.length;
        batched += payload.length;
        if (batched > BATCH_BYTES) {
          insert.executeBatch();
          batched = 0;
        }
      } catch (SQLException e) {
        throw new RecordsException("the checkpoint cannot be written", e);
      }
    }

    /** Figures of all nodes, and no trace of those that are gone. */
    void finish() throws SQLException {
      insert.executeBatch();
      insert.close();
      run(c, "DELETE FROM checkpoint_node");
      try (PreparedStatement s =
          c.prepareStatement(
              "INSERT INTO checkpoint_node (node_id, plan, figures, parts) VALUES (?, ?, ?, ?)")) {
        for (SavedNode node : nodes.values()) {
          s.setLong(1, node.id());
          s.setString(2, node.plan());
          s.setBytes(3, node.figures());
          s.setInt(4, node.parts());
          s.addBatch();
        }
        s.executeBatch();
      }
      Set<Long> gone = new HashSet<>();
      try (PreparedStatement s =
              c.prepareStatement("SELECT DISTINCT node_id FROM checkpoint_chunk");
          ResultSet r = s.executeQuery()) {
        while (r.next()) {
          gone.add(r.getLong(1));
        }
      }
      gone.removeAll(nodes.keySet());
      for (long id : gone) {
        forget(id);
      }
    }
  }

  @Override
  public boolean tidy() {
    try (Connection c = dataSource.getConnection()) {
      c.setAutoCommit(false);
      try {
        Runs due = due(c);
        if (due == null) {
          return false;
        }
        merge(c, due);
        fence.confirm(c);
        c.commit();
        return true;
      } catch (SQLException | RuntimeException e) {
        c.rollback();
        throw e;
      } finally {
        c.setAutoCommit(true);
      }
    } catch (SQLException e) {
      throw new RecordsException("chunks cannot be merged", e);
    }
  }

  /** What one checkpoint has written of a part. */
  private record Run(long node, int part, long checkpoint, long bytes, int places) {}

  /** A part of which there is something to be merged, or null. */
  private static Runs due(Connection c) throws SQLException {
    try (PreparedStatement s =
            c.prepareStatement(
                "SELECT node_id, part, checkpoint, sum(raw_bytes), max(place) + 1"
                    + " FROM checkpoint_chunk"
                    + " GROUP BY node_id, part, checkpoint ORDER BY node_id, part, checkpoint DESC");
        ResultSet r = s.executeQuery()) {
      List<Run> runs = new ArrayList<>();
      while (r.next()) {
        Run run = new Run(r.getLong(1), r.getInt(2), r.getLong(3), r.getLong(4), r.getInt(5));
        if (!runs.isEmpty() && (run.node != runs.get(0).node || run.part != runs.get(0).part)) {
          Runs due = due(runs);
          if (due != null) {
            return due;
          }
          runs.clear();
        }
        runs.add(run);
      }
      return due(runs);
    }
  }

  /**
   * Of the checkpoints of a part, newest first: all from one on if the later ones have written more
   * than it, so that what is old and large is seldom written again.
   */
  private static Runs due(List<Run> runs) {
    long newer = 0;
    Runs due = null;
    for (int i = 0; i < runs.size(); i++) {
      Run run = runs.get(i);
      if (i >= FEW_CHECKPOINTS && newer >= run.bytes) {
        Run last = runs.get(0);
        long bytes = newer + run.bytes;
        boolean fromStart = i == runs.size() - 1;
        due =
            new Runs(
                run.node, run.part, run.checkpoint, last.checkpoint, last.places, bytes, fromStart);
      }
      newer += run.bytes;
    }
    return due;
  }

  private static void merge(Connection c, Runs due) throws SQLException {
    try (Merged merged = new Merged(c, due)) {
      StateChunks.merge(
          sink -> {
            try {
              chunks(c, due, sink);
            } catch (SQLException e) {
              throw new RecordsException("chunks cannot be merged", e);
            }
          },
          due.bytes,
          MERGE_BYTES,
          due.fromStart,
          merged);
    }
    run(
        c,
        "DELETE FROM checkpoint_chunk WHERE node_id = ? AND part = ? AND checkpoint >= ?"
            + " AND (checkpoint < ? OR checkpoint = ? AND place < ?)",
        due.node,
        due.part,
        due.first,
        due.last,
        due.last,
        due.bound);
  }

  /** Writes merged chunks behind those of the last checkpoint. */
  private static final class Merged implements Durable.ChunkSink, AutoCloseable {
    private final Runs runs;
    private final PreparedStatement insert;
    private int place;

    Merged(Connection c, Runs runs) throws SQLException {
      this.runs = runs;
      place = runs.bound;
      insert =
          c.prepareStatement(
              "INSERT INTO checkpoint_chunk (node_id, part, checkpoint, place, raw_bytes, payload)"
                  + " VALUES (?, ?, ?, ?, ?, ?)");
    }

    @Override
    public void chunk(byte[] chunk) {
      try {
        insert.setLong(1, runs.node);
        insert.setInt(2, runs.part);
        insert.setLong(3, runs.last);
        insert.setInt(4, place++);
        insert.setInt(5, chunk.length);
        insert.setBytes(6, Zstd.compress(chunk, COMPRESSION_LEVEL));
        insert.executeUpdate();
      } catch (SQLException e) {
        throw new RecordsException("chunks cannot be merged", e);
      }
    }

    @Override
    public void close() throws SQLException {
      insert.close();
    }
  }
}
