package dripledger.engine.plan;

/**
 * What is known of a column that is a time the watermark speaks of.
 *
 * @param delayMicros rows whose time is at or before the watermark less this are no longer to come,
 *     but for those that come late
 * @param windowMicros the size of the windows that its rows came in time for, or 0: where its
 *     window begins has the same delay
 * @param offsetMicros where those windows begin
 * @param judged whether rows that came late have been left out
 */
public record EventTime(long delayMicros, long windowMicros, long offsetMicros, boolean judged) {
  /** The event time of a stream. */
  public static final EventTime OF_STREAM = new EventTime(0, 0, 0, false);

  /** Since when a row of a table has been as it is: it comes when it is so. */
  public static final EventTime OF_TABLE = new EventTime(0, 0, 0, true);

  EventTime later(long micros) {
    return new EventTime(delayMicros + micros, 0, 0, judged);
  }

  /** The time of a row that may change for longer. */
  EventTime atLeast(long delay) {
    return delay <= delayMicros ? this : new EventTime(delay, 0, 0, judged);
  }

  /** The beginning of the stride that it is in. */
  EventTime begin(long span, long origin) {
    boolean within = windowMicros % span == 0 && (offsetMicros - origin) % span == 0;
    return within && windowMicros > 0 ? later(0) : later(span);
  }

  /** The time of rows of this kind and of another. */
  EventTime with(EventTime other) {
    return new EventTime(Math.max(delayMicros, other.delayMicros), 0, 0, judged && other.judged);
  }

  /** The time of its rows that come in time for windows: for as long as one has not ended. */
  EventTime inWindows(TimeNode.TimeWindows w) {
    long size = w.tumbles() ? w.sizeMicros() : 0;
    long behind = Math.max(0, w.delayMicros() - Math.max(0, delayMicros)); // more than it has to be
    return new EventTime(delayMicros + behind + w.sizeMicros(), size, w.offsetMicros(), true);
  }
}
