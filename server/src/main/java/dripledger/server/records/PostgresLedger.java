package dripledger.server.records;

import dripledger.connectors.postgres.DatabaseErrors;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.KeptMessages;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.PartitionSink;
import dripledger.engine.source.Reject;
import dripledger.engine.time.Arrival;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.time.OffsetDateTime;
import java.time.ZoneOffset;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ConcurrentHashMap;
import java.util.function.LongFunction;
import javax.sql.DataSource;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * The ledger in PostgreSQL, by group commit: one writer thread takes all appends that wait, writes
 * them as one segment (a compressed page a relation) in one transaction, hands the segment to the
 * receiver and acknowledges. An append is never split over segments.
 *
 * <p>If the database fails, the writer tries the same segment again until it is there; a segment
 * whose commit was in doubt is looked for first, so it is written exactly once. Appends wait
 * meanwhile, up to a bound in bytes. Thread-safe.
 */
public final class PostgresLedger implements Ledger {
  private static final Logger LOG = LoggerFactory.getLogger(PostgresLedger.class);
  private static final long MAX_SEGMENT_BYTES = 4 << 20;
  private static final long RETRY_MILLIS = 500;

  private record Pending(
      List<Entry> entries,
      InputProgress settled,
      String id,
      long bytes,
      CompletableFuture<Receipt> acknowledged) {}

  private record PageKey(long relationId, int partition) {}

  /** The changes of a segment, and the messages they were read from if any have some. */
  private static final class Gathered {
    Page page;
    Page messages;

    void add(Entry entry) {
      int before = page == null ? 0 : page.size();
      page = with(page, entry.changes());
      if (entry.messages() == null && messages == null) {
        return;
      }
      if (messages == null) {
        messages = new Page(KeptMessages.LAYOUT);
        KeptMessages.none(messages, before);
      }
      if (entry.messages() == null) {
        KeptMessages.none(messages, entry.changes().size());
      } else {
        messages.appendAll(entry.messages());
      }
    }

    /** The gathered page with more rows; made anew if those have a column it does not have yet. */
    private static Page with(Page gathered, Page more) {
      Page page = gathered;
      if (page == null || page.layout().columns() < more.layout().columns()) {
        page = new Page(more.layout());
        if (gathered != null) {
          page.appendAll(gathered);
        }
      }
      page.appendAll(more);
      return page;
    }
  }

  /** One group commit, on its way. */
  private record Segment(
      long sequence,
      long arrivedMicros,
      Map<PageKey, Gathered> pages,
      Map<Long, SourcePosition> inputs,
      List<Reject> rejects,
      List<Long> replayed,
      List<String> ids) {}

  private final DataSource dataSource;
  private final Fence fence;
  private final LedgerReader reader;
  private final long maxWaitingBytes;
  private final ArrayDeque<Pending> queue = new ArrayDeque<>();
  private final Map<Long, Long> positions = new HashMap<>();
  private final Map<Long, SourcePosition> inputs = new ConcurrentHashMap<>();
  private final int maxRejects;
  private final Thread writer = new Thread(this::write, "ledger-writer");
  private long waitingBytes;
  private boolean closed;
  private volatile long lastSequence;
  private volatile Receiver receiver;

  /**
   * Reads where the ledger ends and starts the writer.
   *
   * @param fence stands before every commit
   * @param maxRejects how many rejects of one object are kept
   */
  public PostgresLedger(DataSource dataSource, Fence fence, long maxWaitingBytes, int maxRejects) {
    this.dataSource = dataSource;
    this.fence = fence;
    reader = new LedgerReader(dataSource, fence);
    this.maxWaitingBytes = maxWaitingBytes;
    this.maxRejects = maxRejects;
    try (Connection c = dataSource.getConnection()) {
      try (PreparedStatement s =
              c.prepareStatement("SELECT coalesce(max(sequence), 0) FROM ledger_end");
          ResultSet r = s.executeQuery()) {
        r.next();
        lastSequence = r.getLong(1);
      }
      try (PreparedStatement s =
              c.prepareStatement("SELECT relation_id, position FROM ledger_end");
          ResultSet r = s.executeQuery()) {
        while (r.next()) {
          positions.put(r.getLong(1), r.getLong(2));
        }
      }
      try (PreparedStatement s = c.prepareStatement("SELECT input_id, position FROM ledger_input");
          ResultSet r = s.executeQuery()) {
        while (r.next()) {
          inputs.put(r.getLong(1), new SourcePosition(r.getString(2)));
        }
      }
    } catch (SQLException e) {
      throw new RecordsException("the ledger cannot be read", e);
    }
    writer.start();
  }

  @Override
  public void receiver(Receiver newReceiver) {
    receiver = newReceiver;
  }

  @Override
  public Map<Long, SourcePosition> positions() {
    return Map.copyOf(inputs);
  }

  @Override
  public long lastSequence() {
    return lastSequence;
  }

  @Override
  public long position(long relationId) {
    synchronized (positions) {
      return positions.getOrDefault(relationId, 0L);
    }
  }

  @Override
  public long forgotten(long relationId) {
    long first = reader.first(relationId);
    return first < 0 ? position(relationId) : first;
  }

  /** Bytes that wait to become durable. */
  public synchronized long waitingBytes() {
    return waitingBytes;
  }

  @Override
  public CompletableFuture<Receipt> append(List<Entry> entries, InputProgress settled, String id) {
    long bytes =
        entries.stream().mapToLong(PostgresLedger::bytes).sum()
            + settled.rejects().stream().mapToLong(r -> r.raw() == null ? 0 : r.raw().length).sum();
    Pending pending =
        new Pending(List.copyOf(entries), settled, id, bytes, new CompletableFuture<>());
    synchronized (this) {
      while (waitingBytes > maxWaitingBytes && !closed) {
        try {
          wait();
        } catch (InterruptedException e) {
          Thread.currentThread().interrupt();
          pending.acknowledged.completeExceptionally(e);
          return pending.acknowledged;
        }
      }
      if (closed) {
        pending.acknowledged.completeExceptionally(
            new IllegalStateException("the service is shutting down"));
        return pending.acknowledged;
      }
      queue.add(pending);
      waitingBytes += bytes;
      notifyAll();
    }
    return pending.acknowledged;
  }

  private static long bytes(Entry e) {
    return (long) e.changes().byteSize() + (e.messages() == null ? 0 : e.messages().byteSize());
  }

  private void write() {
    while (true) {
      List<Pending> group = new ArrayList<>();
      synchronized (this) {
        while (queue.isEmpty() && !closed) {
          try {
            wait();
          } catch (InterruptedException e) {
            closed = true;
          }
        }
        if (queue.isEmpty()) {
          return;
        }
        long bytes = 0;
        while (!queue.isEmpty() && (group.isEmpty() || bytes < MAX_SEGMENT_BYTES)) {
          Pending next = queue.poll();
          bytes += next.bytes;
          group.add(next);
        }
      }
      try {
        commit(group);
      } catch (RuntimeException e) {
        LOG.error("a group of appends failed", e);
        group.forEach(p -> p.acknowledged.completeExceptionally(e));
      }
      synchronized (this) {
        group.forEach(p -> waitingBytes -= p.bytes);
        notifyAll();
      }
    }
  }

  private void commit(List<Pending> group) {
    Map<PageKey, Gathered> pages = new LinkedHashMap<>();
    Map<Long, SourcePosition> read = new HashMap<>();
    List<Reject> rejects = new ArrayList<>();
    List<Long> replayed = new ArrayList<>();
    List<String> ids = new ArrayList<>();
    List<long[]> ends = new ArrayList<>();
    Map<Long, Long> counted = new HashMap<>();
    for (Pending pending : group) {
      long[] positionsAfter = new long[pending.entries.size()];
      for (int i = 0; i < positionsAfter.length; i++) {
        Entry entry = pending.entries.get(i);
        pages
            .computeIfAbsent(
                new PageKey(entry.relationId(), entry.partition()), key -> new Gathered())
            .add(entry);
        positionsAfter[i] =
            position(entry.relationId())
                + counted.merge(entry.relationId(), (long) entry.changes().size(), Long::sum);
      }
      ends.add(positionsAfter);
      read.putAll(pending.settled.positions());
      rejects.addAll(pending.settled.rejects());
      replayed.addAll(pending.settled.replayed());
      if (pending.id != null) {
        ids.add(pending.id);
      }
    }
    long sequence = lastSequence + 1;
    long arrived =
        group.stream()
            .flatMap(p -> p.entries.stream())
            .mapToLong(Entry::arrivedMicros)
            .min()
            .orElseGet(Arrival::now);
    if (!store(new Segment(sequence, arrived, pages, read, rejects, replayed, ids))) {
      group.forEach(
          p ->
              p.acknowledged.completeExceptionally(
                  new IllegalStateException("the service is shutting down")));
      return;
    }
    synchronized (positions) {
      counted.forEach((id, n) -> positions.merge(id, n, Long::sum));
    }
    inputs.putAll(read);
    lastSequence = sequence;
    Receiver to = receiver;
    if (to != null) {
      List<Entry> merged = new ArrayList<>();
      pages.forEach(
          (key, g) -> merged.add(new Entry(key.relationId, g.page, key.partition, arrived)));
      to.committed(sequence, merged, read);
    }
    for (int i = 0; i < group.size(); i++) {
      group.get(i).acknowledged.complete(new Receipt(sequence, ends.get(i)));
    }
  }

  /** Writes the segment until it is there; false if the service closes before it is. */
  private boolean store(Segment segment) {
    boolean inDoubt = false;
    while (true) {
      try {
        if (inDoubt && exists(segment.sequence)) {
          return true;
        }
        insert(segment);
        return true;
      } catch (SQLException e) {
        inDoubt = true;
        LOG.warn("the ledger cannot be written, trying again: {}", DatabaseErrors.sentence(e));
        synchronized (this) {
          if (closed) {
            return false;
          }
          try {
            wait(RETRY_MILLIS);
          } catch (InterruptedException interrupt) {
            closed = true;
          }
        }
      }
    }
  }

  private boolean exists(long sequence) throws SQLException {
    try (Connection c = dataSource.getConnection();
        PreparedStatement s =
            c.prepareStatement("SELECT 1 FROM ledger_end WHERE sequence = ? LIMIT 1")) {
      fence.confirm(c);
      s.setLong(1, sequence);
      try (ResultSet r = s.executeQuery()) {
        return r.next();
      }
    }
  }

  private void insert(Segment segment) throws SQLException {
    try (Connection c = dataSource.getConnection()) {
      c.setAutoCommit(false);
      try (PreparedStatement s = c.prepareStatement(SegmentRow.INSERT)) {
        OffsetDateTime at = Arrival.at(segment.arrivedMicros).atOffset(ZoneOffset.UTC);
        Map<Long, Long> ends = new HashMap<>();
        for (Map.Entry<PageKey, Gathered> e : segment.pages.entrySet()) {
          long id = e.getKey().relationId;
          Page page = e.getValue().page;
          long first = ends.computeIfAbsent(id, this::position);
          ends.put(id, first + page.size());
          if (!page.isEmpty()) {
            new SegmentRow(
                    segment.sequence,
                    id,
                    e.getKey().partition,
                    first,
                    at,
                    page,
                    e.getValue().messages)
                .set(s);
            s.addBatch();
          }
        }
        s.executeBatch();
        end(c, segment, ends);
        made(c, segment);
        Rejects.insert(c, segment.rejects, maxRejects);
        Rejects.remove(c, segment.replayed);
        fence.confirm(c);
        c.commit();
      } catch (SQLException | Ownership.LostException e) {
        c.rollback();
        throw e;
      } finally {
        c.setAutoCommit(true);
      }
    }
  }

  private static void made(Connection c, Segment segment) throws SQLException {
    try (PreparedStatement s =
        c.prepareStatement("INSERT INTO change_made (id, sequence) VALUES (?, ?)")) {
      for (String id : segment.ids) {
        s.setString(1, id);
        s.setLong(2, segment.sequence);
        s.addBatch();
      }
      s.executeBatch();
    }
  }

  @Override
  public long made(String id) {
    try (Connection c = dataSource.getConnection();
        PreparedStatement s = c.prepareStatement("SELECT sequence FROM change_made WHERE id = ?")) {
      s.setString(1, id);
      try (ResultSet r = s.executeQuery()) {
        return r.next() ? r.getLong(1) : -1;
      }
    } catch (SQLException e) {
      throw new RecordsException("the ledger cannot be read", e);
    }
  }

  private static void end(Connection c, Segment segment, Map<Long, Long> ends) throws SQLException {
    try (PreparedStatement s =
            c.prepareStatement(
                "INSERT INTO ledger_end (relation_id, sequence, position) VALUES (?, ?, ?)"
                    + " ON CONFLICT (relation_id) DO UPDATE"
                    + " SET sequence = excluded.sequence, position = excluded.position");
        PreparedStatement i =
            c.prepareStatement(
                "INSERT INTO ledger_input (input_id, position) VALUES (?, ?)"
                    + " ON CONFLICT (input_id) DO UPDATE SET position = excluded.position")) {
      for (Map.Entry<Long, Long> e : ends.entrySet()) {
        s.setLong(1, e.getKey());
        s.setLong(2, segment.sequence);
        s.setLong(3, e.getValue());
        s.addBatch();
      }
      s.executeBatch();
      for (Map.Entry<Long, SourcePosition> e : segment.inputs.entrySet()) {
        i.setLong(1, e.getKey());
        i.setString(2, e.getValue().text());
        i.addBatch();
      }
      i.executeBatch();
    }
  }

  @Override
  public void read(long relationId, Page template, long after, long through, PartitionSink sink) {
    reader.read(relationId, template, after, through, sink);
  }

  @Override
  public void replay(long after, LongFunction<Page> template, Receiver sink) {
    reader.replay(after, template, sink);
  }

  @Override
  public void widen(long relationId, RowLayout layout, Widener widener) {
    reader.widen(relationId, layout, widener);
  }

  /** Writes what waits, then stops. */
  @Override
  public void close() {
    synchronized (this) {
      closed = true;
      notifyAll();
    }
    try {
      writer.join(10_000);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }
}
