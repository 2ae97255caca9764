package dripledger.engine.upkeep;

import dripledger.engine.time.Arrival;
import java.time.Instant;
import java.time.LocalDateTime;
import java.time.ZoneOffset;
import java.time.temporal.ChronoUnit;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.function.LongUnaryOperator;

/**
 * How long it took from an arrival, and from an event's own time, until it was shown: of each view
 * and each minute. The epoch loop adds, somebody else takes. Thread-safe.
 */
public final class Freshness {
  private static final int SECONDS = 60;
  private final LongUnaryOperator wanted;
  private Map<Long, Sums> now = new HashMap<>(); // by view
  private final List<UpkeepHistory.Minute> past = new ArrayList<>();
  private LocalDateTime minute;

  private static final class Sums {
    long shown;
    long inTime;
    long arrival;
    long worstArrival;
    long events;
    long event;
    long worstEvent = -1;
  }

  /**
   * @param wanted how old what a view shows may get, in microseconds; 0 if nothing is wanted
   */
  public Freshness(LongUnaryOperator wanted) {
    this.wanted = wanted;
  }

  /** Something is shown now that came then. */
  public synchronized void shown(long view, Arrival came) {
    Instant instant = Instant.now();
    turn(instant);
    long micros = ChronoUnit.MICROS.between(Instant.EPOCH, instant);
    Sums sums = now.computeIfAbsent(view, id -> new Sums());
    long took = Math.max(0, micros - came.oldestMicros());
    long bound = wanted.applyAsLong(view);
    sums.shown++;
    sums.inTime += bound == 0 || took <= bound ? 1 : 0;
    sums.arrival += took;
    sums.worstArrival = Math.max(sums.worstArrival, took);
    if (came.newestEventMicros() != Arrival.NONE) {
      long age = Math.max(0, micros - came.newestEventMicros());
      sums.events++;
      sums.event += age;
      sums.worstEvent = Math.max(sums.worstEvent, age);
    }
  }

  private void turn(Instant instant) {
    LocalDateTime at =
        LocalDateTime.ofEpochSecond(
            Math.floorDiv(instant.getEpochSecond(), SECONDS) * SECONDS, 0, ZoneOffset.UTC);
    if (!at.equals(minute)) {
      past.addAll(current());
      now = new HashMap<>();
      minute = at;
    }
  }

  /** The minute that runs, as it stands. */
  public synchronized List<UpkeepHistory.Minute> current() {
    List<UpkeepHistory.Minute> all = new ArrayList<>();
    now.forEach(
        (view, s) ->
            all.add(
                new UpkeepHistory.Minute(
                    view,
                    minute,
                    s.shown,
                    s.inTime,
                    s.arrival,
                    s.worstArrival,
                    s.events,
                    s.event,
                    s.worstEvent)));
    return all;
  }

  /** The minutes that are over, which are forgotten here. */
  public synchronized List<UpkeepHistory.Minute> take() {
    turn(Instant.now());
    List<UpkeepHistory.Minute> taken = List.copyOf(past);
    past.clear();
    return taken;
  }
}
