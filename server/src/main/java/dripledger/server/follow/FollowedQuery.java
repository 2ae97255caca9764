package dripledger.server.follow;

import dripledger.connectors.format.JsonRows;
import dripledger.engine.Engine;
import dripledger.engine.query.Subscription;
import java.io.ByteArrayOutputStream;
import java.nio.charset.StandardCharsets;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.Executor;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.concurrent.locks.ReentrantLock;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import tools.jackson.core.JsonGenerator;
import tools.jackson.databind.json.JsonMapper;

/**
 * A query that is followed, once for all who do: each change is encoded once and kept for a while.
 * Safe from any thread.
 */
final class FollowedQuery {
  private static final Logger LOG = LoggerFactory.getLogger(FollowedQuery.class);
  private static final int EVENT_BYTES = 1024 * 1024; // about which a batch is cut into events
  private static final long KEPT_NANOS = 10_000_000_000L;

  private final Engine engine;
  private final JsonMapper mapper;
  private final String sql;
  private final Bounds bounds;
  private final Executor executor;
  private final Subscription subscription;
  private final Set<Follower> followers = ConcurrentHashMap.newKeySet();
  private final Map<Long, Entry> entries = new HashMap<>(); // by number, without a gap
  private final ReentrantLock taking = new ReentrantLock();
  private final AtomicBoolean scheduled = new AtomicBoolean();
  private long entryBytes;
  private long firstNumber;
  private long nextNumber;
  private long forgottenThrough; // the changes of this epoch and those before are not kept
  private Snapshot snapshot;
  private volatile long leftAt = System.nanoTime();
  private volatile boolean ended;

  /**
   * How much is kept for who comes back.
   *
   * @param instance what marks the epochs of this process
   */
  record Bounds(long millis, long bytes, String instance) {}

  /** What one epoch changed, as events. */
  record Entry(long number, long epoch, long atNanos, byte[] bytes) {}

  private record Snapshot(long epoch, long atNanos, byte[] bytes) {}

  /**
   * @param executor does the encoding and the writing
   */
  FollowedQuery(Engine engine, JsonMapper mapper, String sql, Bounds bounds, Executor executor)
      throws InterruptedException {
    this.engine = engine;
    this.mapper = mapper;
    this.sql = sql;
    this.bounds = bounds;
    this.executor = executor;
    subscription = engine.follow(sql, Map.of());
    Subscription.Batch answer = subscription.poll(Long.MAX_VALUE / 1_000_000 / 2);
    forgottenThrough = answer == null ? 0 : answer.epoch();
    snapshot =
        new Snapshot(forgottenThrough, System.nanoTime(), events(answer, subscription, true));
    subscription.onReady(this::schedule);
  }

  // ---- what is kept

  private void schedule() {
    if (scheduled.compareAndSet(false, true)) {
      executor.execute(this::take);
    }
  }

  /** Takes what has come, and hands it to all. */
  private void take() {
    scheduled.set(false);
    taking.lock(); // what comes is kept in its order
    try {
      Subscription.Batch batch = subscription.poll(0);
      while (batch != null) {
        keep(batch.epoch(), events(batch, subscription, false));
        batch = subscription.poll(0);
      }
      if (subscription.ended() != null) {
        end(subscription.ended());
      }
      followers.forEach(Follower::write);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    } catch (RuntimeException e) {
      LOG.error("a followed query", e);
      end("the service made a mistake; its log says more");
    } finally {
      taking.unlock();
    }
  }

  private synchronized void keep(long epoch, byte[] bytes) {
    entries.put(nextNumber, new Entry(nextNumber, epoch, System.nanoTime(), bytes));
    nextNumber++;
    entryBytes += bytes.length;
    forget();
  }

  /** Forgets what is too old or too much. */
  synchronized void forget() {
    long oldest = System.nanoTime() - bounds.millis * 1_000_000;
    while (!entries.isEmpty()
        && (entries.get(firstNumber).atNanos < oldest
            || entryBytes > bounds.bytes && entries.size() > 1)) {
      Entry gone = entries.remove(firstNumber++);
      entryBytes -= gone.bytes.length;
      forgottenThrough = gone.epoch;
    }
    if (snapshot != null && System.nanoTime() - snapshot.atNanos > KEPT_NANOS) {
      snapshot = null;
    }
  }

  /** The entry of this number, or null. */
  synchronized Entry entry(long number) {
    return entries.get(number);
  }

  /** Whether the entry of this number is no longer kept. */
  synchronized boolean hasForgotten(long number) {
    return number < firstNumber;
  }

  // ---- who follows

  /**
   * Where one begins.
   *
   * @param next number of the entry it gets first
   * @param has the epoch it has: what these changed, and those before, is not sent again
   * @param before what it is sent before
   */
  record Start(long next, long has, byte[] before) {}

  /** Goes on behind an epoch; null if its changes are no longer kept. */
  synchronized Start resume(long epoch) {
    if (epoch < forgottenThrough || ended) {
      return null;
    }
    long next = nextNumber;
    while (next > firstNumber && entries.get(next - 1).epoch > epoch) {
      next--;
    }
    return new Start(next, epoch, new byte[0]);
  }

  /** Begins with all rows. */
  Start begin() throws InterruptedException {
    Snapshot given;
    synchronized (this) {
      given = snapshot;
    }
    if (given == null || !isNewest(given)) {
      try (Subscription once = engine.follow(sql, Map.of())) {
        Subscription.Batch answer = once.poll(Long.MAX_VALUE / 1_000_000 / 2);
        long epoch = answer == null ? 0 : answer.epoch();
        given = new Snapshot(epoch, System.nanoTime(), events(answer, once, true));
      }
      synchronized (this) {
        snapshot = given;
      }
    }
    synchronized (this) {
      Start start = resume(given.epoch);
      return start == null ? null : new Start(start.next, given.epoch, given.bytes);
    }
  }

  /** Whether nothing has changed since. */
  private synchronized boolean isNewest(Snapshot rows) {
    return rows.epoch >= forgottenThrough
        && (nextNumber == firstNumber || entries.get(nextNumber - 1).epoch <= rows.epoch);
  }

  void join(Follower follower) {
    followers.add(follower);
  }

  void leave(Follower follower) {
    followers.remove(follower);
    if (followers.isEmpty()) {
      leftAt = System.nanoTime();
    }
  }

  Set<Follower> followers() {
    return followers;
  }

  /** Whether nobody follows it, and nobody can come back for what is kept. */
  boolean isLeft() {
    return followers.isEmpty() && System.nanoTime() - leftAt > bounds.millis * 1_000_000;
  }

  boolean hasEnded() {
    return ended;
  }

  /** Ends it for all; once. */
  void end(String reason) {
    synchronized (this) {
      if (ended) {
        return;
      }
      ended = true;
    }
    for (Follower follower : followers) {
      follower.endWith(mapper.writeValueAsString(reason));
      follower.write();
    }
    subscription.close();
  }

  // ---- events

  private byte[] events(Subscription.Batch batch, Subscription from, boolean all) {
    ByteArrayOutputStream out = new ByteArrayOutputStream();
    if (batch == null) {
      return new byte[0];
    }
    List<Subscription.Change> changes = batch.changes();
    int at = 0;
    boolean first = all;
    do {
      ByteArrayOutputStream event = new ByteArrayOutputStream();
      int begun = at;
      try (JsonGenerator json = mapper.createGenerator(event)) {
        json.writeStartObject();
        json.writeNumberProperty("epoch", batch.epoch());
        if (first) {
          JsonRows.columns(json, from.columns());
        }
        json.writeArrayPropertyStart("changes");
        while (at < changes.size() && (at == begun || event.size() < EVENT_BYTES)) {
          Subscription.Change change = changes.get(at++);
          json.writeStartObject();
          json.writeNumberProperty("weight", change.weight());
          json.writeName("row");
          JsonRows.array(json, from.columns(), change.row());
          json.writeEndObject();
        }
        json.writeEndArray();
        if (at < changes.size()) {
          json.writeBooleanProperty("more", true);
        }
        json.writeEndObject();
      }
      String head = "event: " + (first ? "snapshot" : "changes") + "\n";
      if (at >= changes.size()) { // who has this much has all of the epoch
        head += "id: " + batch.epoch() + "@" + bounds.instance + "\n";
      }
      out.writeBytes((head + "data: ").getBytes(StandardCharsets.UTF_8));
      out.writeBytes(event.toByteArray());
      out.writeBytes("\n\n".getBytes(StandardCharsets.UTF_8));
      first = false;
    } while (at < changes.size());
    return out.toByteArray();
  }
}
