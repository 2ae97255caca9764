package dripledger.engine.query;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.util.Comparator;
import java.util.List;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.atomic.AtomicLong;
import java.util.function.BooleanSupplier;

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
    private volatile boolean cancelled;

    private Script(String id, String text, long most) {
      this.id = id;
      this.text = text;
      this.most = most;
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
  public Script begin(String id, String text) {
    return begin(id, text, 0);
  }

  /**
   * As above.
   *
   * @param millis how long each of its queries may take; 0 for as long as any
   */
  public Script begin(String id, String text, long millis) {
    Script script = new Script(id, text, millis);
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
   * @return whether it was being run
   */
  public boolean cancel(String id) {
    return cancel(byId.get(id));
  }

  /** As above, by its number. */
  public boolean cancel(long number) {
    return cancel(
        byThread.values().stream().filter(s -> s.number == number).findFirst().orElse(null));
  }

  private static boolean cancel(Script script) {
    if (script != null) {
      script.cancelled = true;
    }
    return script != null;
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
    long own = script == null ? 0 : script.most;
    return own == 0 ? all : all == 0 ? own : Math.min(own, all);
  }

  /** Whether the script of this thread was cancelled; for this thread. */
  BooleanSupplier cancelled() {
    Script script = byThread.get(Thread.currentThread());
    return script == null ? () -> false : () -> script.cancelled;
  }
}
