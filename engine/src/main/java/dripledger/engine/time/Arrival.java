package dripledger.engine.time;

import java.time.Instant;
import java.time.temporal.ChronoUnit;

/**
 * When what an epoch shows came in, handed on from what is read to what reads it. The loop's
 * thread.
 */
public final class Arrival {
  /** Nothing has come in, or nobody knows when. */
  public static final long NONE = Long.MIN_VALUE;

  private long oldest = NONE;
  private long newestEvent = NONE;

  /** The time of day, in microseconds since 1970, for what comes in now. */
  public static long now() {
    return of(Instant.now());
  }

  /** A time in microseconds since 1970. */
  public static long of(Instant time) {
    return ChronoUnit.MICROS.between(Instant.EPOCH, time);
  }

  /** The other way round. */
  public static Instant at(long micros) {
    return Instant.EPOCH.plus(micros, ChronoUnit.MICROS);
  }

  /** Something came in. */
  public void add(long oldestMicros, long newestEventMicros) {
    if (oldestMicros != NONE) {
      oldest = oldest == NONE ? oldestMicros : Math.min(oldest, oldestMicros);
      newestEvent = Math.max(newestEvent, newestEventMicros);
    }
  }

  /** What came in with another. */
  public void add(Arrival other) {
    add(other.oldest, other.newestEvent);
  }

  /** Nothing has. */
  public void clear() {
    oldest = NONE;
    newestEvent = NONE;
  }

  /** When the oldest of it came, in microseconds since 1970, or {@link #NONE}. */
  public long oldestMicros() {
    return oldest;
  }

  /** The highest event time of its streams by then, or {@link #NONE}. */
  public long newestEventMicros() {
    return newestEvent;
  }
}
