package dripledger.engine.delivery;

import dripledger.engine.catalog.CatalogObject.Sink;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.Target;
import dripledger.engine.source.Target.Carried;
import java.util.ArrayList;
import java.util.List;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CompletionException;
import java.util.function.Consumer;
import java.util.function.LongSupplier;
import java.util.function.Supplier;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Carries what waits for one delivery to its target, on a thread of its own: whatever a committed
 * checkpoint holds, as soon as the upkeep says so. What does not work is tried again, less and less
 * often, and nobody else waits for it.
 */
final class Deliverer implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(Deliverer.class);
  private static final long FIRST_RETRY_MILLIS = 500;
  private static final long LAST_RETRY_MILLIS = 30_000;
  private static final long LOOK_MILLIS = 200;

  private final Sink sink;
  private final Outbox outbox;
  private final ChangeList changes;
  private final Supplier<Target> open;
  private final Supplier<CompletableFuture<Void>> checkpoint;
  private final LongSupplier nowMicros;
  private final long paceMillis;
  private final Consumer<List<Target.Refused>> refused;
  private final Thread thread;
  private final List<Asked> asked = new ArrayList<>();
  private Target target;
  private CompletableFuture<Void> requested;
  private CompletableFuture<List<Outgoing>> ahead; // made of what follows what is carried, or null
  private long aheadFrom;
  private long dueMicros;
  private long until; // numbers before it may be carried now, whatever is due
  private volatile boolean closed;
  private volatile String state;
  private volatile long epoch;
  private volatile Carried carried = Carried.NONE;
  private volatile long batches;
  private volatile String error;
  private volatile long errorSince;

  /** Somebody who waits until what there was has arrived. */
  private static final class Asked {
    final long until;
    final Carried before;
    final CompletableFuture<Carried> done = new CompletableFuture<>();

    Asked(long until, Carried before) {
      this.until = until;
      this.before = before;
    }
  }

  /**
   * @param open makes a way to the target
   * @param checkpoint asks for a checkpoint
   * @param paceMillis how long something may wait for a checkpoint until one is asked for
   * @param refused keeps what the target will never take, and returns when it is kept
   */
  Deliverer(
      Sink sink,
      Outbox outbox,
      Supplier<Target> open,
      Supplier<CompletableFuture<Void>> checkpoint,
      LongSupplier nowMicros,
      long paceMillis,
      Consumer<List<Target.Refused>> refused) {
    this.refused = refused;
    this.sink = sink;
    this.outbox = outbox;
    this.open = open;
    this.checkpoint = checkpoint;
    this.nowMicros = nowMicros;
    this.paceMillis = paceMillis;
    changes = new ChangeList(sink);
    dueMicros = nowMicros.getAsLong();
    state = sink.upkeep().isContinuous() ? "delivering" : "waiting";
    thread = new Thread(this::run, "delivery-" + sink.name());
    thread.setDaemon(true);
  }

  void start() {
    thread.start();
  }

  /** Carries what there is now, whatever is due; completes with what that did at the target. */
  synchronized CompletableFuture<Carried> ask() {
    Asked one = new Asked(outbox.end(), carried);
    asked.add(one);
    until = Math.max(until, one.until);
    outbox.wake();
    return one.done;
  }

  DeliveryStatus status() {
    String over = outbox.over();
    return new DeliveryStatus(
        over != null && !outbox.hasHeld() ? "stopped" : state,
        epoch,
        carried,
        batches,
        outbox.rows(),
        outbox.bytes(),
        outbox.since(),
        error == null ? over : error,
        errorSince);
  }

  private void run() {
    long retryMillis = FIRST_RETRY_MILLIS;
    while (!closed) {
      try {
        if (!step()) {
          outbox.await(LOOK_MILLIS);
        } else {
          retryMillis = FIRST_RETRY_MILLIS;
        }
      } catch (InterruptedException e) {
        break;
      } catch (Throwable e) { // whatever it is, it is seen and tried again
        if (closed) {
          break;
        }
        failed(e);
        pause(retryMillis);
        retryMillis = Math.min(LAST_RETRY_MILLIS, retryMillis * 2);
      }
    }
    closeTarget();
    fail(new EngineException(Code.UNAVAILABLE, "\"" + sink.name() + "\" is closed", null));
  }

  private void failed(Throwable thrown) {
    Throwable e =
        thrown instanceof CompletionException && thrown.getCause() != null
            ? thrown.getCause()
            : thrown;
    String message = e.getMessage() == null ? e.toString() : e.getMessage();
    if (!(e instanceof EngineException)) {
      LOG.error("{} does not get through", sink.name(), e);
    }
    if (error == null) {
      errorSince = System.currentTimeMillis();
      LOG.warn("{} does not get through: {}", sink.name(), message);
    }
    error = message;
    state = "failing";
    closeTarget();
    fail(e);
  }

  private synchronized void fail(Throwable e) {
    asked.forEach(one -> one.done.completeExceptionally(e));
    asked.clear();
  }

  private void pause(long millis) {
    long end = System.nanoTime() + millis * 1_000_000;
    while (!closed && System.nanoTime() < end) {
      try {
        Thread.sleep(Math.min(LOOK_MILLIS, millis));
      } catch (InterruptedException e) {
        return;
      }
    }
  }

  /** Does what is to be done now; false if that is nothing. */
  private boolean step() {
    answer();
    long limit = limit();
    hurry(limit);
    if (!outbox.hasHeld() || outbox.first() >= limit) {
      return false;
    }
    if (target == null) {
      target = open.get();
      outbox.arrived(target.next());
    }
    List<Outgoing> batch = batch(limit);
    if (batch.isEmpty()) {
      return true; // it had arrived before
    }
    Outgoing last = batch.get(batch.size() - 1);
    Target to = target;
    aheadFrom = last.number() + 1;
    ahead = CompletableFuture.supplyAsync(() -> made(last.number() + 1, to));
    Carried now = target.carry(batch);
    if (!now.refused().isEmpty()) {
      refused.accept(now.refused());
    }
    synchronized (this) {
      carried = carried.plus(now);
      batches++;
      epoch = Math.max(epoch, last.epoch());
    }
    error = null;
    errorSince = 0;
    outbox.arrived(last.number() + 1);
    answer();
    return true;
  }

  /** The batches to carry next, which may have been made while those before were carried. */
  private List<Outgoing> batch(long limit) {
    long first = outbox.first();
    List<Outgoing> made = ahead != null && aheadFrom == first ? ahead.join() : List.of();
    ahead = null;
    if (made.isEmpty()) {
      made = made(first, target);
    }
    return made.stream().filter(each -> each.number() < limit).toList();
  }

  private List<Outgoing> made(long from, Target to) {
    List<Outgoing> batch = new ArrayList<>();
    for (Outbox.Waiting waiting : outbox.take(from, to.mostRows(), to.mostBytes())) {
      batch.add(new Outgoing(waiting.number(), waiting.epoch(), changes.of(waiting)));
    }
    return batch;
  }

  /** Up to which number batches may be carried now. */
  private synchronized long limit() {
    if (sink.upkeep().isContinuous()) {
      state = error == null ? "delivering" : state;
      return Long.MAX_VALUE;
    }
    long now = nowMicros.getAsLong();
    if (sink.upkeep().next(dueMicros) <= now) {
      dueMicros = now;
      until = Math.max(until, outbox.end());
    }
    state = error != null ? state : outbox.first() < until ? "delivering" : "waiting";
    return until;
  }

  /** Asks for a checkpoint if something that may be carried waits for one. */
  private void hurry(long limit) {
    boolean running = requested != null && !requested.isDone();
    if (running || outbox.first() >= limit || !outbox.waitsForCheckpoint()) {
      return;
    }
    boolean wanted;
    synchronized (this) {
      wanted = !asked.isEmpty();
    }
    if (wanted || System.currentTimeMillis() - outbox.since() >= paceMillis) {
      requested = checkpoint.get().exceptionally(e -> null);
    }
  }

  /** Tells those whose wait is over. */
  private synchronized void answer() {
    long first = outbox.first();
    asked.removeIf(
        one -> {
          if (first < one.until) {
            return false;
          }
          Carried before = one.before;
          one.done.complete(
              new Carried(
                  carried.put() - before.put(),
                  carried.changed() - before.changed(),
                  carried.unchanged() - before.unchanged(),
                  carried.removed() - before.removed()));
          return true;
        });
  }

  private void closeTarget() {
    if (ahead != null) { // what makes changes is one thread's at a time
      ahead.handle((made, e) -> null).join();
      ahead = null;
    }
    if (target != null) {
      try {
        target.close();
      } catch (RuntimeException e) {
        LOG.debug("{}: {}", sink.name(), e.getMessage());
      }
      target = null;
    }
  }

  @Override
  public void close() {
    closed = true;
    outbox.wake();
    try {
      thread.join(10_000);
      if (thread.isAlive()) {
        thread.interrupt();
      }
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }
}
