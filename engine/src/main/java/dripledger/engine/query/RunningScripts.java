package dripledger.engine.query;

import dripledger.engine.access.Caller;
import dripledger.engine.access.Role;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.util.Comparator;
import java.util.List;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.atomic.AtomicLong;
import java.util.function.BooleanSupplier;
import java.util.function.LongSupplier;

/** The scripts that are being run, so that one can be cancelled by its id. Safe from any thread. */
public final class RunningScripts {
  private final Map<String, Script> byId = new ConcurrentHashMap<>();
  private final Map<Thread, Script> byThread = new ConcurrentHashMap<>();
  private final AtomicLong numbers = new AtomicLong();

  /** One that runs on the thread that began it, until it is closed there. */
  public final class Script implements AutoCloseable {
    private final long number = numbers.incrementAndGet();
    private final String id;
    private final String text;
    private final long began = System.nanoTime();
    private final long most; // milliseconds
    private final String role;
    private final Role.Bounds bounds;
    private volatile boolean cancelled;
    private long read;
    private long waited;
    private long mostRead = Long.MAX_VALUE;

    private Script(String id, String text, Caller caller, long most) {
      this.id = id;
      this.text = text;
      this.most = most;
      role = caller.role();
      bounds = caller.bounds();
    }

    /** Whose it is. */
    public String role() {
      return role;
    }

    /** How many rows its queries may read together; for its own thread. */
    void mostRead(long rows) {
      mostRead = rows;
    }

    /** How many rows its queries have read; for its own thread. */
    long rowsRead() {
      return read;
    }

    /** It waited for those who take its answer; for its own thread. */
    void waited(long nanos) {
      waited += nanos;
    }

    /** Ends it: its query at the next row. Safe from any thread. */
    void cancel() {
      cancelled = true;
    }

    /** By which it can be cancelled; no other has it since the start. */
    public long number() {
      return number;
    }

    /** By which it can be cancelled too, or null. */
    public String id() {
      return id;
    }

    public String text() {
      return text;
    }

    /** For how long it has been run, in milliseconds. */
    public long millis() {
      return (System.nanoTime() - began) / 1_000_000;
    }

    /**
     * Goes on unless it was cancelled.
     *
     * @throws EngineException (CANCELLED) if it was
     */
    public void goOn() {
      if (cancelled) {
        throw new EngineException(Code.CANCELLED, "the script was cancelled");
      }
    }

    @Override
    public void close() {
      byThread.remove(Thread.currentThread());
      if (id != null) {
        byId.remove(id, this);
      }
    }
  }

  /**
   * A script begins on this thread.
   *
   * @param id by which it can be cancelled, or null
   */
  public Script begin(String id, String text, Caller caller) {
    return begin(id, text, caller, 0);
  }

  /**
   * As above.
   *
   * @param millis how long each of its queries may take; 0 for as long as any
   */
  public Script begin(String id, String text, Caller caller, long millis) {
    Script script = new Script(id, text, caller, millis);
    if (id != null) {
      byId.put(id, script); // first, so that one that is seen can be cancelled
    }
    byThread.put(Thread.currentThread(), script);
    return script;
  }

  /**
   * Ends a script: its query at the next row, else before its next statement. What it has changed
   * stays changed.
   *
   * @return whether it was being run, by the same role or for the owner
   */
  public boolean cancel(String id, Caller caller) {
    return cancel(byId.get(id), caller);
  }

  /** As above, by its number. */
  public boolean cancel(long number, Caller caller) {
    return cancel(
        byThread.values().stream().filter(s -> s.number == number).findFirst().orElse(null),
        caller);
  }

  private static boolean cancel(Script script, Caller caller) {
    boolean may = script != null && (caller.isOwner() || caller.role().equals(script.role));
    if (may) {
      script.cancel();
    }
    return may;
  }

  /** Those that are being run, the longest first. */
  public List<Script> all() {
    return byThread.values().stream()
        .sorted(Comparator.comparingLong(Script::millis).reversed())
        .toList();
  }

  /**
   * How long a query on this thread may take.
   *
   * @param all what all may, in milliseconds; 0 for any time
   */
  long millis(long all) {
    Script script = byThread.get(Thread.currentThread());
    return script == null ? all : least(least(script.most, script.bounds.statementMillis()), all);
  }

  /**
   * Rows were read on this thread.
   *
   * @throws EngineException (LIMIT) if they are more than may be
   */
  void read(int rows) {
    Script script = byThread.get(Thread.currentThread());
    if (script != null && (script.read += rows) > script.mostRead) {
      throw new EngineException(
          Code.LIMIT,
          "more than " + script.mostRead + " rows were read",
          "ask for less, keep what is asked for as a view, or look up by a key or an index");
    }
  }

  /** How much heap a query on this thread may hold. */
  long bytes(long all) {
    Script script = byThread.get(Thread.currentThread());
    return script == null ? all : least(script.bounds.maxMemory(), all);
  }

  /** How many rows a query on this thread may answer. */
  int rows(int all) {
    Script script = byThread.get(Thread.currentThread());
    return script == null ? all : (int) Math.min(all, least(script.bounds.maxRows(), all));
  }

  /** How long the script of this thread has waited so far, in nanoseconds; for this thread. */
  LongSupplier waited() {
    Script script = byThread.get(Thread.currentThread());
    return script == null ? () -> 0 : () -> script.waited;
  }

  /** The smaller of two bounds, of which 0 is none. */
  private static long least(long one, long other) {
    return one == 0 ? other : other == 0 ? one : Math.min(one, other);
  }

  /** Whether the script of this thread was cancelled; for this thread. */
  BooleanSupplier cancelled() {
    Script script = byThread.get(Thread.currentThread());
    return script == null ? () -> false : () -> script.cancelled;
  }
}
