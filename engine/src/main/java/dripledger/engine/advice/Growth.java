package dripledger.engine.advice;

/**
 * How something grows that was seen three times. If it has grown as fast in the second half of the
 * time as in the quarter before, but for chance, it goes on so; if more slowly, its growth dies
 * away as that of what is drawn again and again from so many different things does, exponentially.
 * Pure.
 *
 * @param quarter how much there was after a quarter of the time
 * @param half how much after half of it
 * @param full how much after all of it
 * @param spanMicros that time
 * @param horizonMicros after what time nothing is left of what came before; −1 if it stays
 */
record Growth(double quarter, double half, double full, long spanMicros, long horizonMicros) {
  private static final double CHANCE = 2; // standard deviations

  /** How much there is after a time. */
  double after(long micros) {
    long until = horizonMicros < 0 ? micros : Math.min(micros, horizonMicros);
    if (until >= spanMicros) {
      return full + more(until - spanMicros);
    }
    // If what is over goes, there is as much at the end as there ever will be.
    return horizonMicros >= 0 && micros >= spanMicros ? full : full * until / spanMicros;
  }

  /** How much there is in the end; negative if it grows without one. */
  double atLast() {
    return horizonMicros >= 0
        ? after(Math.max(horizonMicros, spanMicros))
        : isSteady() && second() > 0 ? -1 : full + more(Long.MAX_VALUE);
  }

  /** Growth in the quarter before the second half, a microsecond. */
  private double first() {
    return Math.max(0, half - quarter) / (spanMicros / 4.0);
  }

  private double second() {
    return Math.max(0, full - half) / (spanMicros / 2.0);
  }

  private boolean isSteady() {
    double chance =
        CHANCE * Math.sqrt(1 / Math.max(1, half - quarter) + 1 / Math.max(1, full - half));
    return second() >= first() * (1 - chance);
  }

  /** What comes in a time behind all that was seen. */
  private double more(long micros) {
    if (second() == 0) {
      return 0;
    }
    if (isSteady()) {
      return second() * micros;
    }
    double middles = spanMicros * 3 / 8.0; // between those of the two times
    double decay = Math.log(first() / second()) / middles;
    double now = second() * Math.exp(-decay * spanMicros / 4);
    return now / decay * (1 - Math.exp(-decay * micros));
  }
}
