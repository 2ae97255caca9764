package dripledger.engine.query;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.util.Comparator;
import java.util.List;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import java.util.function.BooleanSupplier;

/** The scripts that are being run, so that one can be cancelled by its id. Safe from any thread. */
public final class RunningScripts {
  private final Map<String, Script> byId = new ConcurrentHashMap<>();
  private final Map<Thread, Script> byThread = new ConcurrentHashMap<>();

  /** One that runs on the thread that began it, until it is closed there. */
  public final class Script implements AutoCloseable {
    private final String id;
    private final String text;
    private final long began = System.nanoTime();
    private volatile boolean cancelled;

    private Script(String id, String text) {
      this.id = id;
      this.text = text;
    }

    /** By which it can be cancelled, or null. */
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
     * @throws EngineException (LIMIT) if it was
     */
    public void goOn() {
      if (cancelled) {
        throw new EngineException(Code.LIMIT, "the script was cancelled");
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
    Script script = new Script(id, text);
    byThread.put(Thread.currentThread(), script);
    if (id != null) {
      byId.put(id, script);
    }
    return script;
  }

  /**
   * Ends a script: its query at the next row, else before its next statement. What it has changed
   * stays changed.
   *
   * @return whether it was being run
   */
  public boolean cancel(String id) {
    Script script = byId.get(id);
    if (script == null) {
      return false;
    }
    script.cancelled = true;
    return true;
  }

  /** Those that are being run, the longest first. */
  public List<Script> all() {
    return byThread.values().stream()
        .sorted(Comparator.comparingLong(Script::millis).reversed())
        .toList();
  }

  /** Whether the script of this thread was cancelled; for this thread. */
  BooleanSupplier cancelled() {
    Script script = byThread.get(Thread.currentThread());
    return script == null ? () -> false : () -> script.cancelled;
  }
}
