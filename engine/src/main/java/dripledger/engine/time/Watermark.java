package dripledger.engine.time;

/**
 * The watermark of a pushed stream: the highest event time seen less the lateness. Times are
 * microseconds since 1970 in UTC. Written by the epoch loop only.
 */
public final class Watermark {
  /** No event has been seen. */
  public static final long NONE = Long.MIN_VALUE;

  private final long latenessMicros;
  private long highest = NONE;
  private long late;

  public Watermark(long latenessMicros) {
    this.latenessMicros = latenessMicros;
  }

  /** Takes in the time of an event. */
  public void observe(long eventMicros) {
    if (highest != NONE && eventMicros < highest - latenessMicros) {
      late++;
    }
    if (eventMicros > highest) {
      highest = eventMicros;
    }
  }

  /** The watermark, or {@link #NONE}. */
  public long micros() {
    return highest == NONE ? NONE : highest - latenessMicros;
  }

  /** How many events came from behind the watermark. */
  public long late() {
    return late;
  }
}
