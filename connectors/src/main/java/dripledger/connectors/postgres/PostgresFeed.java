package dripledger.connectors.postgres;

import dripledger.connectors.TroubleLog;
import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.FormatException;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Page;
import dripledger.engine.source.Feed;
import dripledger.engine.source.FeedStatus;
import dripledger.engine.source.SourceBatch;
import dripledger.engine.source.SourceSink;
import java.nio.ByteBuffer;
import java.sql.Connection;
import java.sql.SQLException;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Objects;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.locks.LockSupport;
import java.util.function.Consumer;
import java.util.function.LongFunction;
import java.util.stream.Collectors;
import java.util.stream.Stream;
import org.postgresql.PGConnection;
import org.postgresql.replication.LogSequenceNumber;
import org.postgresql.replication.PGReplicationStream;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Follows all tables of a connection through one slot, on a thread of its own. What it submits are
 * whole transactions, so no epoch shows half of one, whichever tables it touched. The slot is told
 * only of what a checkpoint holds; after a break reading goes on where the engine stands.
 *
 * <p>A table that is being loaded has its changes kept back. It joins once the feed has passed the
 * moment of the load: its rows and what was kept back appear in one epoch.
 */
final class PostgresFeed implements Feed {
  private static final Logger LOG = LoggerFactory.getLogger(PostgresFeed.class);
  private static final long RETRY_MILLIS = 1000;
  private static final int BATCH_ROWS = 20_000;
  private static final long BATCH_NANOS = TimeUnit.MILLISECONDS.toNanos(10);
  private static final long IDLE_ADVANCE_NANOS = TimeUnit.SECONDS.toNanos(10);
  private static final long LOOK_NANOS = TimeUnit.SECONDS.toNanos(5);
  private static final long MIN_PAUSE_NANOS = 200_000;
  private static final long MAX_PAUSE_NANOS = 2_000_000;

  private final PostgresAccess access;
  private final SourceSink sink;
  private final LongFunction<DriftLog> drift;
  private final Map<Long, FollowedTable> tables = new HashMap<>();
  private final Map<Integer, FollowedTable> byRelation = new HashMap<>();
  private final TransactionReader read;
  private final PgOutput decoder;
  private final Map<String, Long> loading = new LinkedHashMap<>();
  private final TroubleLog troubles;
  private final SourceWatch watch;
  private Thread thread;
  private long position; // everything up to here has been submitted
  private final Object starting = new Object();
  private volatile boolean closed;
  private volatile String state = "reading";
  private volatile String reason;
  private volatile long messages;
  private volatile long bytes;
  private volatile long durable;

  PostgresFeed(
      PostgresAccess access,
      List<CatalogObject> objects,
      SourcePosition from,
      SourceSink sink,
      LongFunction<DriftLog> drift) {
    this.access = access;
    this.sink = sink;
    this.drift = drift;
    read = new TransactionReader(access, sink, tables, byRelation);
    decoder = new PgOutput(read);
    troubles = new TroubleLog(LOG, access.name());
    watch = new SourceWatch(access);
    LogPosition begin = LogPosition.parse(from);
    position = begin.lsn();
    read.ended = position;
    for (CatalogObject object : objects) {
      // A table that is being made is not one of ours until it has joined.
      FollowedTable table =
          new FollowedTable((CatalogObject.Table) object, drift.apply(object.id()), true);
      table.partitions = begin.partitions().getOrDefault(object.id(), Partitions.NONE);
      tables.put(object.id(), table);
    }
    start();
  }

  private void start() {
    thread = new Thread(this::run, "feed-" + access.name());
    thread.start();
  }

  private void run() {
    while (!closed) {
      try (Connection replication = open()) {
        read(replication.unwrap(PGConnection.class));
      } catch (InterruptedException e) {
        return;
      } catch (ChangesLost e) {
        LOG.error("{} has stopped: {}", access.name(), e.getMessage());
        state = "stopped";
        reason = e.getMessage();
        watchStopped();
        return;
      } catch (SQLException e) {
        waitAfter(access.failure(e).getMessage());
      } catch (RuntimeException e) {
        LOG.error("{} cannot be read", access.name(), e);
        waitAfter(String.valueOf(e.getMessage()));
      }
    }
  }

  /** While nothing is read the source keeps more and more, which is to be seen. */
  private void watchStopped() {
    while (!closed && state.equals("stopped")) {
      watch.look(Math.max(position, read.seen), List.of(), (t, why) -> {});
      LockSupport.parkNanos(LOOK_NANOS);
    }
  }

  private void waitAfter(String why) {
    if (closed) {
      return;
    }
    state = "waiting";
    reason = why;
    troubles.tell(why);
    try {
      Thread.sleep(RETRY_MILLIS);
    } catch (InterruptedException e) {
      closed = true;
    }
  }

  private Connection open() throws SQLException {
    try (Connection c = access.connect()) {
      Slots.refuseLost(c, access.slot(), position);
    }
    return access.replication();
  }

  private void read(PGConnection connection) throws SQLException, InterruptedException {
    synchronized (this) {
      byRelation.clear();
      for (FollowedTable t : tables.values()) {
        t.discard();
        t.keptBack.forgetFrom(position);
      }
    }
    read.inTransaction = false;
    read.gathered = 0;
    try (PGReplicationStream stream =
        connection
            .getReplicationAPI()
            .replicationStream()
            .logical()
            .withSlotName(access.slot())
            .withStartPosition(LogSequenceNumber.valueOf(position))
            .withSlotOption("proto_version", "1")
            .withSlotOption("publication_names", access.slot())
            .withSlotOption("messages", "true")
            .withAutomaticFlush(false)
            .withStatusInterval(2, TimeUnit.SECONDS)
            .start()) {
      state = "reading";
      reason = null;
      troubles.over();
      loop(stream);
    }
  }

  private void loop(PGReplicationStream stream) throws SQLException, InterruptedException {
    long pause = MIN_PAUSE_NANOS;
    long batchBegan = 0;
    long looked = System.nanoTime() - LOOK_NANOS;
    long advanced = System.nanoTime();
    while (!closed) {
      confirm(stream);
      if (System.nanoTime() - looked > LOOK_NANOS) {
        looked = System.nanoTime();
        lookAtSource();
      }
      if (read.gathered == 0 && sink.full()) {
        state = "waiting";
        reason = FeedStatus.FULL;
        stream.forceUpdateStatus();
        Thread.sleep(50);
        continue;
      }
      state = "reading";
      reason = null;
      ByteBuffer message = stream.readPending();
      if (message != null) {
        pause = MIN_PAUSE_NANOS;
        if (read.gathered == 0) {
          batchBegan = System.nanoTime();
        }
        messages++;
        bytes += message.remaining();
        synchronized (this) {
          decoder.read(message);
        }
      }
      boolean between = !read.inTransaction;
      boolean enough =
          message == null
              || read.gathered >= BATCH_ROWS
              || System.nanoTime() - batchBegan > BATCH_NANOS;
      if (between && read.gathered > 0 && enough) {
        submit();
      }
      if (message == null) {
        if (between) {
          read.seen = Math.max(read.seen, stream.getLastReceiveLSN().asLong());
          joinWaiting();
          if (read.seen > position && System.nanoTime() - advanced > IDLE_ADVANCE_NANOS) {
            advanced = System.nanoTime();
            read.ended = read.seen;
            submit();
          }
        }
        LockSupport.parkNanos(pause);
        pause = Math.min(MAX_PAUSE_NANOS, pause * 2);
        if (Thread.interrupted()) {
          throw new InterruptedException();
        }
      } else if (between) {
        joinWaiting();
      }
    }
  }

  private void confirm(PGReplicationStream stream) throws SQLException {
    LogSequenceNumber held = LogSequenceNumber.valueOf(durable);
    if (durable != 0 && !held.equals(stream.getLastFlushedLSN())) {
      stream.setFlushedLSN(held);
      stream.setAppliedLSN(held);
      stream.forceUpdateStatus();
    }
  }

  private void lookAtSource() {
    List<FollowedTable> live;
    synchronized (this) {
      live = tables.values().stream().filter(t -> t.live && !t.stopped).toList();
    }
    watch.look(
        Math.max(position, read.seen),
        live,
        (t, why) -> {
          synchronized (this) {
            if (tables.get(t.table.id()) == t) {
              stop(t, why);
            }
          }
        });
  }

  private void stop(FollowedTable t, String why) {
    t.stopped = true;
    sink.stop(t.table.id(), why);
  }

  private SourcePosition position(long lsn, FollowedTable joining) {
    synchronized (this) {
      return LogPosition.of(
          lsn, tables.values().stream().filter(t -> t.live || t == joining).toList());
    }
  }

  /** Hands over the transactions read since the last time, whole. */
  private void submit() throws InterruptedException {
    List<SourceBatch> batches = new ArrayList<>();
    synchronized (this) {
      for (FollowedTable t : tables.values()) {
        if (t.live && t.pending()) {
          batches.add(
              new SourceBatch(t.table.id(), t.takePage(), 0, t.takeRejects(), t.takeSpooled()));
        }
      }
    }
    read.gathered = 0;
    sink.submit(batches, position(read.ended, null), null);
    position = read.ended; // not before: what was not taken is sent again
    synchronized (this) {
      for (FollowedTable t : tables.values()) {
        if (t.loadedAt > 0 && !t.live) {
          t.keptBack.settle(position, t.loadedAt, access.waiting());
        }
      }
    }
  }

  /** Lets tables whose load the feed has passed take part. */
  private void joinWaiting() throws InterruptedException {
    FollowedTable ready = null;
    synchronized (this) {
      for (FollowedTable t : tables.values()) {
        if (!t.live && t.attach != null && Math.max(read.seen, read.ended) >= t.loadedAt) {
          ready = t;
        }
      }
    }
    if (ready == null) {
      return;
    }
    if (read.gathered > 0) {
      submit();
    }
    read.ended = Math.max(read.ended, read.seen);
    List<SourceBatch> batches;
    Runnable attach;
    synchronized (this) {
      batches = ready.keptBack.batches(ready.table.id(), ready.loadedAt);
      attach = ready.attach;
    }
    sink.submit(batches, position(read.ended, ready), attach);
    position = read.ended; // not before: what was not taken is sent again
    synchronized (this) {
      ready.keptBack.clear();
      ready.live = true;
      ready.attach = null;
    }
  }

  // ---- loading

  @Override
  public void load(CatalogObject.Table table, Consumer<Page> rows) throws InterruptedException {
    FollowedTable followed = new FollowedTable(table, drift.apply(table.id()), false);
    try {
      synchronized (starting) { // several tables may be loaded at once
        if ("stopped".equals(state)) {
          beginAnew();
        }
      }
      synchronized (this) {
        FollowedTable before = tables.put(table.id(), followed);
        if (before != null) {
          followed.describedAs(before);
          before.keptBack.discard();
          byRelation.replaceAll((relation, t) -> t == before ? followed : t);
        }
        loading.put(table.name(), 0L);
      }
      TableLoad.run(
          access,
          followed,
          at -> {
            synchronized (this) {
              followed.loadedAt = at;
            }
          },
          page -> {
            rows.accept(page);
            synchronized (this) {
              loading.merge(table.name(), (long) page.size(), Long::sum);
            }
          });
    } catch (SQLException e) {
      throw access.failure(e);
    } catch (FormatException e) {
      throw new EngineException(Code.FAILED, e.getMessage(), null);
    } finally {
      synchronized (this) {
        loading.remove(table.name());
      }
    }
  }

  /** The slot was lost: makes another, from whose beginning on all tables must be loaded again. */
  private void beginAnew() throws SQLException {
    synchronized (this) {
      for (FollowedTable t : tables.values()) {
        stop(t, "changes were lost; REFRESH TABLE " + t.table.name() + " loads it again");
      }
      tables.clear();
      byRelation.clear();
    }
    try (Connection c = access.connect()) {
      Slots.drop(c, access.slot());
    }
    position = Slots.create(access);
    read.ended = position;
    read.seen = position;
    state = "reading";
    reason = null;
    start();
  }

  @Override
  public void join(CatalogObject.Table table, Runnable attach) throws InterruptedException {
    CountDownLatch shown = new CountDownLatch(1);
    long deadline = System.nanoTime() + TimeUnit.SECONDS.toNanos(90);
    synchronized (this) {
      tables.get(table.id()).attach =
          () -> {
            attach.run();
            shown.countDown();
          };
    }
    while (!shown.await(2, TimeUnit.SECONDS)) {
      // Something in the log for the feed to pass, if the source is quiet.
      try (Connection c = access.connect()) {
        PostgresAccess.value(c, "SELECT pg_logical_emit_message(true, 'drip', 'join')");
      } catch (SQLException e) {
        LOG.debug("{} could not be nudged", access.name(), e);
      }
      if (closed) {
        throw new InterruptedException();
      }
      if (state.equals("stopped") || System.nanoTime() > deadline) {
        throw new EngineException(
            Code.FAILED,
            "\""
                + access.name()
                + "\" does not move on: "
                + (reason == null ? "it is quiet" : reason),
            "try again when the database answers");
      }
    }
  }

  @Override
  public void leave(long objectId) {
    FollowedTable gone;
    synchronized (this) {
      gone = tables.remove(objectId);
      byRelation.values().removeIf(t -> t.table.id() == objectId);
    }
    if (gone == null) {
      return;
    }
    try (Connection c = access.connect()) {
      PostgresAccess.execute(c, "SET lock_timeout = '5s'"); // others may hold the table for long
      PostgresAccess.execute(
          c,
          "ALTER PUBLICATION %I DROP TABLE %I.%I",
          access.slot(),
          gone.schemaName,
          gone.tableName);
    } catch (SQLException e) {
      LOG.warn("{} is still published at its source: {}", gone.tableName, e.getMessage());
    }
  }

  @Override
  public void durable(SourcePosition held) {
    durable = LogPosition.parse(held).lsn();
  }

  @Override
  public FeedStatus status() {
    String alarm = watch.alarm();
    String why =
        Stream.of(reason, alarm).filter(Objects::nonNull).collect(Collectors.joining("; "));
    Map<String, Long> copy;
    synchronized (this) {
      copy = new LinkedHashMap<>(loading);
    }
    return new FeedStatus(
        state,
        why.isEmpty() ? null : why,
        messages,
        bytes,
        watch.behind(),
        "bytes",
        copy,
        watch.kept());
  }

  @Override
  public void close() {
    closed = true;
    thread.interrupt();
    try {
      thread.join(10_000);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }
}
