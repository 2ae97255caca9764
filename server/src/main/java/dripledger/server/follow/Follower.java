package dripledger.server.follow;

import dripledger.engine.access.Caller;
import jakarta.servlet.AsyncContext;
import jakarta.servlet.AsyncEvent;
import jakarta.servlet.AsyncListener;
import jakarta.servlet.ServletOutputStream;
import jakarta.servlet.WriteListener;
import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.util.ArrayDeque;
import java.util.Deque;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * One who follows: what waits for it is written as far as its connection takes it, by whoever comes
 * by. Holds no thread. Safe from any thread.
 */
final class Follower implements WriteListener {
  private static final Logger LOG = LoggerFactory.getLogger(Follower.class);
  private static final byte[] SIGN_OF_LIFE = ": still here\n\n".getBytes(StandardCharsets.UTF_8);
  private static final int PIECE_BYTES = 64 * 1024;

  private final AsyncContext context;
  private final ServletOutputStream out;
  private final FollowedQuery query;
  private final Deque<byte[]> first = new ArrayDeque<>(); // before anything of the query
  private byte[] writing;
  private int written;
  private boolean unflushed;
  private final long has; // the epoch of the rows it began with
  private final Caller caller;
  private long next; // number of the query's entry it gets next
  private String end; // what is said last
  private boolean saidEnd;
  private boolean started; // before that nobody may ask whether it is ready
  private boolean done;
  private long tookAt = System.nanoTime();

  /**
   * @param start where it begins
   */
  Follower(AsyncContext context, FollowedQuery query, FollowedQuery.Start start, Caller caller)
      throws IOException {
    this.caller = caller;
    this.context = context;
    this.query = query;
    next = start.next();
    has = start.has();
    out = context.getResponse().getOutputStream();
    context.addListener(new Ending());
  }

  /**
   * What a request had is given to the next one as soon as it has ended: so it must not end while
   * it is written to, or the error of one would be found by another. Whoever ends it waits here.
   */
  private final class Ending implements AsyncListener {
    @Override
    public void onComplete(AsyncEvent event) {
      gone();
    }

    @Override
    public void onError(AsyncEvent event) {
      gone();
      complete(); // or it would be answered with an error, which nobody reads
    }

    @Override
    public void onTimeout(AsyncEvent event) {
      // there is none
    }

    @Override
    public void onStartAsync(AsyncEvent event) {
      // it is not begun again
    }
  }

  private synchronized void gone() {
    leave();
  }

  /** Who follows. */
  Caller caller() {
    return caller;
  }

  /** Begins to write. */
  void begin(byte[]... beforeAll) {
    synchronized (this) {
      first.addAll(java.util.List.of(beforeAll));
    }
    out.setWriteListener(this);
  }

  @Override
  public void onWritePossible() {
    synchronized (this) {
      started = true;
    }
    write();
  }

  @Override
  public void onError(Throwable e) {
    LOG.debug("a follower went", e);
    finish();
  }

  /** Writes what waits, as far as that can be done without waiting. */
  synchronized void write() {
    try {
      while (started && !done && out.isReady()) {
        if (writing == null && !take()) {
          if (unflushed) {
            unflushed = false;
            out.flush();
            continue;
          }
          tookAt = System.nanoTime();
          if (end != null) {
            finish();
          }
          return;
        }
        int length = Math.min(PIECE_BYTES, writing.length - written);
        out.write(writing, written, length);
        tookAt = System.nanoTime();
        unflushed = true;
        written += length;
        if (written == writing.length) {
          writing = null;
          written = 0;
        }
      }
    } catch (IOException | IllegalStateException e) {
      LOG.debug("a follower went", e);
      leave(); // the web server sees it too, and ends the request
    }
  }

  private boolean leave() {
    boolean was = done;
    done = true;
    query.leave(this);
    return !was;
  }

  private boolean take() {
    writing = first.poll();
    if (writing == null && end == null) {
      FollowedQuery.Entry entry = query.entry(next);
      while (entry != null && entry.epoch() <= has) { // was on its way when the rows were gathered
        entry = query.entry(++next);
      }
      if (entry != null) {
        writing = entry.bytes();
        next = entry.number() + 1;
      } else if (query.hasForgotten(next)) {
        endWith("\"the reader fell too far behind; connect again to go on\"");
        return take();
      }
    } else if (writing == null && !saidEnd) {
      saidEnd = true;
      writing = ("event: end\ndata: " + end + "\n\n").getBytes(StandardCharsets.UTF_8);
    }
    return writing != null;
  }

  /**
   * Says why nothing more comes, behind what is being written.
   *
   * @param reason as JSON
   */
  synchronized void endWith(String reason) {
    if (end == null) {
      end = reason;
    }
  }

  /** Shows that the connection is alive, if nothing else does. */
  synchronized void signOfLife() {
    if (writing == null && first.isEmpty() && query.entry(next) == null) {
      first.add(SIGN_OF_LIFE);
    }
  }

  /** For how long it has not taken anything, in nanoseconds. */
  synchronized long stuckNanos() {
    return System.nanoTime() - tookAt;
  }

  synchronized void finish() {
    if (leave()) {
      complete();
    }
  }

  private void complete() {
    try {
      context.complete();
    } catch (IllegalStateException e) {
      LOG.debug("it was over already", e);
    }
  }
}
