package dripledger.engine.circuit;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.util.function.BooleanSupplier;
import java.util.function.LongSupplier;

/**
 * What a query that is asked once may take of the service: time and heap. Operators say when they
 * have done a step; the query ends with an error when it has had its share, or its thread is
 * interrupted. One thread.
 */
public final class Work {
  /** Of views, which end when they are dropped. */
  static final Work UNBOUNDED = new Work(Long.MAX_VALUE, Long.MAX_VALUE, () -> false, () -> 0);

  private static final int STEPS = 256; // between looks at the clock
  private static final int LOOKS = 16; // between looks at the heap held

  private final long millis;
  private final long bytes;
  private final BooleanSupplier cancelled;
  private final LongSupplier waited;
  private final long began = System.nanoTime();
  private LongSupplier held = () -> 0;
  private int steps;
  private int looks;

  /**
   * @param millis how long it may take; 0 for any time
   * @param bytes of heap it may hold
   * @param cancelled whether nobody wants its answer any more
   * @param waited how long it waited for those who take its answer, in nanoseconds: that is not
   *     counted
   */
  public Work(long millis, long bytes, BooleanSupplier cancelled, LongSupplier waited) {
    this.cancelled = cancelled;
    this.waited = waited;
    this.millis = millis == 0 ? Long.MAX_VALUE : millis;
    this.bytes = bytes;
  }

  /** Says who knows what it holds, in bytes. */
  void holds(LongSupplier bytesHeld) {
    held = bytesHeld;
  }

  /**
   * Says that something was done: a row, or a few hundred of them.
   *
   * @throws EngineException (LIMIT, CANCELLED) if that was enough
   */
  public void step() {
    if (++steps >= STEPS) {
      steps = 0;
      look();
    }
  }

  private void look() {
    if (this == UNBOUNDED) {
      return;
    }
    if (cancelled.getAsBoolean() || Thread.currentThread().isInterrupted()) {
      throw new EngineException(Code.CANCELLED, "the query was cancelled");
    }
    if (millis != Long.MAX_VALUE
        && (System.nanoTime() - began - waited.getAsLong()) / 1_000_000 >= millis) {
      throw new EngineException(
          Code.CANCELLED,
          "the query was ended after " + (millis < 2000 ? millis + " ms" : millis / 1000 + " s"),
          "ask for less with WHERE, keep it as a materialized view, or set drip.query-millis");
    }
    if (++looks >= LOOKS) {
      looks = 0;
      if (held.getAsLong() > bytes) {
        throw new EngineException(
            Code.LIMIT,
            "the query needed more than " + (bytes >> 20) + " MB",
            "ask for less with WHERE, keep it as a materialized view, or set drip.max-query-bytes");
      }
    }
  }
}
